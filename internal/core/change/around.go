package change

import (
	"context"
	"fmt"
	"path"
	"sort"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
)

// Around is what a branch has near the places of new assets.
type Around struct {
	// files are the entries at those places, and at the folders above them.
	files map[string]tree.Entry
	// below is, for each of them, the spelling of something that stays in a folder of that name.
	below map[string]string
}

// comes reports whether a change puts an asset where none of the branch is, or may spell a folder otherwise.
func comes(c placed, a *Asset) bool {
	return !c.Gone && (a == nil || a.Held == nil || c.MovedFrom != "" || c.Path != a.Held.Spelling())
}

// Look finds what a branch has near the places of new assets. Nodes of the tree are loaded a level at a time, for all of them at once.
func (l *Laid) Look(ctx context.Context, forest *tree.Forest, root chunk.Digest, assets map[string]*Asset) (Around, error) {
	around := Around{below: map[string]string{}}
	places := map[string]bool{}
	for _, f := range l.order {
		if comes(l.at[f], assets[f]) {
			places[f] = true
			for _, folder := range assetpath.Folders(f) {
				places[folder] = true
			}
		}
	}
	if len(places) == 0 {
		return around, nil
	}
	keys, order := make([]string, 0, 2*len(places)), make([]string, 0, len(places))
	for place := range places {
		order = append(order, place)
		keys = append(keys, place, place+"/") // the second is where the search below it begins
	}
	sort.Strings(order)
	sort.Strings(keys)
	var err error
	if around.files, err = forest.Get(ctx, root, keys); err != nil {
		return around, err
	}
	for _, place := range order {
		from, end := tree.Below(place + "/")
		if err := forest.Range(ctx, root, from, end, func(e *tree.Entry) bool {
			if c, changed := l.at[e.Key]; changed && (c.Gone || path.Dir(c.Path) != path.Dir(e.Spelling())) {
				return true // it goes, or its folder is spelled anew
			}
			around.below[place] = e.Spelling()
			return false
		}); err != nil {
			return around, err
		}
	}
	return around, nil
}

// Neighbours refuses new paths that would make a file of a folder, a folder of a file, or spell a folder in a second way. fresh are their
// folded paths, sorted. What goes in the same change does not stand in the way.
func (l *Laid) Neighbours(around Around, fresh []string) (refusals []model.Refusal) {
	spelled := map[string]string{}
	for _, f := range fresh {
		c := l.at[f]
		above := assetpath.Folders(f)
		for i, folder := range assetpath.Folders(c.Path) {
			if other, ok := spelled[above[i]]; ok && other != folder {
				refusals = append(refusals, folderCollision(c.Path, folder, other))
			} else {
				spelled[above[i]] = folder
			}
		}
	}
	for _, f := range fresh {
		c := l.at[f]
		if other, ok := around.below[f]; ok {
			refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "path-collides", Remedy: "give it another name",
				Message: fmt.Sprintf("%s: there is a folder of that name, with %s in it", c.Path, other)})
		}
		above := assetpath.Folders(f)
		for i, folder := range assetpath.Folders(c.Path) {
			entry, ok := around.files[above[i]]
			file := entry.Spelling()
			if goes, mine := l.at[above[i]]; mine {
				ok, file = !goes.Gone, goes.Path
			}
			if ok {
				refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "path-collides", Remedy: "give one of them another name",
					Message: fmt.Sprintf("%s: %s is a file, and can't be a folder too", c.Path, file)})
			}
			other, there := around.below[above[i]]
			if there && !strings.HasPrefix(other, folder+"/") && len(assetpath.Folders(other)) > i {
				refusals = append(refusals, folderCollision(c.Path, folder, assetpath.Folders(other)[i]))
			}
		}
	}
	return refusals
}

func folderCollision(path, folder, other string) model.Refusal {
	return model.Refusal{Path: path, Reason: "path-collides", Remedy: "rename the folder to " + other,
		Message: fmt.Sprintf("%s: the folder %s is spelled %s in this project, and on some systems they are one", path, folder, other)}
}

func collision(path, other string) model.Refusal {
	return model.Refusal{Path: path, Reason: "path-collides", Remedy: "rename one of them",
		Message: fmt.Sprintf("%s: it would be the same file as %s on some systems", path, other)}
}
