package tree

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sort"
	"strings"
	"testing"

	"kettletarn/internal/core/chunk"
)

// side is one side of a merge as a plain map from asset to entry.
type side map[int64]Entry

func (s side) clone() side {
	c := side{}
	for id, e := range s {
		c[id] = e
	}
	return c
}

// unsound says what is wrong with a set of entries, "" for nothing.
func (s side) unsound() string {
	keys, spelled := map[string]int64{}, map[string]string{}
	for id, e := range s {
		if strings.ToLower(e.Spelling()) != e.Key {
			return fmt.Sprintf("%q is spelled %q", e.Key, e.Spelling())
		}
		if other, twice := keys[e.Key]; twice {
			return fmt.Sprintf("%d and %d are at %s", id, other, e.Key)
		}
		keys[e.Key] = id
	}
	for _, e := range s {
		for _, folder := range folders(e.Spelling()) {
			key := strings.ToLower(folder)
			if _, file := keys[key]; file {
				return key + " is a file and a folder"
			}
			if other, ok := spelled[key]; ok && other != folder {
				return folder + " and " + other
			}
			spelled[key] = folder
		}
	}
	return ""
}

func (s side) put(id int64, path string, content byte, version int) bool {
	e := Entry{Key: strings.ToLower(path), Asset: id, Version: version, Content: chunk.Sum([]byte{content}), Size: 1}
	if path != e.Key {
		e.Path = path
	}
	was, had := s[id]
	s[id] = e
	if s.unsound() == "" {
		return true
	}
	if delete(s, id); had {
		s[id] = was
	}
	return false
}

func (s side) root(t *testing.T, shelf *shelf) chunk.Digest {
	t.Helper()
	changes := make([]Change, 0, len(s))
	for _, e := range s {
		changes = append(changes, Change{Key: e.Key, Entry: &e})
	}
	return shelf.apply(t, Empty(), changes...)
}

var mergePaths = []string{"a", "B", "fog/a", "Fog/b", "fog/lamp/c", "fog/Lamp/d", "lamp", "lamp/e", "LAMP/f", "tarn/g", "tarn", "b/x/y"}

// walk does a few things at random. A path that both sides begin is the same asset.
func (s side) walk(r *rand.Rand, versions map[int64]int, claims map[string]int64) {
	for range r.IntN(6) {
		path := mergePaths[r.IntN(len(mergePaths))]
		var ids []int64
		for id := range s {
			ids = append(ids, id)
		}
		sort.Slice(ids, func(i, j int) bool { return ids[i] < ids[j] })
		next := func(id int64) int { versions[id]++; return versions[id] }
		if len(ids) == 0 || r.IntN(3) == 0 {
			id, known := claims[strings.ToLower(path)]
			if _, elsewhere := s[id]; elsewhere {
				continue
			}
			if !known {
				id = int64(len(claims) + 1)
				claims[strings.ToLower(path)] = id
			}
			s.put(id, path, byte(r.IntN(4)), next(id))
			continue
		}
		id := ids[r.IntN(len(ids))]
		e := s[id]
		switch r.IntN(4) {
		case 0:
			delete(s, id)
			next(id)
		case 1:
			e.Content, e.Version = chunk.Sum([]byte{byte(r.IntN(4))}), next(id)
			s[id] = e
		default:
			was := e
			if delete(s, id); !s.put(id, path, 0, next(id)) {
				s[id] = was
				continue
			}
			moved := s[id]
			moved.Content = was.Content
			s[id] = moved
		}
	}
}

func entry(s side, id int64) *Entry {
	if e, ok := s[id]; ok {
		return &e
	}
	return nil
}

func TestMergesGoAssetByAsset(t *testing.T) {
	seen := map[string]int{}
	for seed := range uint64(6000) {
		r := rand.New(rand.NewPCG(seed, 17))
		versions, claims := map[int64]int{}, map[string]int64{}
		base := side{}
		for range 3 {
			base.walk(r, versions, claims)
		}
		here, there := base.clone(), base.clone()
		here.walk(r, versions, claims)
		there.walk(r, versions, claims)
		shelf := newShelf()
		roots := [3]chunk.Digest{base.root(t, shelf), here.root(t, shelf), there.root(t, shelf)}
		merged, result := mergeOf(t, shelf, roots[0], roots[1], roots[2])
		fail := func(format string, args ...any) {
			t.Helper()
			t.Fatalf("seed %d: %s\nbase  %v\nhere  %v\nthere %v\ncomes %v\n%+v", seed, fmt.Sprintf(format, args...), told(base), told(here),
				told(there), told(result), merged)
		}
		if wrong := result.unsound(); wrong != "" {
			fail("%s", wrong)
		}
		clashes := map[int64]string{}
		for _, c := range merged.Clashes {
			for _, e := range []*Entry{c.Base, c.Here, c.There} {
				if e != nil {
					clashes[e.Asset] = c.Why
				}
			}
			seen[c.Why]++
			if (c.Why == PlaceTaken || c.Why == FileFolder) != (c.Other != nil) {
				fail("a clash in place of something: %+v", c)
			}
		}
		for id := range versions {
			b, h, w, got := entry(base, id), entry(here, id), entry(there, id), entry(result, id)
			want := wanted(b, h, w)
			if clashes[id] != "" {
				want = h
			} else if want == nil && !Same(h, b) && !Same(w, b) && !Same(h, w) && (h == nil) != (w == nil) {
				fail("%d is gone on one side and changed on the other, and does not clash", id)
			}
			if (got == nil) != (want == nil) {
				fail("%d is %v, and should be %v", id, got, want)
			}
			if got != nil && (got.Key != want.Key || got.Content != want.Content) {
				fail("%d is %v, and should be %v", id, got, want)
			}
			if Same(w, b) && !Same(got, h) {
				fail("%d did not change there, and is %v", id, got)
			}
		}
		if roots[0] == roots[1] && len(merged.Clashes)+len(merged.Joined) > 0 {
			fail("nothing changed here, and something does not come by itself")
		}
		other, _ := mergeOf(t, shelf, roots[0], roots[2], roots[1])
		back := map[int64]string{}
		for _, c := range other.Clashes {
			for _, e := range []*Entry{c.Base, c.Here, c.There} {
				if e != nil {
					back[e.Asset] = map[string]string{GoneHere: GoneThere, GoneThere: GoneHere}[c.Why]
					if back[e.Asset] == "" {
						back[e.Asset] = c.Why
					}
				}
			}
		}
		for id, why := range clashes {
			if why != PlaceTaken && why != FileFolder && back[id] != why {
				fail("%d: %s, and the other way round %s", id, why, back[id])
			}
		}
		seen["joined"] += len(merged.Joined)
		seen["came"] += len(merged.Came)
	}
	for _, what := range []string{"joined", "came", BothEdited, BothMoved, GoneHere, GoneThere, PlaceTaken, FileFolder} {
		if seen[what] < 20 {
			t.Errorf("%s came up %d times", what, seen[what])
		}
	}
}

