package workspace

import (
	"context"
	"path"
	"sort"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/mainline"
)

// Weights is what the assets in a git repository's history weigh. Whole is what all that can be reached from its branches and tags takes
// there, compressed, and so about what a clone transfers; Assets the part of that which is contents of assets.
type Weights struct {
	Whole     int64         `json:"whole"`
	Assets    int64         `json:"assets"`
	Paths     int           `json:"paths"`
	Versions  int           `json:"versions"`
	Present   Weight        `json:"present"`
	Kinds     []Weight      `json:"kinds"`
	Heaviest  []Weight      `json:"heaviest"`
	List      []string      `json:"list,omitempty"` // every path, where it was asked for
	Size      int64         `json:"size"`           // of all versions, not compressed
	Uncovered []model.Asset `json:"uncovered"`      // large contents that no rule covers
}

// Weight is that of one path, or of all of a kind (an extension of file names): contents, their bytes, and what they take in the
// repository.
type Weight struct {
	Name     string `json:"name"`
	Paths    int    `json:"paths,omitempty"`
	Versions int    `json:"versions"`
	Size     int64  `json:"size"`
	Stored   int64  `json:"stored"`
}

// Weigh reads the repository's history, as rules say what an asset is. Its memory grows with the number of paths, not of versions.
func Weigh(ctx context.Context, repo *mainline.Repo, r *rules.Rules, list bool) (*Weights, error) {
	out := &Weights{Kinds: []Weight{}, Heaviest: []Weight{}, Uncovered: []model.Asset{}}
	paths, kinds := map[string]*Weight{}, map[string]*Weight{}
	uncovered := map[string]int64{}
	wanted := wantedBy(r)
	if err := repo.Objects(ctx, []string{"--all"}, func(o mainline.Object) error {
		out.Whole += o.Stored
		rel, ok := repo.Below(o.Path)
		if !o.Blob || !ok || rel == "" {
			return nil
		}
		if fit := assetpath.Fit(rel); !wanted(fit) {
			if o.Size >= r.PointOut && !r.Decide(fit).Covered {
				uncovered[rel] = max(uncovered[rel], o.Size)
			}
			return nil
		}
		out.Assets, out.Size, out.Versions = out.Assets+o.Stored, out.Size+o.Size, out.Versions+1
		w := paths[rel]
		if w == nil {
			w = &Weight{Name: rel}
			paths[rel] = w
		}
		w.add(o)
		return nil
	}); err != nil {
		return nil, err
	}
	out.Paths = len(paths)
	for rel, w := range paths {
		kind := strings.ToLower(strings.TrimPrefix(path.Ext(rel), "."))
		if kind == "" {
			kind = "(no extension)"
		}
		k := kinds[kind]
		if k == nil {
			k = &Weight{Name: kind}
			kinds[kind] = k
		}
		k.Paths, k.Versions, k.Size, k.Stored = k.Paths+1, k.Versions+w.Versions, k.Size+w.Size, k.Stored+w.Stored
		if list {
			out.List = append(out.List, rel)
		}
	}
	sort.Strings(out.List)
	out.Kinds, out.Heaviest = heaviest(kinds), heaviest(paths)
	out.Heaviest = out.Heaviest[:min(largest, len(out.Heaviest))]
	for p, size := range uncovered {
		out.Uncovered = append(out.Uncovered, model.Asset{Path: p, Size: size, State: model.Code})
	}
	sort.Slice(out.Uncovered, func(i, j int) bool { return out.Uncovered[i].Size > out.Uncovered[j].Size })
	out.Uncovered = out.Uncovered[:min(largest, len(out.Uncovered))]
	return out, repo.Tracked(ctx, func(c mainline.Change) error {
		if c.Regular() && wanted(assetpath.Fit(c.Path)) {
			out.Present.Paths++
		}
		return nil
	})
}

// wantedBy says which paths are assets that are brought from git: not the rules themselves, which are sent as they stand.
func wantedBy(r *rules.Rules) func(string) bool {
	return func(p string) bool { return assetpath.Fold(p) != rules.File && r.Decide(p).Kind == rules.Asset }
}

func (w *Weight) add(o mainline.Object) {
	w.Versions, w.Size, w.Stored = w.Versions+1, w.Size+o.Size, w.Stored+o.Stored
}

func heaviest(of map[string]*Weight) []Weight {
	out := make([]Weight, 0, len(of))
	for _, w := range of {
		out = append(out, *w)
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := out[i], out[j]
		return a.Stored > b.Stored || a.Stored == b.Stored && a.Name < b.Name
	})
	return out
}
