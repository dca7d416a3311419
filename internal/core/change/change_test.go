package change

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
)

// house is a project with one branch, in memory: what records and service are otherwise.
type house struct {
	t        *testing.T
	nodes    map[chunk.Digest]*tree.Node
	root     chunk.Digest
	assets   map[string]*Asset // by the folded path that they claim
	contents map[int64][]chunk.Digest
	rules    *rules.Rules
	next     int64
	now      time.Time
	who      lock.Place
	last     map[int64]Last
	lead     bool
}

var odile, rurik = lock.Place{Handle: "odile", WorkspaceID: "1", Workspace: "odile-pc"},
	lock.Place{Handle: "rurik", WorkspaceID: "2", Workspace: "rurik-pc"}

func newHouse(t *testing.T) *house {
	return &house{t: t, nodes: map[chunk.Digest]*tree.Node{}, root: tree.Empty(), assets: map[string]*Asset{},
		contents: map[int64][]chunk.Digest{},
		rules:    rules.Default(), now: time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC), who: odile, last: map[int64]Last{}, lead: true}
}

func (h *house) forest() *tree.Forest {
	return tree.NewForest(func(_ context.Context, digests []chunk.Digest) (list []*tree.Node, err error) {
		for _, d := range digests {
			list = append(list, h.nodes[d])
		}
		return list, nil
	})
}

func body(text string) (chunk.Digest, int64) { return chunk.Sum([]byte(text)), int64(len(text)) }

func put(path string, base int, text string) Change {
	c := Change{Path: path, Base: base}
	c.Content, c.Size = body(text)
	return c
}

func moved(from string, c Change) Change {
	c.MovedFrom = from
	return c
}

// judge loads what a change is about, as the service does, and judges it.
func (h *house) judge(w Manner, changes ...Change) Plan {
	h.t.Helper()
	l := Lay(changes)
	s := &State{Terms: lock.Terms{Now: h.now, OfferFor: time.Hour}, Who: h.who, Lead: h.lead, Rules: h.rules, Assets: map[string]*Asset{},
		Sizes:   map[chunk.Digest]int64{},
		Earlier: map[int64]Earlier{}}
	held, err := h.forest().Get(h.t.Context(), h.root, l.Places())
	if err != nil {
		h.t.Fatal(err)
	}
	for _, f := range l.Places() {
		if h.assets[f] == nil {
			h.next++
			path := l.Path(f)
			h.assets[f] = &Asset{ID: h.next, Path: path, Folded: f, Lock: lock.State{Path: path}}
		}
		a := *h.assets[f]
		if a.Last = h.last[a.ID]; held[f].Asset == a.ID {
			e := held[f]
			a.Held = &e
		} else if held[f].Asset != 0 {
			h.t.Fatalf("%s is claimed by %d, and the tree has %d there", f, a.ID, held[f].Asset)
		}
		s.Assets[f] = &a
	}
	for _, c := range changes {
		if c.Content != chunk.Sum([]byte("never sent")) {
			s.Sizes[c.Content] = c.Size
		}
	}
	if w.Past {
		l.Fit(s)
	}
	repeated, digests := l.Repeats(s.Assets, s.Sizes)
	for i, a := range repeated {
		id := a.ID
		all := slices.Clone(h.contents[id])
		slices.Reverse(all)
		if n := slices.Index(all, digests[i]); n > 0 {
			s.Earlier[id] = Earlier{Number: len(all) - n, Author: "tamsin", At: h.now}
		}
	}
	if s.Around, err = l.Look(h.t.Context(), h.forest(), h.root, s.Assets); err != nil {
		h.t.Fatal(err)
	}
	return Judge(l, s, w)
}

