package workspace

import (
	"path"
	"path/filepath"
	"sort"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
)

// Reference is a changed file that another one, which is to be sent, names, and that is left behind.
type Reference struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Together adds to paths what the sets of the rules tie to the assets at or below them.
func (s *Status) Together(paths []string) []string {
	var given, all []string
	for _, a := range s.Assets {
		all = append(all, a.Path)
		for _, p := range paths {
			if assetpath.Below(a.Path, p) {
				given = append(given, a.Path)
			}
		}
	}
	out := append([]string{}, paths...)
	known := map[string]bool{}
	for _, p := range given {
		known[p] = true
	}
	for _, p := range s.decide.Together(given, all) {
		if !known[p] {
			out = append(out, p)
		}
	}
	return out
}

// apart finds the changed files that files to be sent name and that are not to be sent.
func (s *Status) apart(w *Workspace, going []model.Asset) []Reference {
	goes := map[string]bool{}
	for _, a := range going {
		goes[a.Path] = true
	}
	behind := map[string]bool{}
	for _, a := range s.Assets {
		if Changed(a) && !goes[a.Path] && here(s, a.Path) {
			behind[a.Path] = true
		}
	}
	out := []Reference{}
	if len(behind) == 0 {
		return out
	}
	seen := map[Reference]bool{}
	for _, a := range going {
		if !media.HasReferences(a.Path) || !here(s, a.Path) {
			continue
		}
		f, err := w.folder.Disk.Open(filepath.FromSlash(a.Path))
		if err != nil {
			continue
		}
		names, _ := media.References(a.Path, f) // a file that can't be read so far names what it named so far
		_ = f.Close()
		for _, name := range names {
			for _, to := range []string{path.Join(path.Dir(a.Path), name), path.Clean(name)} {
				r := Reference{From: a.Path, To: to}
				if behind[to] && !seen[r] {
					seen[r] = true
					out = append(out, r)
				}
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].From+out[i].To < out[j].From+out[j].To })
	return out
}
