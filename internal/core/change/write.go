package change

import (
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/tree"
)

// write makes the rows of versions that nothing stands against.
func (j *judging) write() {
	edits := make(map[string]*tree.Entry, len(j.l.order))
	for _, v := range j.Versions {
		edits[v.Folded] = entry(v)
		j.lock(v)
	}
	for _, f := range j.l.order {
		e, changed := edits[f]
		if !changed && !j.l.at[f].leaves {
			continue // it is so already
		}
		j.Tree = append(j.Tree, tree.Change{Key: f, Entry: e})
	}
}

// entry is what the branch has at the place of a version; nil where it goes.
func entry(v Version) *tree.Entry {
	if v.Gone {
		return nil
	}
	e := &tree.Entry{Key: v.Folded, Asset: v.Asset.ID, Version: v.Number, Content: v.Content, Size: v.Size}
	if v.Path != v.Folded {
		e.Path = v.Path
	}
	if v.Executable {
		e.Mode = tree.Executable
	}
	return e
}

// lock decides what becomes of an asset's lock: who sends keeps theirs where they asked for it, and gives it back otherwise.
func (j *judging) lock(v Version) {
	now := lock.Carry(v.Asset.Lock, v.Path)
	keep := j.w.KeepLocks && !v.Gone
	if there := j.taken[v.Asset.ID]; there != nil {
		// Who waited for the name waits for what has it now.
		next, events := j.s.Terms.Join(now, there.Lock.Line)
		j.Locks = append(j.Locks, Locked{v.Asset, next, events},
			Locked{Asset: there, Next: lock.State{Path: there.Lock.Path, Fence: there.Lock.Fence + 1}})
		if now = next; !next.Free() && j.w.KeepLocks {
			j.Kept = append(j.Kept, next)
			return
		}
	}
	switch {
	case now.Free():
	case keep:
		j.Kept = append(j.Kept, now)
	default:
		next, events := j.s.Terms.Release(now)
		j.Locks = append(j.Locks, Locked{v.Asset, next, events})
	}
}
