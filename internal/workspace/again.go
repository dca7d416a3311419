package workspace

import (
	"context"
	"sort"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/scan"
)

// plain says that an asset is the same here and there, at its place.
func plain(a model.Asset) bool { return a.State == model.Same && a.MovedFrom == "" }

// StatusAgain is the status as of now, where nothing but what is at or below the paths changed since a former one of the whole folder.
func (w *Workspace) StatusAgain(ctx context.Context, former *Status, paths []string) (*Status, error) {
	part, err := w.Status(ctx, Question{Paths: paths})
	if err != nil {
		return nil, err
	}
	s := *part
	within := scan.Scan{Within: part.scan.Within}
	s.Assets, s.Odd, s.Uncovered = nil, nil, nil
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
	for _, o := range former.Odd {
		if !within.WantsFile(o.Path) {
			s.Odd = append(s.Odd, o)
		}
	}
	s.Odd = append(s.Odd, part.Odd...)
	for _, a := range former.Uncovered {
		if !within.WantsFile(a.Path) {
			s.Uncovered = append(s.Uncovered, a)
		}
	}
	s.Uncovered = append(s.Uncovered, part.Uncovered...)
	s.Left, s.Code = former.Left, former.Code
	return &s, nil
}
