package change

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lines"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
)

// Decision says what becomes of assets that a merge does not put together by itself: those whose folded paths match. Of several, the last
// one counts. Way is one of model.Ways.
type Decision struct {
	rules.Pattern
	Way string
}

// Tip is the newest version that a branch has of an asset, 0 for none; Gone says that it is a deletion.
type Tip struct {
	Number int
	Gone   bool
}

// Met is what the two branches have of an asset that both changed, and how their newest versions stand to each other.
type Met struct {
	Here, There Tip
	// Newer is where the version is that descends from the other: [tree.Keep] for here, [tree.Take] for there, and [tree.Undecided] where
	// neither does.
	Newer tree.Side
}

// Merging is what a merge is judged by, besides the three trees.
type Merging struct {
	// From is the branch that comes in.
	From   string
	Terms  lock.Terms
	Who    lock.Place
	Lead   bool
	Decide []Decision
	// Met are the assets that both sides changed, by id; Tips those of all that the merge touches.
	Met   map[int64]Met
	Locks map[int64]lock.State
	// Texts are what became of contents that are to be merged line by line.
	Texts map[Sides]Text
}

// Sides are the contents that a text is put together from: in the common state, here, and there; zero where there is none.
type Sides [3]chunk.Digest

// SidesOf are those of an asset that both sides changed.
func SidesOf(m tree.Met) (s Sides) {
	for i, e := range []*tree.Entry{m.Base, m.Here, m.There} {
		if e != nil {
			s[i] = e.Content
		}
	}
	return s
}

// Text is what a merge line by line came to: a content, or places where both sides changed the same lines, or why it is no text.
type Text struct {
	Content chunk.Digest
	Size    int64
	Places  []lines.Place
	Err     error
}

// Undecided is an asset that somebody has to decide about. Ways are those that are open; Tried is the one that was chosen, and is not.
type Undecided struct {
	tree.Clash
	Ways   []string
	Tried  string
	Text   *Text
	Folded string
}

// Made is a version that a merge makes. Entry is nil for a deletion.
type Made struct {
	tree.Join
	Parents [2]int
}

// Aside is a new asset that a merge makes of what the other side has, under a name of its own.
type Aside struct {
	Path  string
	Entry tree.Entry // its content, size and mode
}

// Merge is the plan of a merge: what comes as it is there, what becomes a new version, what gets a name of its own, and what nobody has
// decided. It is carried out only where that last list and Refusals are empty.
type Merge struct {
	Came      []tree.Met
	Made      []Made
	Asides    []Aside
	Undecided []Undecided
	Refusals  []model.Refusal
	merged    *tree.Merged
}

// folded is the path by which an asset is decided about: what it is here, or else there, or in the common state.
func folded(m tree.Met) string {
	for _, e := range []*tree.Entry{m.Here, m.There, m.Base} {
		if e != nil {
			return e.Key
		}
	}
	return ""
}

// way is what was decided about a place, "" for nothing.
func (g *Merging) way(place string) (way string) {
	for _, d := range g.Decide {
		if d.Match(place) {
			way = d.Way
		}
	}
	return way
}

// Side answers [tree.Forest.Merge]: where one side's version descends from the other's it goes by itself, and else as it was decided.
func (g *Merging) Side(m tree.Met) tree.Side {
	met := g.Met[m.ID]
	if met.Newer != tree.Undecided {
		return met.Newer
	}
	switch g.way(folded(m)) {
	case model.WayHere:
		return tree.JoinHere
	case model.WayThere:
		return tree.JoinThere
	case model.WayBoth:
		if bothEdited(m) {
			return tree.JoinHere
		}
	case model.WayLines:
		if t, ok := g.Texts[SidesOf(m)]; ok && t.Err == nil && len(t.Places) == 0 && bothEdited(m) {
			return tree.JoinHere
		}
	}
	return tree.Undecided
}

// bothEdited reports whether both sides have a content of their own.
func bothEdited(m tree.Met) bool {
	return m.Here != nil && m.There != nil && m.Here.Content != m.There.Content &&
		(m.Base == nil || m.Here.Content != m.Base.Content && m.There.Content != m.Base.Content)
}

// ways are those that are open for a clash. Nobody is offered to put two pictures together line by line; whoever asks for it nonetheless
// gets it where they are text.
func ways(c tree.Clash, text *Text) []string {
	switch c.Why {
	case tree.BothEdited:
		open := []string{model.WayHere, model.WayThere, model.WayBoth}
		switch media.KindOf(Spelled(c.Met)) {
		case media.Texture, media.Model, media.Sound, media.Document:
			if text == nil {
				return open
			}
		}
		if text != nil && text.Err != nil {
			return open
		}
		return append(open, model.WayLines)
	case tree.PlaceTaken, tree.FileFolder:
		return []string{model.WayHere, model.WayBoth}
	}
	return []string{model.WayHere, model.WayThere}
}

