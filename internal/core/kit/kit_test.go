package kit

import (
	"bytes"
	"reflect"
	"strings"
	"testing"

	"kettletarn/internal/core/chunk"
)

func use() *Use {
	return &Use{Project: "brinelight", Kit: "lamp-parts", Release: 3, Handoff: chunk.Sum([]byte("h2")), Stay: true, Assets: []Asset{
		{"models/lamp.glb", chunk.Sum([]byte("lamp"))}, {"brass 'old'.png", chunk.Sum([]byte("brass"))}}}
}

func TestAUseIsReadAsItWasWritten(t *testing.T) {
	u := use()
	text, err := u.Encode()
	if err != nil {
		t.Fatal(err)
	}
	// The order in which assets are named makes no difference.
	other := use()
	other.Assets[0], other.Assets[1] = other.Assets[1], other.Assets[0]
	if again, err := other.Encode(); err != nil || !bytes.Equal(text, again) {
		t.Errorf("%s, %v", again, err)
	}
	got, err := Parse(text)
	if err != nil || !reflect.DeepEqual(got, u) {
		t.Fatalf("%+v, %v", got, err)
	}
	if c, ok := got.Content("models/lamp.glb"); !ok || c != chunk.Sum([]byte("lamp")) || got.Name() != "brinelight/lamp-parts" {
		t.Error(c, ok, got.Name())
	}
	if _, ok := got.Content("models/none.glb"); ok {
		t.Error("something came that did not")
	}
}

func TestWhatIsNoUse(t *testing.T) {
	content := strings.Repeat("ab", 32)
	head := "project = \"brinelight\"\nkit = \"lamp-parts\"\nrelease = 1\n"
	asset := func(path, content string) string {
		return "[[asset]]\npath = \"" + path + "\"\ncontent = \"" + content + "\"\n"
	}
	if _, err := Parse([]byte(head + asset("a.png", content))); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"", "project", "kit = \"lamp\"\n", head + "more = 1\n", head + "handoff = \"h2\"\n",
		strings.Replace(head, "= 1", "= 0", 1),
		strings.Replace(head, "lamp-parts", "Lamp Parts", 1), head + asset("../a.png", content), head + asset("a.png", "ab"),
		head + asset("a.png", content) + asset("A.png", content), head + asset(".git/config", content), head + asset("", content)} {
		if u, err := Parse([]byte(text)); err == nil {
			t.Errorf("%q is taken: %+v", text, u)
		}
	}
}

func TestNames(t *testing.T) {
	for text, want := range map[string][3]any{"lamp-parts": {"", "lamp-parts", 0}, "brinelight/lamp-parts": {"brinelight", "lamp-parts", 0},
		"brinelight/lamp-parts@12": {"brinelight", "lamp-parts", 12}} {
		if p, n, r, err := ParseName(text); err != nil || p != want[0] || n != want[1] || r != want[2] {
			t.Errorf("%s: %s %s %d %v", text, p, n, r, err)
		}
	}
	for _, text := range []string{"", "/", "a/b/c", "lamp@", "lamp@0", "lamp@1x", "lamp@-1", "Lamp", "x/"} {
		if _, _, _, err := ParseName(text); err == nil {
			t.Errorf("%q is taken", text)
		}
	}
	for file, want := range map[string]string{"parts/tarn.kit": "parts", "a/b/Tarn.Kit": "a/b"} {
		if dir, ok := Folder(file); !ok || dir != want {
			t.Errorf("%s: %q, %v", file, dir, ok)
		}
	}
	for _, file := range []string{"tarn.kit", "parts/tarn.kits", "parts/tarn.toml"} {
		if dir, ok := Folder(file); ok {
			t.Errorf("%s: %q", file, dir)
		}
	}
}

func FuzzParse(f *testing.F) {
	text, _ := use().Encode()
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		u, err := Parse(text)
		if err != nil {
			return
		}
		again, err := u.Encode()
		if err != nil {
			return
		}
		if back, err := Parse(again); err != nil || !reflect.DeepEqual(back, u) {
			t.Errorf("%+v became %+v, %v", u, back, err)
		}
	})
}
