package chunk

import (
	"bytes"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"
	"testing/quick"
)

func noise(seed uint64, n int) []byte {
	b := make([]byte, n)
	src := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)})
	_, _ = src.Read(b)
	return b
}

func manifest(t *testing.T, r io.Reader) *Manifest {
	t.Helper()
	m, err := NewCutter(r).Manifest(r, nil)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestSameBytesSameCutsHoweverTheyArrive(t *testing.T) {
	data := noise(1, 5<<20)
	want := manifest(t, bytes.NewReader(data))
	for name, r := range map[string]io.Reader{
		"half":    iotest.HalfReader(bytes.NewReader(data)),
		"dataErr": iotest.DataErrReader(bytes.NewReader(data)),
		"odd":     &oddReader{data: data},
	} {
		got := manifest(t, r)
		if got.Digest != want.Digest || len(got.Chunks) != len(want.Chunks) {
			t.Fatalf("%s: %d chunks, digest %s; want %d, %s", name, len(got.Chunks), got.Digest, len(want.Chunks), want.Digest)
		}
		for i := range got.Chunks {
			if got.Chunks[i] != want.Chunks[i] {
				t.Fatalf("%s: chunk %d differs", name, i)
			}
		}
	}
}

type oddReader struct{ data []byte }

func (o *oddReader) Read(p []byte) (int, error) {
	if len(o.data) == 0 {
		return 0, io.EOF
	}
	n := copy(p, o.data[:min(len(o.data), 1+len(o.data)%7919)])
	o.data = o.data[n:]
	return n, nil
}

func TestChunksAreWithinBoundsAndMakeUpTheContent(t *testing.T) {
	check := func(seed uint16, size uint32) bool {
		data := noise(uint64(seed), int(size%(3<<20)))
		var whole []byte
		c := NewCutter(nil)
		var sizes []int
		m, err := c.Manifest(bytes.NewReader(data), func(ref Ref, b []byte) error {
			if Sum(b) != ref.Digest {
				t.Error("a chunk's digest is not its own")
			}
			whole = append(whole, b...)
			sizes = append(sizes, len(b))
			return nil
		})
		if err != nil || !bytes.Equal(whole, data) || m.Check() != nil || m.Digest != Sum(data) {
			return false
		}
		for i, n := range sizes {
			if n > Max || n < Min && i != len(sizes)-1 {
				return false
			}
		}
		return true
	}
	if err := quick.Check(check, &quick.Config{MaxCount: 30}); err != nil {
		t.Error(err)
	}
}

func TestAnInsertionChangesOnlyTheChunksAroundIt(t *testing.T) {
	data := noise(3, 16<<20)
	before := map[Digest]bool{}
	for _, ref := range manifest(t, bytes.NewReader(data)).Chunks {
		before[ref.Digest] = true
	}
	edited := append(append(append([]byte{}, data[:8<<20]...), []byte("a few bytes more")...), data[8<<20:]...)
	fresh := 0
	for _, ref := range manifest(t, bytes.NewReader(edited)).Chunks {
		if !before[ref.Digest] {
			fresh++
		}
	}
	if fresh == 0 || fresh > 4 {
		t.Errorf("%d chunks are new after a small insertion", fresh)
	}
}

func TestAverageIsNearWhatIsMeant(t *testing.T) {
	n := len(manifest(t, bytes.NewReader(noise(4, 64<<20))).Chunks)
	if average := (64 << 20) / n; average < Average*3/4 || average > Average*3/2 {
		t.Errorf("the average chunk has %d bytes, and about %d are meant", average, Average)
	}
}

// The vectors stand in docs/formats.md too.
func TestVectors(t *testing.T) {
	counting := make([]byte, 2<<20)
	for i := range counting {
		counting[i] = byte(i*i>>8 ^ i)
	}
	for _, v := range vectors {
		data := counting
		if v.zeros {
			data = make([]byte, 2<<20)
		}
		m := manifest(t, bytes.NewReader(data))
		if m.Digest.String() != v.digest {
			t.Errorf("digest %s, want %s", m.Digest, v.digest)
		}
		for i, ref := range m.Chunks {
			if i >= len(v.sizes) || ref.Size != v.sizes[i] {
				t.Errorf("zeros=%v: chunk %d has %d bytes, want %v", v.zeros, i, ref.Size, v.sizes)
				break
			}
		}
	}
}

func TestManifestCheck(t *testing.T) {
	for name, m := range map[string]*Manifest{
		"sum":   {Size: 5, Chunks: []Ref{{Size: 4}}},
		"zero":  {Size: 0, Chunks: []Ref{{Size: 0}}},
		"large": {Size: Max + 1, Chunks: []Ref{{Size: Max + 1}}},
	} {
		if m.Check() == nil {
			t.Errorf("%s: a manifest that can't be is taken for well-formed", name)
		}
	}
}

func TestParseDigest(t *testing.T) {
	d := Sum([]byte("brine"))
	if got, err := ParseDigest(d.String()); err != nil || got != d {
		t.Errorf("a digest does not survive being written and read: %v", err)
	}
	for _, bad := range []string{"", "xyz", d.String()[:63], d.String()[:63] + "g"} {
		if _, err := ParseDigest(bad); err == nil {
			t.Errorf("ParseDigest(%q) is taken", bad)
		}
	}
}
