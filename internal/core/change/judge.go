package change

import (
	"fmt"
	"path"
	"slices"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
)

// Plan is what a change comes to: what is to be written, or, where there are Refusals, why nothing is.
type Plan struct {
	Refusals []model.Refusal
	// Lost are the refusals of those who had a lock and no longer have it: who took it away is to be looked up.
	Lost []Lost
	// Missing are contents that are named and not known. Nothing is written before they are.
	Missing []chunk.Digest
	// Versions are the new versions, by folded path in order.
	Versions []Version
	// Tree is what they do to the tree of the branch, by key in order.
	Tree []tree.Change
	// Fresh are the folded paths that get something, in order: those that may collide with what is around them.
	Fresh []string
	// Locks are those that change, and Kept those that the changer has afterwards.
	Locks []Locked
	Kept  []lock.State
}

// Paths are those of the assets that change, as they were claimed before, at most so many.
func (p *Plan) Paths(most int) (list []string) {
	for _, v := range p.Versions[:min(most, len(p.Versions))] {
		list = append(list, v.Asset.Path)
	}
	return list
}

// Edits reports whether all that changes is what assets hold: none comes, goes or moves.
func (p *Plan) Edits() bool {
	return !slices.ContainsFunc(p.Versions, func(v Version) bool { return v.Does() != "edited" || v.Asset.Held.Spelling() != v.Path })
}

// Lost is a refusal, by its place in the list, with what it is about.
type Lost struct {
	Refusal      int
	Asset, Fence int64
}

// Version is a new version of an asset. Content is zero where it goes.
type Version struct {
	Change
	Asset  *Asset
	Folded string
	Number int
}

// Moves reports whether the asset gets another claim.
func (v Version) Moves() bool { return v.Folded != v.Asset.Folded }

// Does is what the version is to people: new, edited, moved or gone.
func (v Version) Does() string {
	was := v.Asset.Held
	switch {
	case v.Gone:
		return "gone"
	case was == nil:
		return "new"
	case was.Spelling() != v.Path && was.Content == v.Content:
		return "moved"
	}
	return "edited"
}

// Locked is the lock of an asset as it is next.
type Locked struct {
	Asset  *Asset
	Next   lock.State
	Events []lock.Event
}

// Judge decides about changes that were laid out, against the state that was loaded for them.
func Judge(l *Laid, s *State, w Manner) Plan {
	j := &judging{l: l, s: s, w: w, taken: map[int64]*Asset{}}
	j.Refusals = append(j.Refusals, l.Refusals...)
	if s.Broken != nil {
		j.refuse(rules.File, "rules-broken", "tarn.toml: "+s.Broken.Error(), "mend it, then send again")
	}
	for _, f := range l.order {
		if c := l.at[f]; !c.leaves {
			j.one(f, c.Change)
		}
	}
	if !w.Past && !w.Older {
		j.repeats()
	}
	j.Refusals = append(j.Refusals, l.Neighbours(s.Around, j.Fresh)...)
	if len(j.Refusals) == 0 {
		j.write()
	}
	return j.Plan
}

type judging struct {
	Plan
	l *Laid
	s *State
	w Manner
	// taken are the assets without versions, or gone, whose claimed names others get, by the ids of those, where somebody holds or waits for
	// the name.
	taken map[int64]*Asset
}

func (j *judging) refuse(path, reason, message, remedy string) {
	j.Refusals = append(j.Refusals, model.Refusal{Path: path, Reason: reason, Message: message, Remedy: remedy})
}

// one decides about one change.
func (j *judging) one(f string, c Change) {
	a := j.s.Assets[f]
	if c.MovedFrom != "" {
		there := a
		if a = j.s.Assets[assetpath.Fold(c.MovedFrom)]; a == nil || a.Held == nil {
			j.refuse(c.Path, "unknown", c.Path+": there is no asset at "+assetpath.Printable(c.MovedFrom)+", where it is said to come from",
				"run tarn update first")
			return
		}
		r, takes := j.s.place(j.l, c, a, there)
		if r != nil {
			j.Refusals = append(j.Refusals, *r)
			return
		}
		if takes {
			j.taken[a.ID] = there
		}
	}
	if j.w.Past {
		j.past(f, c, a)
		return
	}
	if a == nil {
		j.refuse(c.Path, "behind", c.Path+": somebody else moved it just now", "run tarn update first")
		return
	}
	if r := j.based(c, a); r != nil {
		if r.Reason == "lock-lost" {
			j.Lost = append(j.Lost, Lost{len(j.Refusals), a.ID, c.Fence})
		}
		j.Refusals = append(j.Refusals, *r)
		return
	}
	if !c.Gone {
		size, known := j.s.Sizes[c.Content]
		if !known {
			j.Missing = append(j.Missing, c.Content)
		} else if size != c.Size {
			j.refuse(c.Path, "size", c.Path+": its size does not agree with its content", "send it again")
		}
	}
	if !c.Gone && (a.Held == nil || a.Folded != f) {
		if r := j.s.Kind(c.Path, a); r != nil {
			j.Refusals = append(j.Refusals, *r)
			return
		}
	}
	if f == rules.File && !j.s.Lead {
		j.refuse(c.Path, "role", c.Path+": only a lead changes the rules", "tarn rules include PATH puts an exception to the leads")
	}
	j.version(f, c, a)
}

