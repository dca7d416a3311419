package rules

import (
	"path"
	"sort"
	"strings"

	"kettletarn/internal/core/assetpath"
)

// How a set finds what belongs together: files of one folder, or files of one folder whose names begin alike.
const (
	ByStem   = "stem"
	ByFolder = "folder"
)

// Together are the paths of all that belong to a set with one of the given ones, with those themselves, sorted.
func (r *Rules) Together(given, all []string) []string {
	take := map[string]bool{}
	for _, p := range given {
		take[p] = true
	}
	for i := range r.Sets {
		s := &r.Sets[i]
		groups, of := map[string][]string{}, map[string]string{}
		byFolder := map[string][]string{}
		for _, p := range all {
			if _, _, ok := newTarget(p, false).last(s.patterns); ok {
				byFolder[path.Dir(p)] = append(byFolder[path.Dir(p)], p)
			}
		}
		for folder, members := range byFolder {
			for member, root := range s.roots(members) {
				name := folder + "\x00" + root
				groups[name], of[member] = append(groups[name], member), name
			}
		}
		for _, p := range given {
			for _, q := range groups[of[p]] {
				take[q] = true
			}
		}
	}
	out := make([]string, 0, len(take))
	for p := range take {
		out = append(out, p)
	}
	sort.Strings(out)
	return out
}

// roots names the group of each member of a folder. A stem is a name up to its first dot. It belongs to a shorter one that it carries on
// behind a hyphen or an underscore (lamp-albedo to lamp), and else to those that are the same up to the last of these (rust-albedo and
// rust-normal).
func (s *Set) roots(members []string) map[string]string {
	out, known, carried := map[string]string{}, map[string]bool{}, map[string]bool{}
	for _, m := range members {
		if s.By == ByStem {
			out[m], _, _ = strings.Cut(assetpath.Fold(path.Base(m)), ".")
			known[out[m]] = true
		}
	}
	for m, stem := range out {
		for i := 1; i < len(stem); i++ {
			if (stem[i] == '-' || stem[i] == '_') && known[stem[:i]] {
				out[m] = stem[:i]
				carried[stem[:i]] = true
				break
			}
		}
	}
	for m, stem := range out {
		if i := strings.LastIndexAny(stem, "-_"); i > 0 && !carried[stem] {
			out[m] = stem[:i]
		}
	}
	if s.By == ByFolder {
		for _, m := range members {
			out[m] = ""
		}
	}
	return out
}
