package service

import (
	"context"
	"fmt"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
)

// checkPaths looks at the paths alone, and at how they go together.
func checkPaths(changes []Change) (refusals []model.Refusal, byFolded map[string]Change) {
	byFolded = make(map[string]Change, len(changes))
	for _, c := range changes {
		if bad := assetpath.Check(c.Path); bad != nil {
			refusals = append(refusals, model.Refusal{Path: printable(c.Path), Reason: bad.Reason, Message: printable(c.Path) + ": " + bad.Message, Remedy: bad.Remedy})
			continue
		}
		f := assetpath.Fold(c.Path)
		if other, twice := byFolded[f]; twice {
			refusals = append(refusals, collision(c.Path, other.Path))
			continue
		}
		byFolded[f] = c
	}
	for _, c := range changes {
		if c.MovedFrom == "" {
			continue
		}
		f := assetpath.Fold(c.MovedFrom)
		other, there := byFolded[f]
		switch {
		case f == rules.File || c.Gone:
			refusals = append(refusals, model.Refusal{Path: printable(c.Path), Reason: "move", Message: printable(c.Path) + ": it can't be moved from " + printable(c.MovedFrom), Remedy: "leave it where it is"})
		case there && other.leaves, there && other.MovedFrom == "" && f != assetpath.Fold(c.Path) && other.Base != 0:
			refusals = append(refusals, model.Refusal{Path: printable(c.Path), Reason: "move", Message: printable(c.Path) + ": " + printable(c.MovedFrom) + " is said to be moved, and something else of it is sent too", Remedy: "run tarn status, and send again"})
		case !there:
			byFolded[f] = Change{Path: c.MovedFrom, Gone: true, leaves: true}
		}
	}
	return refusals, byFolded
}

func collision(path, other string) model.Refusal {
	return model.Refusal{Path: path, Reason: "path-collides", Remedy: "rename one of them",
		Message: fmt.Sprintf("%s: it would be the same file as %s on some systems", path, other)}
}

// judge decides about one change against the locked row of its asset.
func (st *staged) judge(c Change, a *records.Asset, takeFree bool) *model.Refusal {
	base := a.Newest
	if a.Gone {
		base = 0
	}
	switch {
	case c.Base != base && base == 0 && c.Gone:
		return &model.Refusal{Path: c.Path, Reason: "behind", Message: c.Path + ": it is gone already", Remedy: "run tarn update first"}
	case c.Base != base && base == 0:
		return &model.Refusal{Path: c.Path, Reason: "behind", Message: c.Path + ": it was removed since by somebody else", Remedy: "run tarn update first, then send it as a new file if it is still wanted"}
	case c.Base != base && c.Base == 0 && a.Path != c.Path:
		r := collision(c.Path, a.Path)
		return &r
	case c.Base != base && c.Base == 0:
		return &model.Refusal{Path: c.Path, Reason: "behind", Message: fmt.Sprintf("%s: somebody else has sent a file of this name (version %d)", c.Path, base), Remedy: "run tarn update first"}
	case c.Base != base:
		return lock.Behind(c.Path, c.Base, base)
	case c.Gone && base == 0:
		return &model.Refusal{Path: c.Path, Reason: "unknown", Message: c.Path + ": there is no such asset", Remedy: "run tarn update first"}
	case base != 0 && a.Path != c.Path && c.MovedFrom == "":
		r := collision(c.Path, a.Path)
		return &r
	}
	// A new asset needs no lock, unless somebody has its path.
	takeFree = takeFree || base == 0 || st.unread || st.rules.Decide(a.Path).Lock == rules.Free
	return terms(st.project, st.now).MaySend(lock.Carry(a.Lock, c.Path), st.place, c.Fence, takeFree)
}