func told(s side) (list []string) {
	for id, e := range s {
		list = append(list, fmt.Sprintf("%s=%d@v%d:%x", e.Spelling(), id, e.Version, e.Content[:2]))
	}
	sort.Strings(list)
	return list
}

// wanted is what becomes of an asset on its own.
func wanted(base, here, there *Entry) *Entry {
	switch {
	case Same(there, base):
		return here
	case Same(here, base):
		return there
	case here == nil || there == nil:
		return nil
	}
	out := *here
	if base == nil {
		return &out
	}
	if here.Content == base.Content {
		out.Content = there.Content
	}
	if here.Spelling() == base.Spelling() {
		out.Key = there.Key
	}
	return &out
}

func mergeOf(t *testing.T, shelf *shelf, base, here, there chunk.Digest) (*Merged, side) {
	t.Helper()
	f := NewForest(shelf.load)
	merged, err := f.Merge(t.Context(), base, here, there, nil)
	if err != nil {
		t.Fatal(err)
	}
	root, err := merged.Apply(t.Context(), f, here, func(Join) int { return 1000 })
	if err != nil {
		t.Fatal(err)
	}
	for d, data := range f.Fresh {
		shelf.data[d] = data
	}
	result := side{}
	for _, e := range shelf.all(t, root) {
		if _, twice := result[e.Asset]; twice {
			t.Fatalf("asset %d is twice in the merged tree", e.Asset)
		}
		result[e.Asset] = e
	}
	return merged, result
}

// What somebody knows or decides of an asset that both sides edited.
func TestWhatBothSidesEditedIsDecided(t *testing.T) {
	shelf := newShelf()
	base, here, there := side{}, side{}, side{}
	base.put(1, "a", 1, 1)
	here.put(1, "a", 2, 2)
	there.put(1, "Lamp/a", 3, 4)
	roots := [3]chunk.Digest{base.root(t, shelf), here.root(t, shelf), there.root(t, shelf)}
	for _, c := range []struct {
		side    Side
		path    string
		content byte
		version int
		clashes int
	}{
		{Undecided, "a", 2, 2, 1},
		{Keep, "a", 2, 2, 0},
		{Take, "Lamp/a", 3, 4, 0},
		{JoinHere, "Lamp/a", 2, 9, 0}, // only one side moved it
		{JoinThere, "Lamp/a", 3, 9, 0},
	} {
		f := NewForest(shelf.load)
		m, err := f.Merge(t.Context(), roots[0], roots[1], roots[2], func(Met) Side { return c.side })
		if err != nil || len(m.Clashes) != c.clashes {
			t.Fatalf("%v: %+v, %v", c, m, err)
		}
		root, err := m.Apply(t.Context(), f, roots[1], func(Join) int { return 9 })
		if err != nil {
			t.Fatal(err)
		}
		got, err := f.Get(t.Context(), root, []string{"a", "lamp/a"})
		if err != nil {
			t.Fatal(err)
		}
		want := side{}
		want.put(1, c.path, c.content, c.version)
		if e := want[1]; len(got) != 1 || got[e.Key] != e {
			t.Errorf("%v: %+v", c, got)
		}
	}
}

func TestAMergeTakesAsLongAsTheSidesHaveChanges(t *testing.T) {
	shelf := newShelf()
	root, _ := large(t, shelf, 20000)
	one, other := put("d012/new.bin", 7), put("d090/new.bin", 8)
	one.Entry.Asset, other.Entry.Asset = 900001, 900002
	here, there := shelf.apply(t, root, one), shelf.apply(t, root, other)
	opened := 0
	f := NewForest(func(ctx context.Context, digests []chunk.Digest) ([]*Node, error) {
		opened += len(digests)
		return shelf.load(ctx, digests)
	})
	m, err := f.Merge(t.Context(), root, here, there, nil)
	if err != nil || len(m.Came) != 1 || len(m.Clashes)+len(m.Joined) > 0 {
		t.Fatalf("%+v, %v", m, err)
	}
	if opened > 60 {
		t.Errorf("%d nodes of 20,000 assets were opened for two changes", opened)
	}
}
