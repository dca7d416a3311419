package change

import (
	"fmt"
	"slices"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/tree"
)

// Fit makes changes of a commit ones that can follow what is there: an asset that is not any more where it is said to come from, or
// can't come where it goes, begins anew at its new place, and what is at the old one stays.
func (l *Laid) Fit(s *State) {
	for again := true; again; { // what stays may be in the way of what would have come there
		again = false
		for _, f := range l.order {
			if c := l.at[f]; c.MovedFrom != "" && !l.follows(s, f, c.Change) {
				o := assetpath.Fold(c.MovedFrom)
				c.MovedFrom, again = "", true
				if l.at[f] = c; l.at[o].leaves {
					delete(l.at, o)
				}
				delete(l.left, o)
			}
		}
	}
	l.order = slices.DeleteFunc(l.order, func(f string) bool { _, is := l.at[f]; return !is })
}

// follows reports whether a moved asset can come to the place f from where it is.
func (l *Laid) follows(s *State, f string, c Change) bool {
	o := assetpath.Fold(c.MovedFrom)
	from := s.Assets[o]
	if from == nil || from.Held == nil {
		return false
	}
	if then := l.at[o]; o != f && !then.leaves && then.MovedFrom == "" {
		return false // something else begins there
	}
	r, _ := s.place(l, c, from, s.Assets[f])
	return r == nil
}

// past decides about one change of a commit: what it is based on is what is there. Nobody's lock is passed over, nor what was handed off
// here since, unless that is meant.
func (j *judging) past(f string, c Change, a *Asset) {
	size, known := j.s.Sizes[c.Content]
	switch {
	case a == nil:
		j.refuse(c.Path, "behind", c.Path+": somebody else moved it just now", "run the command again")
	case c.Gone && a.Held == nil, c.MovedFrom == "" && already(c, a.Held):
	case !c.Gone && !known:
		j.Missing = append(j.Missing, c.Content)
	case !c.Gone && size != c.Size:
		j.refuse(c.Path, "size", c.Path+": its size does not agree with its content", "run the command again")
	case !a.Lock.Free():
		j.refuse(c.Path, "held", fmt.Sprintf("%s: %s holds it in %s", c.Path, a.Lock.Holder.Handle, a.Lock.Holder.Workspace),
			"tarn ask -m REASON asks them to let go; the other commits before this one are in")
	case a.Newest > 0 && a.Last.Commit == "" && !j.w.Over:
		// What was removed here since counts, too.
		j.refuse(c.Path, "behind", fmt.Sprintf("%s: it was changed in git, and handed off here since by %s (h%d)", c.Path, a.Last.Author,
			a.Last.Handoff),
			"tarn adopt --git-wins makes git's the newest, and keeps what was handed off as a version before")
	default:
		j.version(f, c, a)
	}
}

// already reports whether an entry is what a change would make of it.
func already(c Change, e *tree.Entry) bool {
	return !c.Gone && e != nil && e.Content == c.Content && (e.Mode == tree.Executable) == c.Executable && e.Spelling() == c.Path
}
