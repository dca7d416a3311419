package locks

import (
	"context"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
)

// Unlock gives back what is named, and what is held under what is named, all of it or none; then it leaves the lines there. What is held is
// read first; where that has changed by the time it is given back, it is refused like any request that comes too late.
func (s *Room) Unlock(ctx context.Context, actor ground.Actor, key string, q model.UnlockRequest) (out model.Unlocked, err error) {
	var held []model.Lock
	if len(q.Under) > 0 {
		if held, err = s.Locks(ctx, actor, key, ""); err != nil {
			return out, err
		}
	}
	out = model.Unlocked{Freed: slices.Clone(q.Paths), Left: []string{}, Next: map[string]string{}}
	if out.Freed == nil {
		out.Freed = []string{}
	}
	for _, place := range q.Under {
		if err := under(held, place, q, &out); err != nil {
			return out, err
		}
	}
	for _, l := range held {
		if slices.Contains(out.Freed, l.Path) {
			if next := after(l); next != "" {
				out.Next[l.Path] = next
			}
		}
	}
	if len(out.Freed) > 0 {
		if err := s.GiveBackLocks(ctx, actor, key, q.Workspace, out.Freed, q.Override, q.Reason); err != nil {
			return out, err
		}
	}
	if len(out.Left) > 0 {
		err = s.LeaveLines(ctx, actor, key, out.Left)
	}
	return out, err
}

// under adds what is given back and left under one place.
func under(held []model.Lock, place string, q model.UnlockRequest, out *model.Unlocked) error {
	folded := assetpath.Fold(strings.TrimSuffix(place, "/"))
	whole := slices.ContainsFunc(held, func(l model.Lock) bool { return assetpath.Below(assetpath.Fold(l.Path), folded) })
	hit := false
	for _, l := range held {
		at := assetpath.Fold(l.Path)
		here := assetpath.Below(at, folded)
		if !whole {
			here, _ = doublestar.Match(folded, at)
		}
		mine := l.Holder != "" && (at == folded || l.WorkspaceID == q.Workspace)
		switch waits := slices.ContainsFunc(l.Waitlist, func(w model.Waiter) bool { return w.WorkspaceID == q.Workspace }); {
		case !here:
		case waits && !q.Override:
			out.Left, hit = with(out.Left, l.Path), true
		case q.Override || mine:
			out.Freed, hit = with(out.Freed, l.Path), true
		}
	}
	if hit {
		return nil
	}
	words := ground.Printable(place)
	if place == "" {
		words = "the whole project"
	}
	return &model.Refused{Refusals: []model.Refusal{{Path: place, Reason: "not-locked", Message: words + ": nothing is locked there",
		Remedy: "see tarn holders"}}}
}

func with(list []string, path string) []string {
	if slices.Contains(list, path) {
		return list
	}
	return append(list, path)
}

// after is who gets it next.
func after(l model.Lock) string {
	line := l.Waitlist
	if l.Holder == "" && len(line) > 0 && line[0].OfferedUntil != nil {
		line = line[1:] // the offer is taken from the first
	}
	if len(line) == 0 {
		return ""
	}
	return line[0].Handle
}