// write does what a plan says.
func (h *house) write(p Plan, last Last) {
	h.t.Helper()
	f := h.forest()
	root, err := f.Apply(h.t.Context(), h.root, p.Tree)
	if err != nil {
		h.t.Fatal(err)
	}
	for d, data := range f.Fresh {
		if h.nodes[d], err = tree.Decode(data); err != nil {
			h.t.Fatal(err)
		}
	}
	h.root = root
	byID := map[int64]*Asset{}
	for _, a := range h.assets {
		byID[a.ID] = a
	}
	for _, v := range p.Versions {
		delete(h.assets, v.Asset.Folded)
	}
	for _, v := range p.Versions {
		a := byID[v.Asset.ID]
		a.Path, a.Folded, a.Newest, a.Numbered = v.Path, v.Folded, v.Number, v.Number
		h.assets[v.Folded], h.last[a.ID] = a, last
		h.contents[a.ID] = append(h.contents[a.ID], v.Content)
	}
	for _, x := range p.Locks {
		byID[x.Asset.ID].Lock = x.Next
	}
}

// send judges and writes, and returns what was refused, as PATH:REASON.
func (h *house) send(w Manner, changes ...Change) string {
	h.t.Helper()
	p := h.judge(w, changes...)
	if len(p.Refusals) > 0 {
		if len(p.Tree)+len(p.Locks) > 0 {
			h.t.Error("what is refused has rows to write")
		}
		return refused(p)
	}
	if len(p.Missing) > 0 {
		return fmt.Sprint(len(p.Missing), " missing")
	}
	h.write(p, Last{Author: h.who.Handle, Handoff: 1})
	return ""
}

func refused(p Plan) string {
	var list []string
	for _, r := range p.Refusals {
		if r.Message == "" || r.Remedy == "" {
			list = append(list, "without a remedy")
		}
		list = append(list, r.Path+":"+r.Reason)
	}
	return strings.Join(list, " ")
}

// holds is what the branch has, as PATH@VERSION.
func (h *house) holds() string {
	var list []string
	if err := h.forest().Range(h.t.Context(), h.root, "", "", func(e *tree.Entry) bool {
		list = append(list, fmt.Sprintf("%s@%d", e.Spelling(), e.Version))
		return true
	}); err != nil {
		h.t.Fatal(err)
	}
	return strings.Join(list, " ")
}

func (h *house) lock(path string, who lock.Place) int64 {
	a := h.assets[assetpath.Fold(path)]
	a.Lock.Holder, a.Lock.Since = who, h.now
	a.Lock.Fence++
	return a.Lock.Fence
}

