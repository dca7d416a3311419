package rules

import (
	"strings"
	"testing"
)

func TestKits(t *testing.T) {
	r, err := Parse([]byte("[[kit]]\nname = \"lamp-parts\"\nmatch = [\"models/lamp*\", \"parts/**\", \"!parts/old/\"]\n\n" +
		"[[kit]]\nname = \"sounds\"\nmatch = \"*.wav\"\n"))
	if err != nil || len(r.Kits) != 2 || r.Kit("sounds").Origin.Line != 5 || r.Kit("none") != nil {
		t.Fatalf("%+v, %v", r, err)
	}
	k := r.Kit("lamp-parts")
	again, err := KitOf("lamp-parts", k.Match)
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]bool{"models/lamp-post.glb": true, "models/LAMP.glb": true, "models/boat.glb": false,
		"parts/a/b.png": true, "parts/old/x.png": false, "lamp.glb": false} {
		if k.Has(path) != want || again.Has(path) != want {
			t.Errorf("%s: %v and %v, want %v", path, k.Has(path), again.Has(path), want)
		}
	}
	for text, says := range map[string]string{
		"[[kit]]\nmatch = \"x\"\n":                                                         "a kit's name has",
		"[[kit]]\nname = \"Lamp Parts\"\nmatch = \"x\"\n":                                  "a kit's name has",
		"[[kit]]\nname = \"lamp\"\n":                                                       "what is in it",
		"[[kit]]\nname = \"lamp\"\nmatch = []\n":                                           "",
		"[[kit]]\nname = \"lamp\"\nmatch = \"x\"\n[[kit]]\nname = \"lamp\"\nmatch = \"y\"": "above already",
		"[[kit]]\nname = \"lamp\"\nmatch = \"x\"\nstay = 3\n":                              "not known",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %q", text, err, says)
		}
	}
	// What says where a folder came from is an asset, whatever no rule covers is.
	strict, err := Parse([]byte("otherwise = \"code\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	if d := strict.Decide("kits/lamp-parts/" + KitFile); d.Kind != Asset || d.Lock != Free {
		t.Errorf("%+v", d)
	}
	if _, err := KitOf("x", []string{"a\x00b"}); err == nil {
		t.Error("a pattern that is none is taken")
	}
}
