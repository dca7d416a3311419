package lines

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestDecode(t *testing.T) {
	want := []string{"brine", "kelp"}
	for name, text := range map[string]string{"plain": "brine\nkelp\n", "without an end": "brine\nkelp",
		"of another system": "brine\r\nkelp\r\n", "with a mark": "\ufeffbrine\nkelp",
		"UTF-16": "\xff\xfeb\x00r\x00i\x00n\x00e\x00\n\x00k\x00e\x00l\x00p\x00"} {
		if got, err := Decode([]byte(text)); err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
	for name, text := range map[string]string{"a zero byte": "a\x00b", "not UTF-8": "a\xc3(b"} {
		if got, err := Decode([]byte(text)); err != ErrNoText {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
	if _, err := Decode(make([]byte, MaxSize+1)); err != ErrTooLarge {
		t.Error(err)
	}
	if _, err := Decode([]byte(strings.Repeat("\n", MaxLines+5))); err != ErrTooLarge {
		t.Error(err)
	}
}

func TestOrigins(t *testing.T) {
	versions := [][]string{ // the newest first
		{"# Harbour", "tide = 4", "fog = 0.8", "gulls = 12"},
		{"# Harbour", "tide = 4", "fog = 0.5", "gulls = 12"},
		{"# Harbour", "tide = 3", "fog = 0.5"},
		{"tide = 3"},
	}
	o := NewOrigins(versions[0])
	for _, v := range versions[1:] {
		if !o.Back(v) {
			break
		}
	}
	if !slices.Equal(o.Of, []int{2, 1, 0, 1}) {
		t.Error(o.Of)
	}
}

// A model keeps beside each line which edit wrote it. Lines are all different, so that there is one answer.
func TestOriginsOfRandomEdits(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	for range 50 {
		type line struct {
			text string
			edit int
		}
		var now []line
		var versions [][]string
		for edit := range 30 {
			for range 1 + random.IntN(4) {
				at := random.IntN(len(now) + 1)
				if random.IntN(3) == 0 && at < len(now) {
					now = slices.Delete(now, at, at+1)
				} else {
					now = slices.Insert(now, at, line{fmt.Sprintf("line %d", random.Uint64()), edit})
				}
			}
			var text []string
			for _, l := range now {
				text = append(text, l.text)
			}
			versions = append(versions, text)
		}
		o := NewOrigins(versions[29])
		for i := 28; i >= 0 && o.Back(versions[i]); i-- {
		}
		for i, l := range now {
			if got := 29 - o.Of[i]; got != l.edit {
				t.Fatalf("line %d is of edit %d, want %d", i, got, l.edit)
			}
		}
	}
}

func TestCompare(t *testing.T) {
	rows := Compare([]string{"keeper: Who rows there?", "gull: Kree.", "end"}, []string{"keeper: Who goes there?", "end", "credits"})
	want := []Row{
		{Kind: Changed, Before: 1, After: 1, Old: "keeper: Who rows there?", Text: "keeper: Who goes there?", OldMarks: []int{12, 16},
			Marks: []int{12, 16}},
		{Kind: Removed, Before: 2, Text: "gull: Kree."},
		{Kind: Same, Before: 3, After: 2, Text: "end"},
		{Kind: Added, After: 3, Text: "credits"},
	}
	if fmt.Sprint(rows) != fmt.Sprint(want) {
		t.Errorf("got  %v\nwant %v", rows, want)
	}
}

func TestFollow(t *testing.T) {
	before, after := []string{"a", "the keeper says good evening", "b", "c"}, []string{"0", "a", "the keeper says good night", "c"}
	for line, want := range map[int]int{1: 2, 2: 3, 3: 0, 4: 4, 0: 0, 5: 0} {
		if got, ok := Follow(before, after, line); got != want || ok != (want > 0) {
			t.Errorf("line %d is %d, %v; want %d", line, got, ok, want)
		}
	}
}

func FuzzCompare(f *testing.F) {
	f.Add("a\nb\nc", "a\nx\nc\nd")
	f.Add("tide = 3", "tide = 4\r\n\r\n")
	f.Fuzz(func(t *testing.T, a, b string) {
		before, err1 := Split(a)
		after, err2 := Split(b)
		if err1 != nil || err2 != nil {
			return
		}
		var x, y []string
		for _, r := range Compare(before, after) {
			if r.Before > 0 {
				if x = append(x, r.Text); r.Kind == Changed {
					x[len(x)-1] = r.Old
				}
				if len(x) != r.Before {
					t.Fatalf("line %d is said to be line %d", len(x), r.Before)
				}
			}
			if r.After > 0 {
				if y = append(y, r.Text); len(y) != r.After {
					t.Fatalf("line %d is said to be line %d", len(y), r.After)
				}
			}
			for i, m := range r.Marks {
				if m < 0 || m > len(r.Text) || i > 0 && m < r.Marks[i-1] {
					t.Fatalf("%v is not in %q", r.Marks, r.Text)
				}
			}
		}
		if !slices.Equal(x, before) || !slices.Equal(y, after) {
			t.Errorf("%q and %q were laid out as %q and %q", before, after, x, y)
		}
	})
}
