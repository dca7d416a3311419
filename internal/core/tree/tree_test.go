package tree

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"kettletarn/internal/core/chunk"
)

// shelf is where the nodes of a test lie.
type shelf struct {
	data  map[chunk.Digest][]byte
	loads int
}

func newShelf() *shelf { return &shelf{data: map[chunk.Digest][]byte{}} }

func (s *shelf) load(_ context.Context, digests []chunk.Digest) ([]*Node, error) {
	out := make([]*Node, len(digests))
	for i, d := range digests {
		s.loads++
		data, ok := s.data[d]
		if !ok {
			return nil, fmt.Errorf("no node %s", d)
		}
		n, err := Decode(data)
		if err != nil {
			return nil, err
		}
		out[i] = n
	}
	return out, nil
}

func (s *shelf) apply(t testing.TB, root chunk.Digest, changes ...Change) chunk.Digest {
	t.Helper()
	f := NewForest(s.load)
	root, err := f.Apply(t.Context(), root, changes)
	if err != nil {
		t.Fatal(err)
	}
	for d, data := range f.Fresh {
		if chunk.Sum(data) != d {
			t.Fatal("a node is not named by its digest")
		}
		s.data[d] = data
	}
	return root
}

func put(key string, version int) Change {
	return Change{Key: key, Entry: &Entry{Key: key, Asset: int64(len(key)), Version: version,
		Content: chunk.Sum([]byte(fmt.Sprint(key, version))), Size: int64(version)}}
}

func gone(key string) Change { return Change{Key: key} }

// entries is the content of a tree, as a plain map.
type entries map[string]Entry

