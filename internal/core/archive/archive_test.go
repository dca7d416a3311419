package archive

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"testing"
)

// taken writes down what it is given.
type taken struct{ said []string }

func (k *taken) About(_ context.Context, a About) error {
	k.said = append(k.said, "about "+a.Project)
	return nil
}

func (k *taken) Content(_ context.Context, name string, size int64, r io.Reader) error {
	text, err := io.ReadAll(r)
	k.said = append(k.said, fmt.Sprintf("content %s %d %s", name, size, text))
	return err
}

func (k *taken) Handoff(_ context.Context, h Handed) error {
	k.said = append(k.said, fmt.Sprintf("handoff %d %d", h.Number, len(h.Changes)))
	return nil
}

func (k *taken) Record(_ context.Context, name string, text []byte) error {
	k.said = append(k.said, fmt.Sprintf("record %s %s", name, text))
	return nil
}

// made is a file of entries, each a name and a text, with a last one that fits, unless the entries have one.
func made(t testing.TB, entries ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	last := Last{SHA256: map[string]string{}}
	add := func(name, text string) {
		if err := w.WriteHeader(&tar.Header{Name: name, Size: int64(len(text)), Mode: 0o644, Typeflag: tar.TypeReg}); err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, text); err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256([]byte(text))
		last.SHA256[name] = hex.EncodeToString(sum[:])
	}
	ended := false
	for i := 0; i < len(entries); i += 2 {
		add(entries[i], entries[i+1])
		if strings.HasPrefix(entries[i], HandoffsDir) {
			last.Handoffs++
		}
		ended = ended || entries[i] == LastEntry
	}
	if !ended {
		said := Last{last.Handoffs, maps.Clone(last.SHA256)}
		text, err := json.Marshal(said)
		if err != nil {
			t.Fatal(err)
		}
		add(LastEntry, string(text))
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

var good = []string{AboutEntry, `{"format":1,"project":"brinelight"}`, ContentsDir + "ab", "rust", HandoffsDir + "000000001.json",
	`{"number":1,"changes":[{"path":"a.png"}]}`, RecordsDir + "members.json", `{}`}

func TestRead(t *testing.T) {
	var k taken
	if err := Read(t.Context(), bytes.NewReader(made(t, good...)), &k); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(k.said, "; "); got != "about brinelight; content ab 4 rust; handoff 1 1; record members.json {}" {
		t.Error(got)
	}
	whole := made(t, good...)
	for name, data := range map[string][]byte{
		"nothing":            {},
		"no tar":             []byte("something else"),
		"cut off":            whole[:len(whole)-2500],
		"cut in a content":   whole[:1600],
		"damaged":            bytes.Replace(whole, []byte("rust"), []byte("ruST"), 1),
		"about is not first": made(t, append([]string{RecordsDir + "x", "{}"}, good...)...),
		"about twice":        made(t, append(good, AboutEntry, "{}")...),
		"an unknown entry":   made(t, append(good, "notes.txt", "x")...),
		"a path outside":     made(t, append(good, "../x", "x")...),
		"a newer format":     made(t, AboutEntry, `{"format":2}`),
		"no format":          made(t, AboutEntry, `{}`),
		"no JSON":            made(t, AboutEntry, `{"format":1}`, HandoffsDir+"1.json", "x"),
		"no number":          made(t, AboutEntry, `{"format":1}`, HandoffsDir+"1.json", "{}"),
		"more than is said":  made(t, append(good, LastEntry, `{"handoffs":1,"sha256":{}}`)...),
		"less than is said":  made(t, AboutEntry, `{"format":1}`, LastEntry, `{"sha256":{"x":"y"}}`),
	} {
		if err := Read(t.Context(), bytes.NewReader(data), &taken{}); !errors.Is(err, ErrInvalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(made(f, good...))
	f.Add([]byte("no tar"))
	f.Fuzz(func(t *testing.T, data []byte) {
		k := &taken{}
		if err := Read(t.Context(), bytes.NewReader(data), k); err == nil && (len(k.said) == 0 || !strings.HasPrefix(k.said[0], "about ")) {
			t.Errorf("a file without its first entry is read: %q", k.said)
		}
	})
}
