package workspace

import (
	"context"
	"sort"
	"strings"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/scan"
)

// plain says that an asset is the same here and there, at its place.
func plain(a model.Asset) bool { return a.State == model.Same && a.MovedFrom == "" }

// StatusAgain is the status as of now, where nothing but what is at or below the paths changed since a former one of the whole folder,
// which was asked for with what is left out.
func (w *Workspace) StatusAgain(ctx context.Context, former *Status, paths []string) (*Status, error) {
	part, err := w.Status(ctx, Question{Paths: paths, LeftOut: true, Unsent: true})
	if err != nil {
		return nil, err
	}
	s := *part
	within := scan.Scan{Within: part.scan.Within}
	s.Assets = nil
	for _, a := range former.Assets {
		if !within.WantsFile(a.Path) && (a.MovedFrom == "" || !within.WantsFile(a.MovedFrom)) {
			s.Assets = append(s.Assets, a)
		}
	}
	for _, a := range part.Assets {
		if !plain(a) || a.Lock != nil || len(a.HeadsUp) > 0 {
			s.Assets = append(s.Assets, a)
		}
	}
	sort.Slice(s.Assets, func(i, j int) bool { return s.Assets[i].Path < s.Assets[j].Path })
	s.here = former.here
	s.Same = s.here
	for _, a := range s.Assets {
		if a.Version > 0 && !plain(a) {
			s.Same--
		}
	}
	s.Odd = joined(former.Odd, part.Odd, &within, func(o model.Refusal) string { return o.Path })
	s.Uncovered = joined(former.Uncovered, part.Uncovered, &within, func(a model.Asset) string { return a.Path })
	s.LeftOut = joined(former.LeftOut, part.LeftOut, &within, func(l scan.LeftOut) string { return strings.TrimSuffix(l.Path, "/") })
	s.Left, s.Code = 0, 0
	for i := range s.LeftOut {
		if s.LeftOut[i].State == model.Code {
			s.Code++
		} else {
			s.Left++
		}
	}
	return &s, nil
}

// joined is what was looked at again, and of what there was before all else. A folder above what was looked at may be in both.
func joined[T any](former, part []T, within *scan.Scan, path func(T) string) []T {
	again := map[string]bool{}
	for _, one := range part {
		again[path(one)] = true
	}
	var out []T
	for _, one := range former {
		if !within.WantsFile(path(one)) && !again[path(one)] {
			out = append(out, one)
		}
	}
	out = append(out, part...)
	sort.Slice(out, func(i, j int) bool { return path(out[i]) < path(out[j]) })
	return out
}
