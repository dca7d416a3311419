package tree

import (
	"context"
	"errors"
	"sort"
	"strings"

	"kettletarn/internal/core/chunk"
)

// Met is one asset as three trees have it: the common one, the one that stays, and the one that comes into it. Nil is where one has it not.
type Met struct {
	ID                int64
	Base, Here, There *Entry
}

// Side is what a caller knows, or has decided, of an asset that both sides changed.
type Side int

const (
	// Undecided leaves it to the merge: what changed on one side only is put together, the rest is a clash.
	Undecided Side = iota
	// Keep leaves it as it is here: what is here was made from what is there.
	Keep
	// Take takes it whole: what is there was made from what is here.
	Take
	// JoinHere and JoinThere make a new version, in which one side counts where both did the same thing in two ways; what only one did goes
	// along. Somebody decided so.
	JoinHere
	JoinThere
)

// Why two sides do not go together by themselves.
const (
	BothEdited  = "both-edited" // two contents
	BothMoved   = "both-moved"  // to two places
	GoneHere    = "gone-here"   // gone here, and changed there
	GoneThere   = "gone-there"  // gone there, and changed here
	PlaceTaken  = "place-taken" // another asset is at its place
	FileFolder  = "file-folder" // a file would be a folder, too
	nothingLeft = ""
)

// Clash is an asset that stays as it is here until somebody decides. Other, for the last two, is what is in its way.
type Clash struct {
	Met
	Why   string
	Other *Entry
}

// Join is an asset that has something of both sides. Entry is what becomes of it: a new version, whose number is not set; nil where it
// goes, or went on both sides.
type Join struct {
	Met
	Entry *Entry
}

// Merged is what comes of a merge, each list in the order of assets: what came whole as it is there, what was joined, and what clashes.
type Merged struct {
	Came    []Met
	Joined  []Join
	Clashes []Clash
}

// Merge brings what changed from base to there into here, asset by asset: moves are whole, so that one side's move and the other's edit go
// together. What comes into a folder that is here takes over how that is spelled. What does not go together stays as it is here. side,
// unless nil, is asked about each asset that both sides changed. It takes as long as the two sides have changes. deleted are assets of
// which some deletion is known to one side alone: where a tree has nothing of them, that does not say that nothing happened.
//
// The result is as sound as here is: each asset at one place, no file that is a folder, no folder in two spellings.
func (f *Forest) Merge(ctx context.Context, base, here, there chunk.Digest, side func(Met) Side, deleted ...int64) (*Merged, error) {
	ours, err := f.Steps(ctx, base, here)
	if err != nil {
		return nil, err
	}
	theirs, err := f.Steps(ctx, base, there)
	if err != nil {
		return nil, err
	}
	m := &merge{forest: f, here: here, coming: map[int64]*coming{}}
	apart := make(map[int64]bool, len(deleted))
	for _, id := range deleted {
		apart[id] = true
		if _, seen := theirs[id]; !seen {
			theirs[id] = Step{ours[id].From, ours[id].From} // it left that as it was
		}
	}
	for id, t := range theirs {
		met := Met{ID: id, Base: t.From, Here: t.From, There: t.To}
		o, both := ours[id]
		if both {
			met.Here = o.To
		}
		both = both || apart[id]
		if c := meet(met, both, side); c != nil {
			m.coming[id] = c
		}
	}
	if err := m.settle(ctx); err != nil {
		return nil, err
	}
	return m.result(), nil
}

// Apply returns the root that comes of a merge. number gives a joined asset its version.
func (m *Merged) Apply(ctx context.Context, f *Forest, here chunk.Digest, number func(Join) int) (chunk.Digest, error) {
	return f.Apply(ctx, here, m.Changes(number))
}

// Changes are what a merge changes in the tree that stays. number gives a joined asset its version.
func (m *Merged) Changes(number func(Join) int) []Change {
	at := map[string]*Entry{}
	each := func(was, now *Entry) {
		if was != nil && at[was.Key] == nil {
			at[was.Key] = nil
		}
		if now != nil {
			at[now.Key] = now
		}
	}
	for _, c := range m.Came {
		each(c.Here, c.There)
	}
	for _, j := range m.Joined {
		e := j.Entry
		if e != nil {
			numbered := *e
			numbered.Version = number(j)
			e = &numbered
		}
		each(j.Here, e)
	}
	changes := make([]Change, 0, len(at))
	for key, e := range at {
		changes = append(changes, Change{Key: key, Entry: e})
	}
	return changes
}

// Step is what became of an asset between two trees: From is what the first one has of it, To what the second one has, nil for nothing.
type Step struct{ From, To *Entry }

