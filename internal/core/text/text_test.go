package text

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
)

const bad = "\x00\x07\x1b\x7f\u0085\u009b\u2028\u202a\u202e\u2066\u2069\u200e\u200f\u061c\ufeff\U000e0041"

func TestWhatIsShown(t *testing.T) {
	for _, r := range bad {
		if Shown(r) {
			t.Errorf("%U is shown", r)
		}
	}
	for _, r := range "aÄß水👩\u200d🎨 é\u0301�" {
		if !Shown(r) {
			t.Errorf("%U is not shown", r)
		}
	}
	for in, want := range map[string]string{"plain": "plain", "a\x1b[31mb": "a�[31mb", "two\nlines": "two�lines", "broken\xff": "broken�",
		"kept�": "kept�"} {
		if got := Line(in); got != want {
			t.Errorf("Line(%q) is %q", in, got)
		}
	}
	if got := Lines("two\nlines\tand\x1b"); got != "two\nlines\tand�" {
		t.Errorf("%q", got)
	}
}

func TestCheck(t *testing.T) {
	for _, r := range bad {
		if Check("a"+string(r), 100, true) == "" {
			t.Errorf("%U is taken", r)
		}
	}
	if Check("two\nlines", 100, true) != "" || Check("two\nlines", 100, false) == "" || Check("long", 3, true) == "" ||
		Check("\xff", 3, true) == "" {
		t.Error("lengths, lines or broken UTF-8")
	}
}

func TestJSONKeepsItsValue(t *testing.T) {
	in := map[string]string{"note": bad + "水", "plain": "x"}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(in); err != nil {
		t.Fatal(err)
	}
	out := JSON(b.Bytes())
	for _, r := range string(out) {
		if r != '\n' && !Shown(r) {
			t.Errorf("%U is left", r)
		}
	}
	var back map[string]string
	if err := json.Unmarshal(out, &back); err != nil || back["note"] != in["note"] || back["plain"] != "x" {
		t.Errorf("%q, %v", back, err)
	}
}

func TestTheWriterPutsCharactersTogether(t *testing.T) {
	var b strings.Builder
	w := NewWriter(&b)
	for _, c := range []byte("a水\x1b\u202eb\r\nc\rd\n") {
		if n, err := w.Write([]byte{c}); n != 1 || err != nil {
			t.Fatal(n, err)
		}
	}
	if b.String() != "a水��b\r\nc�d\n" {
		t.Errorf("%q", b.String())
	}
}

func TestCells(t *testing.T) {
	for in, want := range map[string]string{"": "", "plain": "plain", "=1+1": "'=1+1", "a;=1+1": "a;'=1+1", "a; =1": "a; '=1",
		"x\t@y": "x\t'@y", "a-b": "a-b", "-x": "'-x", "2026-01-02": "2026-01-02", "a\"=1": "a\"'=1", "tab\x1b": "tab�"} {
		if got := Cell(in); got != want {
			t.Errorf("Cell(%q) is %q, want %q", in, got, want)
		}
	}
}

func FuzzJSON(f *testing.F) {
	f.Add(bad)
	f.Add("plain \\u0000 \xff")
	f.Fuzz(func(t *testing.T, s string) {
		data, err := json.Marshal(s)
		if err != nil {
			t.Skip()
		}
		var before, after string
		if json.Unmarshal(data, &before) != nil {
			t.Skip()
		}
		out := JSON(data)
		if err := json.Unmarshal(out, &after); err != nil || before != after {
			t.Fatalf("%q became %q, %v", before, after, err)
		}
		for _, r := range string(out) {
			if !Shown(r) && r != '\uFFFD' {
				t.Fatalf("%U is left in %q", r, out)
			}
		}
	})
}