// version makes the next version of an asset. It may collide with what is around it where it comes to a place, or spells a folder
// otherwise.
func (j *judging) version(f string, c Change, a *Asset) {
	if !c.Gone && (a.Held == nil || a.Folded != f || path.Dir(c.Path) != path.Dir(a.Held.Spelling())) {
		j.Fresh = append(j.Fresh, f)
	}
	j.Versions = append(j.Versions, Version{Change: c, Asset: a, Folded: f, Number: a.Numbered + 1})
}

// based decides whether a change may follow what the branch has of the asset, and its lock allows it.
func (j *judging) based(c Change, a *Asset) *model.Refusal {
	base, spelled := 0, a.Path
	if a.Held != nil {
		base, spelled = a.Held.Version, a.Held.Spelling()
	}
	switch {
	case c.Base != base && base == 0 && c.Gone:
		return &model.Refusal{Path: c.Path, Reason: "behind", Message: c.Path + ": it is gone already", Remedy: "run tarn update first"}
	case c.Base != base && base == 0:
		return &model.Refusal{Path: c.Path, Reason: "behind", Message: c.Path + ": it was removed since by somebody else",
			Remedy: "run tarn update first, then send it as a new file if it is still wanted"}
	case c.Base != base && c.Base == 0 && spelled != c.Path:
		r := collision(c.Path, spelled)
		return &r
	case c.Base != base && c.Base == 0:
		return &model.Refusal{Path: c.Path, Reason: "behind",
			Message: fmt.Sprintf("%s: somebody else has sent a file of this name (version %d)", c.Path, base),
			Remedy:  "run tarn update first"}
	case c.Base != base:
		return lock.Behind(c.Path, c.Base, base)
	case c.Gone && base == 0:
		return &model.Refusal{Path: c.Path, Reason: "unknown", Message: c.Path + ": there is no such asset", Remedy: "run tarn update first"}
	case base != 0 && spelled != c.Path && c.MovedFrom == "":
		r := collision(c.Path, spelled)
		return &r
	}
	// A new asset needs no lock, unless somebody has its path.
	take := j.w.TakeFree || base == 0 || j.s.Unread || j.s.Rules.Decide(a.Path).Lock == rules.Free
	return j.s.Terms.MaySend(lock.Carry(a.Lock, c.Path), j.s.Who, c.Fence, take)
}

// place decides whether a moved asset may come to the place whose asset is there, and whether it takes over a claim that somebody has on
// it.
func (s *State) place(l *Laid, c Change, a, there *Asset) (r *model.Refusal, takes bool) {
	if there == nil || there == a {
		return nil, false // only its spelling changes
	}
	leaves := l.left[there.Folded]
	if there.Held != nil && !leaves {
		return &model.Refusal{Path: c.Path, Reason: "behind",
			Message: fmt.Sprintf("%s: there is an asset of this name (version %d)", c.Path, there.Held.Version),
			Remedy:  "run tarn update first, or move it elsewhere"}, false
	}
	if leaves {
		return nil, false
	}
	// The name may be kept for somebody, or offered to the next in line for it.
	if r := s.Terms.MaySend(lock.Carry(there.Lock, c.Path), s.Who, 0, true); r != nil {
		return r, false
	}
	return nil, !there.Lock.Free() || len(there.Lock.Line) > 0
}

// Kind refuses new assets where the rules want none. What was an asset before may come back.
func (s *State) Kind(path string, a *Asset) *model.Refusal {
	d := s.Rules.Decide(path)
	if d.Kind == rules.Asset || a.Held == nil && a.Numbered > 0 || s.Unread {
		return nil
	}
	message := fmt.Sprintf("%s: the rules leave it out: %s", path, d.KindBy)
	if d.Kind == rules.Code {
		message = fmt.Sprintf("%s: the rules leave it to the main history: %s", path, d.KindBy)
	}
	return &model.Refusal{Path: path, Reason: "not-an-asset", Message: message,
		Remedy: "tarn rules include PATH makes an exception, or puts it to the leads"}
}

// Repeats are the assets whose earlier versions are to be looked at, each with the content that it gets. A folder from a backup, or a
// program that saved an old copy, would undo what others did since, and nobody would see it.
func (l *Laid) Repeats(assets map[string]*Asset, known map[chunk.Digest]int64) (list []*Asset, contents []chunk.Digest) {
	for _, f := range l.order {
		c, a := l.at[f], assets[f]
		if c.MovedFrom != "" {
			a = assets[assetpath.Fold(c.MovedFrom)]
		}
		if _, ok := known[c.Content]; ok && !c.Gone && a != nil && a.Held != nil && a.Held.Version > 1 {
			list, contents = append(list, a), append(contents, c.Content)
		}
	}
	return list, contents
}

// repeats refuses changes whose content an older version of their asset has. Who means it says so.
func (j *judging) repeats() {
	for _, v := range j.Versions {
		e, ok := j.s.Earlier[v.Asset.ID]
		if !ok || v.Gone || v.Asset.Held == nil {
			continue
		}
		j.refuse(v.Path, model.OlderVersion,
			fmt.Sprintf("%s: it is the same as version %d by %s of %s, and would undo what came since (version %d)", v.Path, e.Number, e.Author,
				e.At.UTC().Format("2 January 2006"), v.Asset.Held.Version),
			fmt.Sprintf("bring the newest with tarn discard; if going back is meant, tarn rollback --to v%d says so in the history, and tarn send "+
				"--older sends it as it is",
				e.Number))
	}
}
