package manifest

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"kettletarn/internal/core/chunk"
)

// content is n made-up chunks.
func content(seed uint64, n int) []chunk.Ref {
	r := rand.New(rand.NewPCG(seed, 3))
	refs := make([]chunk.Ref, n)
	for i := range refs {
		refs[i] = chunk.Ref{Digest: chunk.Sum([]byte(fmt.Sprint(seed, i))), Size: 1 + r.IntN(chunk.Max)}
	}
	return refs
}

type shelf map[chunk.Digest][]byte

func (s shelf) add(blocks []Block) chunk.Digest {
	for _, b := range blocks {
		s[b.Digest] = b.Data
	}
	return blocks[len(blocks)-1].Digest
}

func (s shelf) load(_ context.Context, digests []chunk.Digest) ([][]byte, error) {
	out := make([][]byte, len(digests))
	for i, d := range digests {
		if out[i] = s[d]; out[i] == nil {
			return nil, fmt.Errorf("no node %s", d)
		}
	}
	return out, nil
}

func (s shelf) refs(t *testing.T, root chunk.Digest, from int64) (refs []chunk.Ref, first int64) {
	t.Helper()
	first = -1
	at := int64(-1)
	if err := Walk(t.Context(), s.load, root, from, nil, func(start int64, ref chunk.Ref) error {
		if first < 0 {
			first, at = start, start
		}
		if start != at {
			t.Fatalf("a chunk starts at %d, and the one before ends at %d", start, at)
		}
		at += int64(ref.Size)
		refs = append(refs, ref)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return refs, first
}

func TestAManifestGivesBackItsChunks(t *testing.T) {
	for _, n := range []int{0, 1, 2, 255, 300, 5000, 200_000} {
		s, want := shelf{}, content(uint64(n), n)
		root := s.add(Build(want))
		if root != Root(want) {
			t.Fatal("the root is not the last node")
		}
		if got, _ := s.refs(t, root, 0); !slices.Equal(got, want) {
			t.Fatalf("%d chunks do not come back", n)
		}
		total := int64(0)
		starts := make([]int64, n)
		for i, ref := range want {
			starts[i] = total
			total += int64(ref.Size)
		}
		for _, i := range []int{0, n / 3, n - 1} {
			if i < 0 || i >= n {
				continue
			}
			for _, from := range []int64{starts[i], starts[i] + int64(want[i].Size) - 1} {
				if got, first := s.refs(t, root, from); first != starts[i] || !slices.Equal(got, want[i:]) {
					t.Errorf("of %d chunks, from byte %d on, the first is at %d", n, from, first)
				}
			}
		}
		if got, _ := s.refs(t, root, total); len(got) != 0 {
			t.Errorf("behind its end, a content of %d chunks has %d", n, len(got))
		}
	}
}

func TestAChangeMakesFewNodes(t *testing.T) {
	s, refs := shelf{}, content(1, 80_000) // 20 GiB and more
	s.add(Build(refs))
	for name, edited := range map[string][]chunk.Ref{
		"changed":  slices.Concat(refs[:30_000], content(2, 4), refs[30_004:]),
		"inserted": slices.Concat(refs[:30_000], content(3, 4), refs[30_000:]),
		"cut out":  slices.Concat(refs[:30_000], refs[30_007:]),
	} {
		fresh, size := 0, 0
		for _, b := range Build(edited) {
			if s[b.Digest] == nil {
				fresh, size = fresh+1, size+len(b.Data)
			}
		}
		if fresh > 8 || size > 200_000 {
			t.Errorf("%s: %d nodes of %d bytes in all are new", name, fresh, size)
		}
	}
}

func TestALieIsFound(t *testing.T) {
	s, refs := shelf{}, content(1, 2000)
	nodes := Build(refs)
	root, err := Decode(nodes[len(nodes)-1].Data)
	if err != nil {
		t.Fatal(err)
	}
	s.add(nodes)
	for name, lie := range map[string]func(*Node){
		"size":   func(n *Node) { n.Items[0].Size++ },
		"level":  func(n *Node) { n.Level++ },
		"format": func(n *Node) { n.Format++ },
	} {
		n := *root
		n.Items = slices.Clone(root.Items)
		lie(&n)
		if err := Walk(t.Context(), s.load, s.add([]Block{Encode(&n)}), 0, nil, func(int64, chunk.Ref) error { return nil }); !errors.Is(err,
			ErrInvalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// The vectors stand in docs/formats.md too.
func TestVectors(t *testing.T) {
	for n, want := range vectors {
		refs := make([]chunk.Ref, n)
		for i := range refs {
			refs[i] = chunk.Ref{Digest: chunk.Sum([]byte(fmt.Sprint("chunk ", i))), Size: 65536 + i}
		}
		if got := Root(refs).String(); got != want {
			t.Errorf("the root over %d chunks is %s, want %s", n, got, want)
		}
	}
}

func FuzzDecode(f *testing.F) {
	for _, n := range []int{0, 1, 3000} {
		for _, b := range Build(content(1, n)) {
			f.Add(b.Data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		n, err := Decode(data)
		if err != nil {
			if !errors.Is(err, ErrInvalid) {
				t.Errorf("the error does not say that the node is invalid: %v", err)
			}
			return
		}
		if b := Encode(n); chunk.Sum(b.Data) != b.Digest || n.Size() < 0 {
			t.Error("a node that was read can't be written")
		}
	})
}
