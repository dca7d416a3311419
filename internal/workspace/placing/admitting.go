package placing

import (
	"fmt"
	"io/fs"
	"path"
	"path/filepath"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/scan"
)

func collides(place, with string) *model.Refusal {
	return &model.Refusal{Path: place, Reason: "path-collides",
		Message: fmt.Sprintf("%s: %s is here, and would be the same on some systems", place, with),
		Remedy:  "rename one of them"}
}

// Admit takes out, before a byte is fetched, what can't be put in its place: illegal paths, paths that collide with one another, and with
// what is here and does not go.
func (d *Folder) Admit(files, remove []Wanted) (good []Wanted, refusals []model.Refusal) {
	going := map[string]bool{}
	for _, f := range remove {
		for _, p := range scan.Places(f.Place) {
			going[p] = true
		}
	}
	around, claimed := d.Spellings(), map[string]string{}
	for _, f := range files {
		refusal := BadPlace(f.Place)
		if refusal == nil && !f.Asset.Gone {
			if twin := around.twin(f.Place); twin != "" && !going[twin] {
				refusal = collides(f.Place, twin)
			}
			for _, p := range scan.Places(f.Place) {
				alias := assetpath.Alias(p)
				if other, taken := claimed[alias]; taken && (other != p || p == f.Place) && refusal == nil {
					refusal = collides(f.Place, other)
				}
			}
		}
		if refusal != nil {
			refusals = append(refusals, *refusal)
			continue
		}
		if !f.Asset.Gone {
			for _, p := range scan.Places(f.Place) {
				claimed[assetpath.Alias(p)] = p
			}
		}
		good = append(good, f)
	}
	return good, refusals
}

// spellings knows how the names in folders are spelled, and which folders are there and no links: each is looked at once. disk is what
// files are put in their places with.
type spellings struct {
	d       *Folder
	disk    disk.Disk
	folders map[string]map[string]string
	safe    map[string]bool
}

func (d *Folder) Spellings() *spellings {
	return &spellings{d, d.Disk, map[string]map[string]string{}, map[string]bool{}}
}

// safeFolder is that of the workspace, once for each folder.
func (s *spellings) safeFolder(place string) error {
	folder := path.Dir(place)
	if s.safe[folder] {
		return nil
	}
	err := s.d.SafeFolder(place)
	s.safe[folder] = err == nil
	return err
}

// twin is what is here under a name that is one with a path, or with a folder above it, on some systems, and is spelled otherwise; "" for
// none.
func (s *spellings) twin(place string) string {
	for _, p := range scan.Places(place) {
		folder, base := path.Dir(p), path.Base(p)
		names, listed := s.folders[folder]
		if !listed {
			names = map[string]string{}
			s.folders[folder] = names
			if entries, err := fs.ReadDir(s.d.Disk.FS(), folder); err == nil {
				for _, e := range entries {
					alias := assetpath.Alias(e.Name())
					if _, double := names[alias]; !double {
						names[alias] = e.Name()
					}
				}
			}
		}
		other, there := names[assetpath.Alias(base)]
		if !there {
			return ""
		}
		if other != base {
			if _, err := s.d.Disk.Lstat(filepath.FromSlash(p)); err == nil {
				continue // both are here, and nobody but the person put them there
			}
			return path.Join(folder, other)
		}
	}
	return ""
}

// note adds what was just put in place.
func (s *spellings) note(place string) {
	for _, p := range scan.Places(place) {
		if names, listed := s.folders[path.Dir(p)]; listed {
			names[assetpath.Alias(path.Base(p))] = path.Base(p)
		}
	}
}
