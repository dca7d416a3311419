// Package change decides what a change would do to a project. Given the rows that were loaded for it, it returns the rows to write, or
// every reason not to. Sends, checks, rollbacks and pasts brought in from a git history all go through it; a check ends here.
//
// It is not for locks by themselves (package lock), and it stores nothing: whoever asks has locked the rows before it read them, and
// writes the plan in the same transaction.
package change

import (
	"sort"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
)

// Change is what is done to one asset.
type Change struct {
	Path string
	// MovedFrom is where the asset was, "" where it stays.
	MovedFrom string
	// Base is the version that it was made from, 0 for a new asset.
	Base int
	// Gone says that the asset goes. It has no content then.
	Gone bool
	// Content is the root of its manifest; Digest, where it is there, the BLAKE3 of the whole that the sender claims; Size in bytes.
	Content    chunk.Digest
	Digest     *chunk.Digest
	Size       int64
	Executable bool
	// Fence is that of the lock that the sender has, 0 for none.
	Fence int64
}

// Laid are changes laid out by place: what each leaves at its folded path.
type Laid struct {
	// Refusals are those for which the paths suffice.
	Refusals []model.Refusal

	at map[string]placed
	// left are the folded paths that moved assets leave.
	left map[string]bool
	// order are the keys of at, sorted.
	order []string
}

// placed is a change at its place; leaves says that it stands for the place that a moved asset leaves.
type placed struct {
	Change
	leaves bool
}

// Lay looks at the paths alone, and at how they go together.
func Lay(changes []Change) *Laid {
	l := &Laid{at: make(map[string]placed, len(changes)), left: map[string]bool{}}
	for _, c := range changes {
		if bad := assetpath.Check(c.Path); bad != nil {
			shown := assetpath.Printable(c.Path)
			l.refuse(shown, bad.Reason, shown+": "+bad.Message, bad.Remedy)
			continue
		}
		f := assetpath.Fold(c.Path)
		if other, twice := l.at[f]; twice {
			l.Refusals = append(l.Refusals, collision(c.Path, other.Path))
			continue
		}
		l.at[f] = placed{Change: c}
	}
	for _, c := range changes {
		if c.MovedFrom != "" {
			l.leave(c)
		}
	}
	l.order = make([]string, 0, len(l.at))
	for f := range l.at {
		l.order = append(l.order, f)
	}
	sort.Strings(l.order)
	return l
}

// leave notes the place that a moved asset leaves, unless something else of the same changes is there.
func (l *Laid) leave(c Change) {
	f := assetpath.Fold(c.MovedFrom)
	twice := l.left[f]
	l.left[f] = true
	path, from := assetpath.Printable(c.Path), assetpath.Printable(c.MovedFrom)
	other, there := l.at[f]
	switch {
	case f == rules.File || c.Gone:
		l.refuse(path, "move", path+": it can't be moved from "+from, "leave it where it is")
	case twice, there && other.MovedFrom == "" && f != assetpath.Fold(c.Path) && other.Base != 0:
		l.refuse(path, "move", path+": "+from+" is said to be moved, and something else of it is sent too", "run tarn status, and send again")
	case !there:
		l.at[f] = placed{Change: Change{Path: c.MovedFrom, Gone: true}, leaves: true}
	}
}

func (l *Laid) refuse(path, reason, message, remedy string) {
	l.Refusals = append(l.Refusals, model.Refusal{Path: path, Reason: reason, Message: message, Remedy: remedy})
}

// Places are the folded paths that the changes are about, sorted: those whose rows have to be loaded.
func (l *Laid) Places() []string { return l.order }

// Path is how the changes spell a place.
func (l *Laid) Path(place string) string { return l.at[place].Path }

// ChangesRules reports whether the rules are among what is changed.
func (l *Laid) ChangesRules() bool {
	_, changed := l.at[rules.File]
	return changed
}

// Rules is the content that the rules get; ok is false where they stay as they are, or go.
func (l *Laid) Rules() (content chunk.Digest, ok bool) {
	c, changed := l.at[rules.File]
	return c.Content, changed && !c.Gone
}

// Contents are the contents that are named, by folded path in order.
func (l *Laid) Contents() (list []chunk.Digest) {
	for _, f := range l.order {
		if c := l.at[f]; !c.Gone {
			list = append(list, c.Content)
		}
	}
	return list
}

// Asset is an asset as it is over all branches, with what the branch that is changed has of it.
type Asset struct {
	// ID is 0 for a path that was not claimed yet.
	ID int64
	// Path is the claimed one, Folded what it is claimed by.
	Path   string
	Folded string
	// Newest is the number of its newest version on the branch, 0 for none; Numbered that of its newest on any.
	Newest   int
	Numbered int
	Lock     lock.State
	// Held is what the branch has at this place; nil where it has nothing.
	Held *tree.Entry
	// Last is who made its newest version there, and whether that was in git. Only a past asks for it.
	Last Last
}

// Last is where a newest version came from. Commit is that of a git history, "" where it was handed off here.
type Last struct {
	Author  string
	Handoff int
	Commit  string
}

// Earlier is a version that came before the newest.
type Earlier struct {
	Number int
	Author string
	At     time.Time
}

// State is what was loaded of a project, for changes that were laid out.
type State struct {
	Terms lock.Terms
	// Who makes the change, from where; Lead says that they may change the rules.
	Who  lock.Place
	Lead bool
	// Rules govern it: those that it brings, or else the newest. Unread says that it brings some that are not here yet: what only they can
	// decide is not refused. Broken is why those that it brings can't be read.
	Rules  *rules.Rules
	Unread bool
	Broken error
	// Assets has one for each of the places.
	Assets map[string]*Asset
	// Sizes are those of the contents that are known, in bytes.
	Sizes map[chunk.Digest]int64
	// Earlier are the versions before the newest that have the content that their asset gets, by id; see Laid.Repeats.
	Earlier map[int64]Earlier
	// Around is what is near the places of new assets; see Laid.Look.
	Around Around
}

// Manner is how somebody wants a change.
type Manner struct {
	// TakeFree takes the locks that nobody holds, for the length of the change.
	TakeFree bool
	// KeepLocks keeps the locks that one has.
	KeepLocks bool
	// Older says that going back to the content of an older version is meant.
	Older bool
	// Past says that it comes from a git history, and is based on whatever is there; Over, that what was handed off here since becomes a
	// version before it.
	Past, Over bool
}
