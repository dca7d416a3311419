package scan

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/scope"
	"kettletarn/internal/workspace/index"
)

// folder makes a folder with these files; those that end in a slash are folders.
func folder(t *testing.T, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		full := filepath.Join(root, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

const lampRules = `[[rule]]
match = ["*.png", "*.ktl"]
kind = "asset"

[[rule]]
match = ["*.go"]
kind = "code"

[[rule]]
match = ["cache/"]
kind = "ignored"
`

func paths(list []Entry) (out []string) {
	for _, e := range list {
		out = append(out, e.Path)
	}
	slices.Sort(out)
	return out
}

func TestALookAtAFolder(t *testing.T) {
	root := folder(t, map[string]string{"tarn.toml": lampRules, "lamps/brass.png": "brass", "lamps/far/tin.ktl": "tin", "cache/a.png": "x",
		"main.go": "package main", "sea/wave.png": "wave"})
	s, err := New(root)
	if err != nil {
		t.Fatal(err)
	}
	s.Scope, s.Listing = scope.Scope{"lamps"}, true
	if err := s.Run(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got := paths(s.Fresh); !slices.Equal(got, []string{"lamps/brass.png", "lamps/far/tin.ktl", "tarn.toml"}) {
		t.Errorf("new are %q", got)
	}
	if got := paths(s.Outside); !slices.Equal(got, []string{"sea/wave.png"}) {
		t.Errorf("outside are %q", got)
	}
	if s.Code != 1 || len(s.LeftOut) != 2 || s.LeftOut[0].Path != "cache/" || s.LeftOut[1].By.String() != `"*.go" in line 6 of tarn.toml` {
		t.Errorf("%d are code, left out are %+v", s.Code, s.LeftOut)
	}
	for _, e := range s.Fresh {
		info, err := os.Lstat(filepath.Join(root, filepath.FromSlash(e.Path)))
		if err != nil || !e.File.Stamp.Is(StampOf(info)) {
			t.Errorf("%s looks like %+v", e.Path, e.File.Stamp)
		}
	}
}

// A folder with rules that nobody can read is looked at by those that are built in, and the mistake is told.
func TestBrokenRules(t *testing.T) {
	s, err := New(folder(t, map[string]string{"tarn.toml": "[[rule"}))
	if err == nil || s == nil || s.Rules == nil {
		t.Fatal(s, err)
	}
	if s, err = New(t.TempDir()); err != nil || s.Rules == nil || !s.Scope.Has("anything") {
		t.Error(s, err)
	}
	if _, err := os.Stat(filepath.Join(s.Root, rules.File)); !errors.Is(err, fs.ErrNotExist) {
		t.Error("a look wrote rules")
	}
}

func TestReading(t *testing.T) {
	root := folder(t, map[string]string{"a.png": "what is in it", "b.png": ""})
	files, err := os.OpenRoot(root)
	if err != nil {
		t.Fatal(err)
	}
	defer files.Close()
	var seen []byte
	cut, file, err := Read(t.Context(), files, "a.png", nil, func(p chunk.Piece, data []byte) error {
		seen = append(seen, data...)
		return nil
	})
	if err != nil || string(seen) != "what is in it" || cut.Size != 13 || !cut.Stamp.Is(file.Stamp) {
		t.Errorf("%q %+v %+v %v", seen, cut, file, err)
	}
	again, _, err := Read(t.Context(), files, "a.png", cut.Refs, nil)
	if err != nil || again.Content != cut.Content {
		t.Error(again, err)
	}
	// A file that changes each time it is read is given up at the third time.
	times := 0
	_, _, err = Read(t.Context(), files, "a.png", nil, func(chunk.Piece, []byte) error {
		times++
		moved := time.Now().Add(time.Duration(times) * time.Hour)
		return os.Chtimes(filepath.Join(root, "a.png"), moved, moved)
	})
	if !errors.Is(err, ErrMoving) || times != 3 {
		t.Errorf("after %d times: %v", times, err)
	}
	if r := Unreadable("a.png", err); r.Reason != "changing" || r.Remedy == "" {
		t.Errorf("%+v", r)
	}
	_, _, err = Read(t.Context(), files, "gone.png", nil, nil)
	if r := Unreadable("gone.png", err); r.Reason != "vanished" {
		t.Errorf("%+v", r)
	}
	if err := os.Mkdir(filepath.Join(root, "dir"), 0o755); err != nil {
		t.Fatal(err)
	}
	if _, _, err = Read(t.Context(), files, "dir", index.Refs{}, nil); err == nil || Unreadable("dir", err).Reason != "unreadable" {
		t.Error(err)
	}
}

func TestWithin(t *testing.T) {
	s := Scan{Within: []string{"levels/quay", "a.png", "deep/down/here.glb"}}
	for path, want := range map[string][2]bool{"levels": {false, true}, "levels/quay": {true, true}, "levels/quay/b/c.glb": {true, true},
		"levels/quayside": {false, false}, "a.png": {true, true}, "a.png/b": {true, true}, "b.png": {false, false}, "deep/down": {false, true},
		"deep/down/here.glb": {true, true}, "deep/downhill": {false, false}, "": {false, true}} {
		if file, folder := s.WantsFile(path), s.wantsFolder(path); file != want[0] || folder != want[1] {
			t.Errorf("%q: file %v, folder %v", path, file, folder)
		}
	}
	for _, all := range []*Scan{{}, {Within: []string{"x", ""}}} {
		if !all.WantsFile("a/b") || !all.wantsFolder("a") {
			t.Errorf("%v does not want all", all.Within)
		}
	}
}
