// Package past turns what commits of a git repository did to files into what handoffs do to assets. Git takes for two files what is one on
// some systems, and knows names that no asset can have; here every asset has a legal path of its own at every moment, by a rule that needs
// nothing but the history itself, so that whoever walks it again comes to the same paths.
package past

import (
	"sort"
	"strings"

	"kettletarn/internal/core/assetpath"
)

// Change is what a commit did to one file. Status is as in git's raw form: A, M, D, R (from From) or T. File says that a file is there
// after it, not a link or another repository.
type Change struct {
	Status     byte
	Path, From string
	File       bool
}

// Step is what a handoff does to one asset, which was at MovedFrom where it was moved. Of is the index of the change that has its content.
type Step struct {
	Path      string
	MovedFrom string
	Gone      bool
	Of        int
}

// Names follows a history from its beginning. Wanted says which paths are assets. It keeps one entry for each asset that is there. Not
// safe for concurrent use.
type Names struct {
	Wanted func(path string) bool
	// Mapped are the paths in git that assets could not have, with those that they have.
	Mapped map[string]string

	assets  map[string]string // the asset's path, by the path in git, of what is there
	folded  map[string]string // the path in git, by the asset's folded path
	folders map[string]folder // by folded path
}

type folder struct {
	spelling string
	entries  int
}

// New begins a history.
func New(wanted func(path string) bool) *Names {
	return &Names{Wanted: wanted, Mapped: map[string]string{}, assets: map[string]string{}, folded: map[string]string{},
		folders: map[string]folder{}}
}

// Asset is the path of the asset that a path in git has now.
func (n *Names) Asset(path string) (string, bool) {
	asset, ok := n.assets[path]
	return asset, ok
}

// Len is how many assets there are now.
func (n *Names) Len() int { return len(n.assets) }

// Apply makes the steps of one commit, by path. With keep, files that go from git are not taken for gone: they are kept elsewhere by then.
func (n *Names) Apply(changes []Change, keep bool) []Step {
	steps := map[string]Step{} // by folded path
	// What goes makes way first.
	moves := map[string]string{} // the asset's path before, by the path in git that it has now
	for _, c := range changes {
		from := c.Path
		switch {
		case c.Status == 'R':
			from = c.From
		case c.Status != 'D' && c.File:
			continue
		}
		asset, there := n.assets[from]
		if !there {
			continue
		}
		if keep && c.Status != 'R' {
			continue
		}
		n.drop(from, asset)
		if c.Status == 'R' && c.File && n.wants(c.Path) {
			moves[c.Path] = asset
			continue
		}
		if !keep {
			steps[assetpath.Fold(asset)] = Step{Path: asset, Gone: true}
		}
	}
	for i, c := range changes {
		if c.Status == 'D' || !c.File {
			continue
		}
		if asset, there := n.assets[c.Path]; there {
			steps[assetpath.Fold(asset)] = Step{Path: asset, Of: i}
			continue
		}
		if !n.wants(c.Path) {
			continue
		}
		s := Step{Path: n.place(c.Path), Of: i, MovedFrom: moves[c.Path]}
		f := assetpath.Fold(s.Path)
		if before, taken := steps[f]; taken {
			// What goes there and what comes there are one asset, spelled anew perhaps.
			if s.MovedFrom != "" {
				steps[assetpath.Fold(s.MovedFrom)] = Step{Path: s.MovedFrom, Gone: true}
				s.MovedFrom = ""
			}
			if before.Path != s.Path {
				s.MovedFrom = before.Path
			}
		}
		if s.MovedFrom == s.Path {
			s.MovedFrom = ""
		}
		steps[f] = s
	}
	out := make([]Step, 0, len(steps))
	for _, s := range steps {
		out = append(out, s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out
}

// wants asks about the path that an asset would have.
func (n *Names) wants(path string) bool { return n.Wanted(assetpath.Fit(path)) }

// place finds the path of a new asset, and takes it: that in git, where it is legal and nothing that is there is one with it on some
// system; else a folder is spelled as it is already, and a name that is taken gets a mark.
func (n *Names) place(path string) string {
	asset := assetpath.Fit(path)
	parts := strings.Split(asset, "/")
	for i := range parts[:len(parts)-1] {
		for {
			at := strings.Join(parts[:i+1], "/")
			if known, there := n.folders[assetpath.Fold(at)]; there {
				parts[i] = last(known.spelling)
			} else if _, file := n.folded[assetpath.Fold(at)]; file {
				parts[i] = last(assetpath.Mark(at))
				continue
			}
			break
		}
	}
	asset = strings.Join(parts, "/")
	if assetpath.Check(asset) != nil || n.taken(asset) {
		asset = assetpath.Fit(assetpath.Mark(asset))
		for n.taken(asset) {
			asset = assetpath.Fit(assetpath.Mark(path + asset))
		}
	}
	if asset != path {
		n.Mapped[path] = asset
	}
	n.assets[path], n.folded[assetpath.Fold(asset)] = asset, path
	for _, at := range assetpath.Folders(asset) {
		f := assetpath.Fold(at)
		known := n.folders[f]
		if known.entries == 0 {
			known.spelling = at
		}
		known.entries++
		n.folders[f] = known
	}
	return asset
}

func last(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }

func (n *Names) taken(asset string) bool {
	f := assetpath.Fold(asset)
	_, file := n.folded[f]
	_, folder := n.folders[f]
	return file || folder
}

func (n *Names) drop(path, asset string) {
	delete(n.assets, path)
	delete(n.folded, assetpath.Fold(asset))
	for _, at := range assetpath.Folders(asset) {
		f := assetpath.Fold(at)
		known := n.folders[f]
		if known.entries--; known.entries <= 0 {
			delete(n.folders, f)
		} else {
			n.folders[f] = known
		}
	}
}
