package workspace

import (
	"context"
	"slices"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/workspace/index"
)

// Healed is what a heal did: how many chunks the service had lost, and how many of them it has back from here.
type Healed struct {
	Wanted int   `json:"wanted"`
	Given  int   `json:"given"`
	Size   int64 `json:"size"`
}

// Heal asks what content the service lost, and gives it back what is on this disk.
func (w *Workspace) Heal(ctx context.Context) (*Healed, error) {
	out := &Healed{}
	tried := map[chunk.Digest]bool{}
	for {
		list, err := w.Client.Wanted(ctx, w.Marker.Project)
		if err != nil {
			return out, err
		}
		fresh := map[chunk.Digest]bool{}
		for _, d := range list {
			if !tried[d] {
				fresh[d], tried[d] = true, true
			}
		}
		if len(fresh) == 0 {
			return out, nil
		}
		out.Wanted += len(fresh)
		given, err := w.give(ctx, fresh)
		out.Given, out.Size = out.Given+given.Given, out.Size+given.Size
		if err != nil || given.Given == 0 {
			return out, err
		}
	}
}

// offer gives back, quietly, what the service said last that it lost. It is a favour on the way: that it fails stops nothing.
func (w *Workspace) offer(ctx context.Context) {
	lacking := map[chunk.Digest]bool{}
	for _, d := range w.wanted {
		lacking[d] = true
	}
	w.wanted = nil
	if len(lacking) > 0 {
		_, _ = w.give(ctx, lacking)
	}
}

// give brings those of the lacking chunks and manifest nodes that the files of the workspace have.
func (w *Workspace) give(ctx context.Context, lacking map[chunk.Digest]bool) (Healed, error) {
	files := map[string]index.Refs{}
	if err := w.look(func(t index.Tx) error {
		return t.EachRefs(func(path string, refs index.Refs) error {
			list := refs.List()
			if slices.ContainsFunc(list, func(r chunk.Ref) bool { return lacking[r.Digest] }) ||
				slices.ContainsFunc(manifest.Build(list), func(n manifest.Block) bool { return lacking[n.Digest] }) {
				files[path] = slices.Clone(refs)
			}
			return nil
		})
	}); err != nil {
		return Healed{}, err
	}
	given, size, err := w.way().Supply(ctx, files, lacking)
	return Healed{Given: given, Size: size}, err
}