// Plan decides about what the trees came to. taken reports whether something is at a folded path on either side.
func (g *Merging) Plan(merged *tree.Merged, taken func(string) bool) *Merge {
	p := &Merge{Came: merged.Came, merged: merged}
	named := map[string]bool{}
	aside := func(spelling string) (string, bool) {
		name := Beside(spelling, g.From, func(folded string) bool { return named[folded] || taken(folded) })
		named[assetpath.Fold(name)] = true
		return name, assetpath.Check(name) == nil
	}
	var clashes []tree.Clash
	for _, c := range merged.Clashes {
		way := g.way(folded(c.Met))
		switch {
		case c.Why != tree.PlaceTaken && c.Why != tree.FileFolder || way != model.WayHere && way != model.WayBoth:
		case way == model.WayHere:
			merged.Joined = append(merged.Joined, tree.Join{Met: c.Met, Entry: c.Here})
			continue
		default:
			if name, ok := aside(c.There.Spelling()); ok {
				merged.Joined = append(merged.Joined, tree.Join{Met: c.Met, Entry: entryAt(*c.There, name)})
				continue
			}
		}
		clashes = append(clashes, c)
		u := Undecided{Clash: c, Tried: way, Folded: folded(c.Met)}
		if t, ok := g.Texts[SidesOf(c.Met)]; ok && way == model.WayLines {
			u.Text = &t
		}
		u.Ways = ways(c, u.Text)
		p.Undecided = append(p.Undecided, u)
	}
	merged.Clashes = clashes
	slices.SortFunc(p.Undecided, func(a, b Undecided) int { return strings.Compare(a.Folded, b.Folded) })
	for i, j := range merged.Joined {
		met := g.Met[j.Met.ID]
		if met.Newer == tree.Undecided && j.Here != nil && j.There != nil && j.Entry != nil {
			text := g.Texts[SidesOf(j.Met)]
			switch way := g.way(folded(j.Met)); {
			case way == model.WayLines && text.Content != (chunk.Digest{}):
				entry := *j.Entry
				entry.Content, entry.Size = text.Content, text.Size
				merged.Joined[i].Entry = &entry
			case way == model.WayBoth && bothEdited(j.Met):
				name, ok := aside(j.There.Spelling())
				if !ok {
					p.refuse(j.Met, "long", "no other file can stand beside it: its name would be too long", "decide for here or there")
					continue
				}
				p.Asides = append(p.Asides, Aside{name, *j.There})
			}
		}
		p.Made = append(p.Made, Made{merged.Joined[i], [2]int{met.Here.Number, met.There.Number}})
	}
	g.ask(p)
	return p
}

// ask refuses what locks and rights stand in the way of. What only points at versions that are there needs that nobody else holds it; a new
// version needs its lock, or takes it for the length of the merge.
func (g *Merging) ask(p *Merge) {
	rights := func(m tree.Met) {
		if folded(m) == rules.File && !g.Lead {
			p.refuse(m, "role", "only a lead changes the rules, and the other branch has others", "ask a lead to merge it")
		}
	}
	for _, m := range p.Came {
		rights(m)
		s := g.Locks[m.ID]
		if s, _ := g.Terms.Tick(s); !s.Free() && s.Holder.Handle != g.Who.Handle {
			p.Refusals = append(p.Refusals, *g.Terms.MaySend(lock.Carry(s, Spelled(m)), g.Who, 0, true))
		}
	}
	for _, made := range p.Made {
		rights(made.Met)
		s := g.Locks[made.Met.ID]
		if s.Holder.Handle == g.Who.Handle {
			continue
		}
		if r := g.Terms.MaySend(lock.Carry(s, Spelled(made.Met)), g.Who, 0, true); r != nil {
			p.Refusals = append(p.Refusals, *r)
		}
	}
	slices.SortFunc(p.Refusals, func(a, b model.Refusal) int { return strings.Compare(a.Path, b.Path) })
}

func (p *Merge) refuse(m tree.Met, reason, message, remedy string) {
	path := Spelled(m)
	p.Refusals = append(p.Refusals, model.Refusal{Path: path, Reason: reason, Message: path + ": " + message, Remedy: remedy})
}

// Spelled is how an asset that met is called: here, or else there, or in the common state.
func Spelled(m tree.Met) string {
	for _, e := range []*tree.Entry{m.Here, m.There, m.Base} {
		if e != nil {
			return e.Spelling()
		}
	}
	return ""
}

// Changes are what the plan changes in the tree that stays. number gives new versions theirs, and asides are the ids of the new assets.
func (p *Merge) Changes(number func(asset int64) int, asides []int64) []tree.Change {
	list := p.merged.Changes(func(j tree.Join) int { return number(j.Met.ID) })
	for i, a := range p.Asides {
		e := entryAt(a.Entry, a.Path)
		e.Asset, e.Version = asides[i], 1
		list = append(list, tree.Change{Key: e.Key, Entry: e})
	}
	return list
}

// entryAt is an entry at another path.
func entryAt(e tree.Entry, path string) *tree.Entry {
	if e.Key, e.Path = assetpath.Fold(path), path; e.Path == e.Key {
		e.Path = ""
	}
	return &e
}

// Beside is a clear name for what a branch has, beside a path: it says the branch.
func Beside(spelling, branch string, taken func(folded string) bool) string {
	ext := path.Ext(spelling)
	stem := strings.TrimSuffix(spelling, ext) + " (" + strings.ReplaceAll(branch, "/", "-")
	name := stem + ")" + ext
	for n := 2; taken(assetpath.Fold(name)); n++ {
		name = fmt.Sprintf("%s %d)%s", stem, n, ext)
	}
	return name
}