func free(t *testing.T, text string) *rules.Rules {
	t.Helper()
	r, err := rules.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// step is a send: what is refused of it ("" for nothing), and what the branch holds then, where it is not refused.
type step struct {
	what    string
	changes []Change
	want    string
	holds   string
}

func (h *house) walk(steps []step) {
	h.t.Helper()
	for _, c := range steps {
		before := h.holds()
		if got := h.send(Manner{TakeFree: true}, c.changes...); got != c.want {
			h.t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
		if c.want != "" {
			c.holds = before
		}
		if got := h.holds(); got != c.holds {
			h.t.Errorf("%s leaves %q, want %q", c.what, got, c.holds)
		}
	}
}

func TestWhatAChangeIsBasedOn(t *testing.T) {
	h := newHouse(t)
	h.walk([]step{
		{"new", []Change{put("a.png", 0, "one"), put("d/b.png", 0, "two")}, "", "a.png@1 d/b.png@1"},
		{"edited", []Change{put("a.png", 1, "three")}, "", "a.png@2 d/b.png@1"},
		{"from an old version", []Change{put("a.png", 1, "four")}, "a.png:behind", ""},
		{"somebody else's name", []Change{put("a.png", 0, "four")}, "a.png:behind", ""},
		{"another spelling", []Change{put("A.png", 0, "four")}, "A.png:path-collides", ""},
		{"another spelling of what one has", []Change{put("A.png", 2, "four")}, "A.png:path-collides", ""},
		{"what is not there", []Change{{Path: "x.png", Gone: true}}, "x.png:unknown", ""},
		{"what never was there", []Change{{Path: "x.png", Base: 1, Gone: true}}, "x.png:behind", ""},
		{"twice", []Change{put("n.png", 0, "1"), put("N.png", 0, "2")}, "N.png:path-collides", ""},
		{"an illegal path", []Change{put("con.png", 0, "1")}, "con.png:path-device", ""},
		{"a file where a folder is", []Change{put("D", 0, "1")}, "D:path-collides", ""},
		{"a folder where a file is", []Change{put("a.png/b", 0, "1")}, "a.png/b:path-collides", ""},
		{"a folder spelled otherwise", []Change{put("D/c.png", 0, "1")}, "D/c.png:path-collides", ""},
		{"two folders spelled otherwise", []Change{put("e/c.png", 0, "1"), put("E/d.png", 0, "1")}, "E/d.png:path-collides", ""},
		{"unknown content", []Change{put("n.png", 0, "never sent")}, "1 missing", ""},
		{"every reason at once", []Change{put("a.png", 1, "x"), put("D/c.png", 0, "1"), put("con", 0, "1")},
			"con:path-device a.png:behind D/c.png:path-collides", ""},
		{"an older content", []Change{put("a.png", 2, "one")}, "a.png:older-version", ""},
		{"gone", []Change{{Path: "a.png", Base: 2, Gone: true}}, "", "d/b.png@1"},
		{"from what went", []Change{put("a.png", 2, "five")}, "a.png:behind", ""},
		{"back under another spelling", []Change{put("A.png", 0, "one")}, "", "A.png@4 d/b.png@1"},
		{"a folder that goes makes way", []Change{{Path: "d/b.png", Base: 1, Gone: true}, put("d", 0, "file")}, "", "A.png@4 d@1"},
	})
	if got := h.send(Manner{TakeFree: true, Older: true}, put("A.png", 4, "three")); got != "" {
		t.Errorf("an older content that is meant: %q", got)
	}
}

func TestMoves(t *testing.T) {
	h := newHouse(t)
	h.send(Manner{TakeFree: true}, put("a", 0, "a"), put("b", 0, "b"), put("c/x", 0, "x"), put("c/y", 0, "y"))
	h.walk([]step{
		{"elsewhere", []Change{moved("a", put("d/a", 1, "a"))}, "", "b@1 c/x@1 c/y@1 d/a@2"},
		{"from nowhere", []Change{moved("nothing", put("z", 1, "a"))}, "z:unknown", ""},
		{"onto another", []Change{moved("d/a", put("b", 2, "a"))}, "b:behind", ""},
		{"swapped", []Change{moved("d/a", put("b", 2, "a")), moved("b", put("d/a", 1, "b"))}, "", "b@3 c/x@1 c/y@1 d/a@2"},
		{"away, and another there", []Change{moved("b", put("a", 3, "a")), put("b", 0, "new")}, "b:behind", ""},
		{"on", []Change{moved("b", put("a", 3, "a"))}, "", "a@4 c/x@1 c/y@1 d/a@2"},
		{"to another spelling", []Change{moved("a", put("A", 4, "a"))}, "", "A@5 c/x@1 c/y@1 d/a@2"},
		{"and edited from an old version", []Change{moved("A", put("e", 4, "new"))}, "e:behind", ""},
		{"one to two places", []Change{moved("c/x", put("c/x", 1, "x")), moved("c/x", put("q", 1, "x"))}, "q:move", ""},
		{"the rules", []Change{moved("tarn.toml", put("e", 1, "new"))}, "e:move e:unknown", ""},
		{"one of a folder to another spelling of it", []Change{moved("c/x", put("C/x", 1, "x"))}, "C/x:path-collides", ""},
		{"all of a folder to another spelling of it", []Change{moved("c/x", put("C/x", 1, "x")), moved("c/y", put("C/y", 1, "y"))}, "",
			"A@5 C/x@2 C/y@2 d/a@2"},
	})
}

func TestLocksOfAChange(t *testing.T) {
	h := newHouse(t)
	h.rules = free(t, "[[rule]]\nmatch = \"*\"\nlock = \"required\"\n[[rule]]\nmatch = \"*.txt\"\nlock = \"free\"\n[[rule]]\nmatch = "+
		"\"cache/\"\nkind = \"ignored\"\n")
	if got := h.send(Manner{}, put("a.png", 0, "a"), put("n.txt", 0, "n"), put("cache/x", 0, "x")); got != "cache/x:not-an-asset" {
		t.Errorf("%q", got)
	}
	h.send(Manner{}, put("a.png", 0, "a"), put("n.txt", 0, "n"))
	if got := h.send(Manner{}, put("a.png", 1, "b"), put("n.txt", 1, "m")); got != "a.png:not-locked" {
		t.Errorf("without a lock: %q", got)
	}
	fence := h.lock("a.png", rurik)
	if got := h.send(Manner{TakeFree: true}, put("a.png", 1, "b")); got != "a.png:held" {
		t.Errorf("somebody else's: %q", got)
	}
	mine := put("a.png", 1, "b")
	mine.Fence = fence
	if p := h.judge(Manner{}, mine); refused(p) != "a.png:lock-lost" || len(p.Lost) != 1 || p.Lost[0].Fence != fence ||
		p.Lost[0].Refusal != 0 {
		t.Errorf("a lock that is another's by now: %q %+v", refused(p), p.Lost)
	}
	h.who = rurik
	p := h.judge(Manner{KeepLocks: true}, mine)
	if refused(p) != "" || len(p.Kept) != 1 || len(p.Locks) != 0 {
		t.Errorf("kept: %+v", p)
	}
	p = h.judge(Manner{}, mine)
	if len(p.Locks) != 1 || !p.Locks[0].Next.Free() || p.Locks[0].Next.Fence == fence || len(p.Locks[0].Events) != 1 {
		t.Errorf("given back: %+v", p.Locks)
	}
	// What is moved carries its lock, and takes over who waits for the name that it gets.
	h.assets["kept.png"] = &Asset{ID: 99, Path: "kept.png", Folded: "kept.png",
		Lock: lock.State{Path: "kept.png", Holder: rurik, Since: h.now, Line: []lock.Waiter{{Place: odile}}}}
	p = h.judge(Manner{}, moved("a.png", mine0("kept.png", mine)))
	if refused(p) != "" || len(p.Locks) != 3 || p.Locks[0].Next.InLine("odile") != 1 || p.Locks[1].Asset.ID != 99 || !p.Locks[1].Next.Free() {
		t.Errorf("a kept name: %q %+v", refused(p), p.Locks)
	}
	if until := p.Locks[2].Next.Line[0].Until; until.IsZero() {
		t.Error("what is given back is offered to nobody")
	}
	// The rules are the leads'.
	h.lead = false
	if got := h.send(Manner{}, put("tarn.toml", 0, "")); got != "tarn.toml:role" {
		t.Errorf("%q", got)
	}
}

func mine0(path string, c Change) Change {
	c.Path = path
	return c
}

func TestACommitFollowsWhatIsThere(t *testing.T) {
	h := newHouse(t)
	past := Manner{Past: true}
	git := func(want string, changes ...Change) {
		t.Helper()
		p := h.judge(past, changes...)
		if got := refused(p); got != want {
			t.Errorf("%q, want %q", got, want)
		}
		if len(p.Refusals) == 0 {
			h.write(p, Last{Author: "Ada", Commit: "c0ffee"})
		}
	}
	git("", put("a", 0, "one"), put("b", 0, "two"))
	git("", put("a", 0, "three"), put("b", 0, "two"), Change{Path: "never", Gone: true})
	if got := h.holds(); got != "a@2 b@1" {
		t.Errorf("%q", got)
	}
	git("", moved("nowhere", put("c", 0, "four")), moved("b", put("d/b", 0, "two")))
	git("", moved("a", put("c", 0, "taken"))) // c is there: a stays, and c gets it
	if got := h.holds(); got != "a@2 c@2 d/b@2" {
		t.Errorf("%q", got)
	}
	git("", moved("c", put("e", 0, "moved, and something else at its place")), put("c", 0, "something else"))
	if got := h.holds(); got != "a@2 c@3 d/b@2 e@1" {
		t.Errorf("%q", got)
	}
	h.send(Manner{TakeFree: true}, put("a", 2, "here"))
	git("a:behind", put("a", 0, "in git"))
	past.Over = true
	git("", put("a", 0, "in git"))
	h.lock("a", rurik)
	git("a:held", put("a", 0, "again"))
	if got := h.holds(); got != "a@4 c@3 d/b@2 e@1" {
		t.Errorf("%q", got)
	}
}

// TestWhatIsWrittenHoldsTogether sends changes at random, and looks at everything after each: every asset is at one place, which it
// claims; no file is a folder; no folder is spelled in two ways; versions count up.
func TestWhatIsWrittenHoldsTogether(t *testing.T) {
	paths := []string{"a", "A", "b", "d/a", "D/a", "d/b", "d", "d/e/f", "d/E/f", "e", "E", "d/a/g", "f", "g", "h/i", "h/j", "H/i"}
	written := 0
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 16))
		h := newHouse(t)
		for range 150 {
			var changes []Change
			for range 1 + r.IntN(3) {
				c := put(paths[r.IntN(len(paths))], r.IntN(3), fmt.Sprint(r.IntN(5)))
				from := paths[r.IntN(len(paths))]
				if a := h.assets[assetpath.Fold(from)]; a != nil && r.IntN(3) > 0 {
					if c.Base = a.Newest; r.IntN(2) == 0 {
						c.MovedFrom = a.Path
					} else if c.Path = a.Path; r.IntN(3) == 0 {
						c = Change{Path: c.Path, Base: c.Base, Gone: true}
					}
				}
				changes = append(changes, c)
			}
			w := Manner{TakeFree: true, Older: r.IntN(2) == 0, Past: r.IntN(5) == 0, Over: r.IntN(2) == 0}
			before := map[int64]int{}
			for _, a := range h.assets {
				before[a.ID] = a.Newest
			}
			had := h.holds()
			p := h.judge(w, changes...)
			if len(p.Refusals) > 0 {
				continue
			}
			h.write(p, Last{Author: "odile"})
			written++
			for _, v := range p.Versions {
				if v.Number != before[v.Asset.ID]+1 {
					t.Fatalf("seed %d: version %d comes behind %d", seed, v.Number, before[v.Asset.ID])
				}
			}
			h.sound(seed, had, w, changes)
		}
	}
	if written < 500 {
		t.Errorf("only %d changes were written", written)
	}
}