// Steps are the assets of which two trees have something else, by id: a move is one step. It takes as long as they differ.
func (f *Forest) Steps(ctx context.Context, a, b chunk.Digest) (map[int64]Step, error) {
	found := map[int64]Step{}
	err := f.Diff(ctx, a, b, "", func(d Difference) bool {
		if d.From != nil {
			s := found[d.From.Asset]
			s.From = d.From
			found[d.From.Asset] = s
		}
		if d.To != nil {
			s := found[d.To.Asset]
			s.To = d.To
			found[d.To.Asset] = s
		}
		return ctx.Err() == nil
	})
	return found, errors.Join(err, ctx.Err())
}

// coming is an asset that the merge changes, or one that clashes. joined says that it becomes a new version.
type coming struct {
	Met
	to     *Entry
	joined bool
	why    string
	other  *Entry
}

// meet decides about one asset without looking around; nil where nothing is to be done.
func meet(m Met, both bool, side func(Met) Side) *coming {
	if !both {
		return &coming{Met: m, to: m.There}
	}
	if m.Here != nil && Same(m.Here, m.There) {
		return nil
	}
	know := Undecided
	if side != nil {
		know = side(m)
	}
	if m.Here == nil && m.There == nil {
		// Deleted twice: the two deletions become one, unless one of them knew of the other.
		if know == Keep || know == Take {
			return nil
		}
		return &coming{Met: m, joined: true}
	}
	switch know {
	case Keep:
		return nil
	case Take:
		return &coming{Met: m, to: m.There}
	}
	counts := m.There // where both did the same thing
	if know == JoinHere {
		counts = m.Here
	}
	switch {
	case m.Here != nil && m.There != nil:
	case know != Undecided:
		return &coming{Met: m, to: counts, joined: true}
	case m.Here == nil:
		return &coming{Met: m, why: GoneHere}
	default:
		return &coming{Met: m, why: GoneThere}
	}
	to := *m.Here
	edited := func(e *Entry) bool { return m.Base == nil || e.Content != m.Base.Content || e.Mode != m.Base.Mode }
	if m.There.Content != m.Here.Content || m.There.Mode != m.Here.Mode {
		from := m.There
		switch {
		case edited(m.There) && edited(m.Here) && know == Undecided:
			return &coming{Met: m, why: BothEdited}
		case edited(m.There) && edited(m.Here):
			from = counts
		case edited(m.Here):
			from = m.Here
		}
		to.Content, to.Size, to.Mode = from.Content, from.Size, from.Mode
	}
	moved := func(e *Entry) bool { return m.Base == nil || e.Spelling() != m.Base.Spelling() }
	if m.There.Spelling() != m.Here.Spelling() {
		from := m.There
		switch {
		case moved(m.There) && moved(m.Here) && know == Undecided:
			return &coming{Met: m, why: BothMoved}
		case moved(m.There) && moved(m.Here):
			from = counts
		case moved(m.Here):
			from = m.Here
		}
		to.Key, to.Path = from.Key, from.Path
	}
	return &coming{Met: m, to: &to, joined: true}
}

// Same reports whether two trees have the same of an asset: both nothing, or the same entry.
func Same(a, b *Entry) bool {
	return a == nil && b == nil || a != nil && b != nil && *a == *b
}

// merge is the work of Merge, once what each asset becomes is known.
type merge struct {
	forest *Forest
	here   chunk.Digest
	coming map[int64]*coming
	order  []int64
}

// settle takes back what finds its place taken. That may put others in the way, which would have come to where it stays: so it looks again,
// until nothing is in the way of anything. Every look takes something back, or is the last.
func (m *merge) settle(ctx context.Context) error {
	for id := range m.coming {
		m.order = append(m.order, id)
	}
	sort.Slice(m.order, func(i, j int) bool { return m.order[i] < m.order[j] })
	for again := true; again; {
		around, err := m.look(ctx)
		if err != nil {
			return err
		}
		again = false
		for _, id := range m.order {
			c := m.coming[id]
			if c.why != nothingLeft || c.to == nil {
				continue
			}
			if why, other := around.inTheWay(c); why != nothingLeft {
				c.why, c.other, again = why, other, true
				around.takeBack(c)
			}
		}
		if !again {
			around.spell(m)
		}
	}
	return nil
}

// around is what there will be near the places to which something comes.
type around struct {
	// stays are the entries of here at those places and the folders above them that nothing takes away; put is what comes, by key.
	stays map[string]*Entry
	put   map[string]*coming
	// below is, for each of those places, something of here that stays in a folder of that name; puts are those that come into it.
	below map[string]*Entry
	puts  map[string][]*coming
}

