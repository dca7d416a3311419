package projectfile

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"kettletarn/internal/core/archive"
	"kettletarn/internal/core/model"
)

// partial is an archive as it is while it is written, and where each of its entries ends.
func partial(t testing.TB, project string) (data []byte, ends []int) {
	t.Helper()
	var b bytes.Buffer
	a := &writing{tar: tar.NewWriter(&b), sums: map[string]string{}, handed: map[int]bool{}, flush: func() error { return nil }}
	end := func(err error) {
		t.Helper()
		if err = errors.Join(err, a.tar.Flush()); err != nil {
			t.Fatal(err)
		}
		ends = append(ends, b.Len())
	}
	end(a.json(archive.AboutEntry, archive.About{Format: archive.Format, Project: project}))
	for n, text := range []string{"rust", strings.Repeat("fog ", 400), "x"} {
		end(a.entry(archive.ContentsDir+strings.Repeat("ab", 90)+text[:1], int64(len(text)), func(w io.Writer) error {
			_, err := w.Write([]byte(text))
			return err
		}))
		end(a.handoff(model.Handoff{Number: n + 1}, []archive.Change{{Path: "a.png"}}))
	}
	return b.Bytes(), ends
}

func resumed(t testing.TB, data []byte, project string) (*writing, int64, error) {
	t.Helper()
	name := filepath.Join(t.TempDir(), "x.part")
	if err := os.WriteFile(name, data, 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	a := &writing{sums: map[string]string{}, handed: map[int]bool{}}
	end, err := a.resume(f, project)
	return a, end, err
}

// An archive that is cut off anywhere goes on behind its last whole entry.
func TestAnArchiveGoesOnWhereItsLastWholeEntryEnds(t *testing.T) {
	data, ends := partial(t, "brinelight")
	for cut := 0; cut <= len(data); cut += 97 {
		a, end, err := resumed(t, data[:cut], "brinelight")
		if err != nil {
			t.Fatal(err)
		}
		want, n := 0, 0
		for _, e := range ends {
			// The padding of an entry's last block says nothing: it is written again.
			if e <= cut || e-cut < blockSize && bytes.Count(data[cut:e], []byte{0}) == e-cut {
				want, n = e, n+1
			}
		}
		if end != int64(want) || len(a.sums) != n {
			t.Errorf("cut at %d: it goes on at %d with %d entries, want %d with %d", cut, end, len(a.sums), want, n)
		}
	}
	_, _, err := resumed(t, data, "lantern")
	if err == nil || !strings.Contains(err.Error(), "is of something else") {
		t.Errorf("another project goes on in it: %v", err)
	}
}

func FuzzResume(f *testing.F) {
	data, ends := partial(f, "brinelight")
	f.Add(data)
	f.Add(data[:ends[1]+700])
	f.Add([]byte("not a tar"))
	f.Fuzz(func(t *testing.T, data []byte) {
		_, end, err := resumed(t, data, "brinelight")
		if err == nil && (end < 0 || end%blockSize != 0 || end > int64(len(data)+blockSize)) {
			t.Errorf("it goes on at %d of %d bytes", end, len(data))
		}
	})
}

// Names of branches and tags are such as git takes.
func FuzzReference(f *testing.F) {
	for _, name := range []string{"main", "second chapter", "a..b", "@", ".x.lock", "/a//b/", "x@{1}", "a/.b", "-", "", "\x7f", "a.lock/b",
		"caf\u00e9.lock."} {
		f.Add(name)
	}
	f.Fuzz(func(t *testing.T, name string) {
		got := reference(strings.ToValidUTF8(name, ""))
		if out, err := exec.Command("git", "check-ref-format", "refs/tags/"+got).CombinedOutput(); err != nil {
			t.Errorf("%q becomes %q: %v %s", name, got, err, out)
		}
	})
}