// judgePlace decides whether a moved asset may come to the place whose row is there.
func (st *staged) judgePlace(c Change, a, there *records.Asset, leaving map[string]bool) *model.Refusal {
	if there == nil || there.ID == a.ID {
		return nil // only its spelling changes
	}
	leaves := leaving[there.Folded]
	if !there.Gone && !leaves {
		return &model.Refusal{Path: c.Path, Reason: "behind", Message: fmt.Sprintf("%s: there is an asset of this name (version %d)", c.Path, there.Newest), Remedy: "run tarn update first, or move it elsewhere"}
	}
	if leaves {
		return nil
	}
	// The name may be kept for somebody, or offered to the next in line for it.
	if r := terms(st.project, st.now).MaySend(lock.Carry(there.Lock, c.Path), st.place, 0, true); r != nil {
		return r
	}
	if !there.Lock.Free() || len(there.Lock.Line) > 0 {
		st.taken[a.ID] = there
	}
	return nil
}

// judgeKind refuses new assets where the rules want none. What was an asset before may come back.
func (st *staged) judgeKind(c Change, a *records.Asset) *model.Refusal {
	d := st.rules.Decide(c.Path)
	if d.Kind == rules.Asset || a.Gone && a.Newest > 0 || st.unread {
		return nil
	}
	message := fmt.Sprintf("%s: the rules leave it out: %s", c.Path, d.KindBy)
	if d.Kind == rules.Code {
		message = fmt.Sprintf("%s: the rules leave it to the main history: %s", c.Path, d.KindBy)
	}
	return &model.Refusal{Path: c.Path, Reason: "not-an-asset", Message: message, Remedy: "tarn rules include PATH makes an exception, or puts it to the leads"}
}

// neighbours refuses new paths that would make a file of a folder, a folder of a file, or spell a folder in a second way.
// What goes in the same send does not stand in the way.
func (st *staged) neighbours(ctx context.Context, forest *tree.Forest, root chunk.Digest) (refusals []model.Refusal, err error) {
	fresh, sent := st.fresh, st.byFolded
	spelled := map[string]string{}
	places := map[string]bool{}
	for _, c := range fresh {
		places[assetpath.Fold(c.Path)] = true
		for _, folder := range assetpath.Folders(c.Path) {
			f := assetpath.Fold(folder)
			places[f] = true
			if other, ok := spelled[f]; ok && other != folder {
				refusals = append(refusals, folderCollision(c.Path, folder, other))
			} else {
				spelled[f] = folder
			}
		}
	}
	if len(places) == 0 {
		return refusals, nil
	}
	at, err := forest.Get(ctx, root, sortedKeys(places))
	if err != nil {
		return nil, err
	}
	below := map[string]string{}
	for _, place := range sortedKeys(places) { // in order, so that neighbours find the same nodes loaded
		from, end := tree.Below(place + "/")
		if err := forest.Range(ctx, root, from, end, func(e *tree.Entry) bool {
			if sent[e.Key].Gone {
				return true
			}
			below[place] = e.Spelling()
			return false
		}); err != nil {
			return nil, err
		}
	}
	for _, c := range fresh {
		f := assetpath.Fold(c.Path)
		if other, ok := below[f]; ok {
			refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "path-collides", Remedy: "give it another name",
				Message: fmt.Sprintf("%s: there is a folder of that name, with %s in it", c.Path, other)})
		}
		for _, folder := range assetpath.Folders(c.Path) {
			ff := assetpath.Fold(folder)
			entry, ok := at[ff]
			file := entry.Spelling()
			if goes, mine := sent[ff]; mine {
				ok, file = !goes.Gone, goes.Path
			}
			if ok {
				refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "path-collides", Remedy: "give one of them another name",
					Message: fmt.Sprintf("%s: %s is a file, and can't be a folder too", c.Path, file)})
			}
			if other, ok := below[ff]; ok && other[:min(len(other), len(folder))] != folder && len(assetpath.Folders(other)) > 0 {
				refusals = append(refusals, folderCollision(c.Path, folder, spelling(other, folder)))
			}
		}
	}
	return refusals, nil
}

// spelling is how other spells the folder at the depth of folder.
func spelling(other, folder string) string {
	return assetpath.Folders(other)[strings.Count(folder, "/")]
}

func folderCollision(path, folder, other string) model.Refusal {
	return model.Refusal{Path: path, Reason: "path-collides", Remedy: "rename the folder to " + other,
		Message: fmt.Sprintf("%s: the folder %s is spelled %s in this project, and on some systems they are one", path, folder, other)}
}