// moves reports whether it comes to a place that it has not here.
func (c *coming) moves() bool {
	return c.to != nil && (c.Here == nil || c.Here.Key != c.to.Key || c.Here.Spelling() != c.to.Spelling())
}

func (m *merge) look(ctx context.Context) (*around, error) {
	a := &around{stays: map[string]*Entry{}, put: map[string]*coming{}, below: map[string]*Entry{}, puts: map[string][]*coming{}}
	leaves, asked := map[string]int64{}, map[string]bool{}
	for _, id := range m.order {
		c := m.coming[id]
		if c.why != nothingLeft {
			continue
		}
		if c.Here != nil && (c.to == nil || c.moves()) {
			leaves[c.Here.Key] = id
		}
		if !c.moves() {
			continue
		}
		if a.put[c.to.Key] == nil {
			a.put[c.to.Key] = c
		}
		asked[c.to.Key] = true
		for _, folder := range folders(c.to.Key) {
			asked[folder] = true
			a.puts[folder] = append(a.puts[folder], c)
		}
	}
	keys := make([]string, 0, 2*len(asked))
	for key := range asked {
		keys = append(keys, key, key+"/")
	}
	held, err := m.forest.Get(ctx, m.here, keys)
	if err != nil {
		return nil, err
	}
	for key, e := range held {
		if _, goes := leaves[key]; !goes {
			a.stays[key] = &e
		}
	}
	for key := range asked {
		from, end := Below(key + "/")
		if err := m.forest.Range(ctx, m.here, from, end, func(e *Entry) bool {
			if _, goes := leaves[e.Key]; goes {
				return true
			}
			found := *e
			a.below[key] = &found
			return false
		}); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// inTheWay tells what is in the way of one that comes.
func (a *around) inTheWay(c *coming) (why string, other *Entry) {
	if !c.moves() {
		return nothingLeft, nil
	}
	key := c.to.Key
	if e := a.stays[key]; e != nil && e.Asset != c.to.Asset {
		return PlaceTaken, e
	}
	if first := a.put[key]; first != nil && first != c {
		return PlaceTaken, first.to
	}
	if e := a.below[key]; e != nil {
		return FileFolder, e
	}
	for _, p := range a.puts[key] {
		if p.why == nothingLeft {
			return FileFolder, p.to
		}
	}
	for _, folder := range folders(key) {
		if e := a.stays[folder]; e != nil {
			return FileFolder, e
		}
		if p := a.put[folder]; p != nil && p.why == nothingLeft {
			return FileFolder, p.to
		}
	}
	return nothingLeft, nil
}

// takeBack forgets one that does not come after all, so that it is in nobody's way for the rest of this look.
func (a *around) takeBack(c *coming) {
	if a.put[c.to.Key] == c {
		delete(a.put, c.to.Key)
	}
}

// spell gives what comes into a folder the spelling of what stays there, or else of the first that comes.
func (a *around) spell(m *merge) {
	spelled := map[string]string{}
	for _, id := range m.order {
		c := m.coming[id]
		if c.why != nothingLeft || !c.moves() {
			continue
		}
		path := c.to.Spelling()
		end := 0
		for _, folder := range folders(c.to.Key) {
			end += 1 + strings.IndexByte(path[end:], '/')
			name := path[:end-1]
			want, known := spelled[folder]
			if e := a.below[folder]; !known && e != nil {
				// As many slashes deep as this one.
				deep := strings.Count(folder, "/") + 1
				want, known = first(e.Spelling(), deep), true
			}
			if !known {
				want = name
			}
			if spelled[folder] = want; want != name {
				path = want + path[end-1:]
				end = len(want) + 1
			}
		}
		if path == c.to.Spelling() {
			continue
		}
		to := *c.to
		if to.Path = path; path == to.Key {
			to.Path = ""
		}
		c.to, c.joined = &to, true
	}
}

// first is the beginning of a path, as many names as that.
func first(path string, names int) string {
	end := 0
	for range names {
		end += 1 + strings.IndexByte(path[end:], '/')
	}
	return path[:end-1]
}

// folders are those above a path, the outermost first.
func folders(path string) (list []string) {
	for i := range len(path) {
		if path[i] == '/' {
			list = append(list, path[:i])
		}
	}
	return list
}

func (m *merge) result() *Merged {
	out := &Merged{}
	for _, id := range m.order {
		switch c := m.coming[id]; {
		case c.why != nothingLeft:
			out.Clashes = append(out.Clashes, Clash{Met: c.Met, Why: c.why, Other: c.other})
		case c.joined:
			out.Joined = append(out.Joined, Join{Met: c.Met, Entry: c.to})
		default:
			out.Came = append(out.Came, c.Met)
		}
	}
	return out
}