func (h *house) sound(seed uint64, had string, w Manner, changes []Change) {
	h.t.Helper()
	files, folders, ids := map[string]bool{}, map[string]string{}, map[int64]bool{}
	if err := h.forest().Range(h.t.Context(), h.root, "", "", func(e *tree.Entry) bool {
		if a := h.assets[e.Key]; a == nil || a.ID != e.Asset || a.Newest != e.Version {
			h.t.Fatalf("seed %d: %s is in the tree as %+v, and claimed by %+v after %+v", seed, e.Key, e, a, changes)
		}
		if ids[e.Asset] {
			h.t.Fatalf("seed %d: asset %d is twice in the tree after %+v", seed, e.Asset, changes)
		}
		files[e.Key], ids[e.Asset] = true, true
		above := assetpath.Folders(e.Key)
		for i, folder := range assetpath.Folders(e.Spelling()) {
			if other := folders[above[i]]; other != "" && other != folder {
				h.t.Fatalf("seed %d: a folder is %s and %s: had %s, %+v after %+v", seed, folder, other, had, w, changes)
			}
			folders[above[i]] = folder
		}
		return true
	}); err != nil {
		h.t.Fatal(err)
	}
	for f := range folders {
		if files[f] {
			h.t.Fatalf("seed %d: %s is a file and a folder after %+v", seed, f, changes)
		}
	}
}