func (s *shelf) all(t testing.TB, root chunk.Digest) entries {
	t.Helper()
	out, last := entries{}, ""
	if err := NewForest(s.load).Range(t.Context(), root, "", "", func(e *Entry) bool {
		if e.Key <= last {
			t.Fatalf("%q comes behind %q", e.Key, last)
		}
		last = e.Key
		out[e.Key] = *e
		return true
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

func same(a, b entries) bool {
	if len(a) != len(b) {
		return false
	}
	for k, e := range a {
		if b[k] != e {
			return false
		}
	}
	return true
}

func someKey(r *rand.Rand) string {
	if r.IntN(50) == 0 {
		return strings.Repeat("long/", 1+r.IntN(300)) + fmt.Sprint(r.IntN(400))
	}
	return fmt.Sprintf("d%d/e%d/f%d.png", r.IntN(4), r.IntN(12), r.IntN(60))
}

func TestTheSameEntriesHaveTheSameRootHoweverTheyCameAbout(t *testing.T) {
	for seed := range uint64(6) {
		r, s := rand.New(rand.NewPCG(seed, 1)), newShelf()
		model, root := entries{}, Empty()
		for round := range 60 {
			byKey := map[string]Change{}
			for range 1 + r.IntN(120) {
				key := someKey(r)
				byKey[key] = put(key, round+1)
				if r.IntN(3) == 0 || seed == 5 && round > 40 {
					byKey[key] = gone(key)
				}
			}
			if seed == 5 && round == 59 { // and back to nothing
				for key := range model {
					byKey[key] = gone(key)
				}
			}
			var changes []Change
			for key, c := range byKey {
				changes = append(changes, c)
				delete(model, key)
				if c.Entry != nil {
					model[key] = *c.Entry
				}
			}
			root = s.apply(t, root, changes...)
			if round%10 != 9 {
				continue
			}
			if got := s.all(t, root); !same(got, model) {
				t.Fatalf("seed %d, round %d: the tree has %d entries, and %d are meant", seed, round, len(got), len(model))
			}
			// The same entries at once, and one after the other in another order.
			var once []Change
			for key, e := range model {
				once = append(once, Change{Key: key, Entry: &e})
			}
			if again := s.apply(t, Empty(), once...); again != root {
				t.Fatalf("seed %d, round %d: built at once, the root is another", seed, round)
			}
			if round == 29 {
				slowly := Empty()
				for _, c := range once {
					slowly = s.apply(t, slowly, c)
				}
				if slowly != root {
					t.Fatalf("seed %d: built one by one, the root is another", seed)
				}
			}
		}
		if seed == 5 && root != Empty() {
			t.Error("a tree from which all was taken is not the empty one")
		}
	}
}

func TestDifferencesAreExactSymmetricalAndLeadFromOneToTheOther(t *testing.T) {
	r, s := rand.New(rand.NewPCG(7, 7)), newShelf()
	var roots []chunk.Digest
	root := Empty()
	for round := range 12 {
		roots = append(roots, root)
		byKey := map[string]Change{}
		for range 1 + r.IntN(1+round*round*20) {
			key := someKey(r)
			if byKey[key] = put(key, round+1); r.IntN(4) == 0 {
				byKey[key] = gone(key)
			}
		}
		var changes []Change
		for _, c := range byKey {
			changes = append(changes, c)
		}
		root = s.apply(t, root, changes...)
	}
	for _, a := range roots {
		for _, b := range roots {
			x, y := s.all(t, a), s.all(t, b)
			want := 0
			for k := range x {
				if _, both := y[k]; !both {
					want++
				}
			}
			for k, e := range y {
				if x[k] != e {
					want++
				}
			}
			var changes []Change
			last := ""
			if err := NewForest(s.load).Diff(t.Context(), a, b, "", func(d Difference) bool {
				if d.Key <= last {
					t.Fatalf("%q comes behind %q", d.Key, last)
				}
				last = d.Key
				from, had := x[d.Key]
				to, has := y[d.Key]
				if had != (d.From != nil) || has != (d.To != nil) || had && *d.From != from || has && *d.To != to || had && has && from == to {
					t.Errorf("%q is said to differ, and does not so", d.Key)
				}
				changes = append(changes, Change{Key: d.Key, Entry: d.To})
				return true
			}); err != nil {
				t.Fatal(err)
			}
			if len(changes) != want {
				t.Errorf("%d differences, and there are %d", len(changes), want)
			}
			if s.apply(t, a, changes...) != b {
				t.Error("the differences do not lead from one to the other")
			}
			// In pages, it is the same.
			paged, after := 0, ""
			for more := true; more; {
				more = false
				n := 0
				if err := NewForest(s.load).Diff(t.Context(), b, a, after, func(d Difference) bool {
					if n == 97 {
						more = true
						return false
					}
					n, after = n+1, d.Key
					return true
				}); err != nil {
					t.Fatal(err)
				}
				paged += n
			}
			if paged != want {
				t.Errorf("in pages and the other way round, there are %d differences", paged)
			}
		}
	}
}

func large(t testing.TB, s *shelf, n int) (chunk.Digest, []Change) {
	changes := make([]Change, n)
	for i := range changes {
		changes[i] = put(fmt.Sprintf("d%03d/f%06d.bin", i%97, i), 1)
	}
	return s.apply(t, Empty(), changes...), changes
}

func TestAChangeTouchesAHandfulOfNodes(t *testing.T) {
	s := newShelf()
	root, _ := large(t, s, 100_000)
	before := len(s.data)
	next := s.apply(t, root, put("d050/f000050.bin", 2))
	if fresh := len(s.data) - before; fresh > 5 {
		t.Errorf("one change makes %d nodes", fresh)
	}
	s.loads = 0
	n := 0
	if err := NewForest(s.load).Diff(t.Context(), root, next, "", func(Difference) bool { n++; return true }); err != nil || n != 1 ||
		s.loads > 12 {
		t.Errorf("comparing finds %d differences in %d nodes, %v", n, s.loads, err)
	}
	s.loads, n = 0, 0
	if err := NewForest(s.load).NewNodes(t.Context(), root, next, func(d chunk.Digest, _ *Node) error {
		n++
		return nil
	}); err != nil || n > 5 || s.loads > 14 {
		t.Errorf("%d nodes are new, found by looking into %d, %v", n, s.loads, err)
	}
	s.loads = 0
	if got, err := NewForest(s.load).Get(t.Context(), next, []string{"d050/f000050.bin", "none"}); err != nil || len(got) != 1 ||
		got["d050/f000050.bin"].Version != 2 || s.loads > 8 {
		t.Errorf("looking up gives %v in %d nodes, %v", got, s.loads, err)
	}
}

func TestASumIsWhatItIsOfAllEntriesAndLooksOnlyAtWhatIsNew(t *testing.T) {
	s := newShelf()
	root, _ := large(t, s, 20_000)
	known := map[chunk.Digest]int64{}
	leaves := 0
	summing := Summing[int64]{
		Leaf: func(list []Entry) (n int64) {
			leaves++
			for _, e := range list {
				n += e.Size
			}
			return n
		},
		Join: func(parts []int64) (n int64) {
			for _, p := range parts {
				n += p
			}
			return n
		},
		Known: func(d chunk.Digest) (int64, bool) { n, ok := known[d]; return n, ok },
		Keep:  func(d chunk.Digest, n int64) { known[d] = n },
	}
	check := func(root chunk.Digest) {
		t.Helper()
		got, err := summing.Of(t.Context(), NewForest(s.load), root)
		if err != nil {
			t.Fatal(err)
		}
		want := int64(0)
		for _, e := range s.all(t, root) {
			want += e.Size
		}
		if got != want {
			t.Fatalf("the sum is %d, and the entries have %d", got, want)
		}
	}
	check(Empty())
	check(root)
	all := leaves
	check(root)
	if leaves != all {
		t.Fatalf("the same tree again looked into %d leaves", leaves-all)
	}
	for i := range 20 {
		root = s.apply(t, root, put(fmt.Sprintf("more/e%d.png", i), 1000+i))
		before := leaves
		check(root)
		if n := leaves - before; n < 1 || n > all/4 {
			t.Fatalf("one more entry made it look into %d of %d leaves", n, all)
		}
	}
	summing.Known, summing.Keep = nil, nil
	check(root)
}

func TestFolders(t *testing.T) {
	s := newShelf()
	root, _ := large(t, s, 20_000)
	root = s.apply(t, root, put("a.txt", 5), put("d001.x", 6),
		Change{Key: "d0010", Entry: &Entry{Key: "d0010", Path: "D0010", Version: 1, Size: 1}},
		Change{Key: "rust/iron/a.png", Entry: &Entry{Key: "rust/iron/a.png", Path: "Rust/Iron/a.png", Version: 1, Size: 40}}, put("zuletzt/x", 3))
	list := func(folder string, limit int) (names []string, total int64) {
		after := ""
		for {
			lines, next, err := NewForest(s.load).Folder(t.Context(), root, folder, after, limit)
			if err != nil || len(lines) > limit {
				t.Fatal(len(lines), err)
			}
			for _, l := range lines {
				name := l.Folder + "/"
				if l.Entry != nil {
					name = l.Entry.Spelling()
				}
				names, total = append(names, name), total+l.Count
			}
			if after = next; next == "" {
				return names, total
			}
		}
	}
	all, total := list("", 1000)
	if total != 20_005 || len(all) != 97+5 || !slices.Contains(all, "Rust/") || !slices.Contains(all, "D0010") ||
		!slices.Contains(all, "d001/") {
		t.Errorf("the root lists %d lines with %d assets: %v", len(all), total, all)
	}
	for _, limit := range []int{1, 7, 97} {
		if paged, _ := list("", limit); !slices.Equal(paged, all) {
			t.Errorf("in pages of %d, the root lists %v", limit, paged)
		}
	}
	if got, _ := list("rust/", 10); !slices.Equal(got, []string{"Iron/"}) {
		t.Errorf("a folder lists %v", got)
	}
	if got, n := list("d005/", 50); len(got) != 207 || n != 207 {
		t.Errorf("a folder of 207 assets lists %d, %d", len(got), n)
	}
	count, size, err := NewForest(s.load).Sum(t.Context(), root, "", "")
	if err != nil || count != 20_005 || size != 20_000+5+6+1+40+3 {
		t.Errorf("all of it is %d entries, %d bytes, %v", count, size, err)
	}
}

// TestLongKeysEndNodes: a node ends by the weight of its keys and spellings, too, and where it ends follows from them alone.
func TestLongKeysEndNodes(t *testing.T) {
	s := newShelf()
	var changes []Change
	for i := range 1200 {
		key := fmt.Sprintf("%s/%04d", strings.Repeat("long/", 180), i)
		e := &Entry{Key: key, Asset: int64(i + 1), Version: 1, Content: chunk.Sum([]byte(key)), Size: 1}
		if i%3 == 0 {
			e.Path = strings.ToUpper(key)
		}
		changes = append(changes, Change{Key: key, Entry: e})
	}
	root := s.apply(t, Empty(), changes...)
	byWeight := 0
	for _, data := range s.data {
		n, err := Decode(data)
		if err != nil {
			t.Fatal(err)
		}
		weight := 0
		for i, e := range n.Entries {
			if weight += e.weight(); i < len(n.Entries)-1 && weight >= maxWeight {
				t.Fatalf("a node goes on behind %d bytes of keys", weight)
			}
		}
		if weight >= maxWeight && len(n.Entries) < MaxItems {
			byWeight++
		}
		if len(data) > MaxNode {
			t.Errorf("a node of %d bytes", len(data))
		}
	}
	if byWeight < 5 {
		t.Errorf("%d nodes ended by weight", byWeight)
	}
	if got := root.String(); got != longVector {
		t.Errorf("the root is %s, want %s", got, longVector)
	}
	// However they came.
	other := newShelf()
	r := Empty()
	rng := rand.New(rand.NewPCG(1, 2))
	rng.Shuffle(len(changes), func(i, j int) { changes[i], changes[j] = changes[j], changes[i] })
	for len(changes) > 0 {
		n := min(len(changes), 1+rng.IntN(200))
		r = other.apply(t, r, changes[:n]...)
		changes = changes[n:]
	}
	if r != root {
		t.Error("the shape follows from the order")
	}
}

func TestABadChangeIsRefused(t *testing.T) {
	f := NewForest(newShelf().load)
	for name, changes := range map[string][]Change{
		"empty": {put("", 1)}, "twice": {put("a", 1), gone("a")}, "long": {put(strings.Repeat("x", MaxKey+1), 1)},
		"other": {{Key: "a", Entry: &Entry{Key: "b"}}},
	} {
		if _, err := f.Apply(t.Context(), Empty(), changes); err == nil {
			t.Errorf("%s: taken", name)
		}
	}
}

// The vector stands in docs/formats.md too.
func TestVector(t *testing.T) {
	s := newShelf()
	var changes []Change
	for i := range 1000 {
		key := fmt.Sprintf("levels/%04d.glb", i)
		changes = append(changes, Change{Key: key, Entry: &Entry{Key: key, Asset: int64(i + 1), Version: 1, Content: chunk.Sum([]byte(key)),
			Size: int64(i)}})
	}
	if got := s.apply(t, Empty(), changes...).String(); got != vector {
		t.Errorf("the root is %s, want %s", got, vector)
	}
	if got := Empty().String(); got != emptyVector {
		t.Errorf("the empty root is %s, want %s", got, emptyVector)
	}
}

func FuzzDecode(f *testing.F) {
	s := newShelf()
	root, _ := large(f, s, 500)
	f.Add(s.data[root])
	for _, data := range s.data {
		f.Add(data)
		break
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		n, err := Decode(data)
		if err != nil {
			if !errors.Is(err, ErrInvalid) {
				t.Errorf("the error does not say that the node is invalid: %v", err)
			}
			return
		}
		if again, digest := n.Encode(); chunk.Sum(again) != digest || len(again) > 2*MaxNode {
			t.Error("a node that was read can't be written")
		}
	})
}
