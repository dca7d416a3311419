package workspace

import (
	"context"
	"fmt"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
)

// LockOptions say how to lock: see model.LockRequest. Begin brings the newest versions down too, in the same round trip where the files
// here are unchanged; Set takes the rest of each set along.
type LockOptions struct {
	Note    string
	Begin   bool
	Set     bool
	Any     bool
	Wait    bool
	Diverge bool
	Bring   bool
	Reserve bool
}

// Locked is what came of it: the locks that one has now, the lines that one waits in, with Any what was refused; of Begin what was brought.
type Locked struct {
	Locks    []model.Lock
	Waiting  []model.Waiting
	Refusals []model.Refusal
	Updated  *Updated
}

// Lock locks the assets at or below the paths, or that match them as patterns: all or none, but with Any those that can be.
func (w *Workspace) Lock(ctx context.Context, paths []string, o LockOptions) (out Locked, err error) {
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return out, err
	}
	paths = matching(s.Assets, paths)
	if o.Set {
		paths = s.Together(paths)
	}
	assets, missing := Within(s.Assets, paths)
	request := model.LockRequest{Workspace: w.Marker.Workspace, Branch: s.View.On(), Note: o.Note, Any: o.Any, Wait: o.Wait,
		Diverge: o.Diverge, Bring: o.Bring,
		Reserve: o.Reserve, Assets: []model.LockWant{}}
	changed, places := map[string]bool{}, map[string]string{}
	for _, a := range assets {
		if a.State == model.New && !o.Reserve || a.State == model.Outside {
			continue
		}
		source := s.source(a.Path)
		if a.State != model.Same && a.State != model.Behind {
			changed[source] = true
		}
		places[source] = a.Path
		request.Assets = append(request.Assets, model.LockWant{Path: source, Version: a.Version})
	}
	for _, p := range missing {
		if pattern(p) {
			return out, &model.Refused{Refusals: []model.Refusal{{Path: p, Reason: "unknown", Message: p + ": nothing matches this pattern",
				Remedy: "see tarn status for what there is"}}}
		}
		request.Assets = append(request.Assets, model.LockWant{Path: p})
	}
	if len(request.Assets) == 0 {
		return out, model.NewProblem(model.BadRequest, "send it when it is ready, or keep its name with tarn lock --reserve",
			"a new file needs no lock before it is sent")
	}
	request.WillUpdate = o.Begin && len(changed) == 0
	w.Progress.Start(fmt.Sprintf("Asking for %d locks", len(request.Assets)), 0)
	answer, err := w.Client.TakeLocks(ctx, w.Marker.Project, request)
	w.Progress.Done()
	if err != nil {
		return out, err
	}
	out = Locked{Locks: answer.Locks, Waiting: answer.Waiting, Refusals: answer.Refusals}
	if err := w.noteLocks(answer.Locks, answer.Assets); err != nil {
		return out, err
	}
	mine := map[string]bool{}
	taken := make([]string, len(answer.Locks))
	for i, l := range answer.Locks {
		mine[l.Path] = true
		taken[i] = l.Path
		if place := places[l.Path]; place != "" {
			taken[i] = place
		}
	}
	if !o.Begin {
		return out, w.guard(taken)
	}
	u := newUpdated()
	out.Updated = u
	var bring []placing.Wanted
	for _, a := range answer.Assets {
		f := placing.Wanted{Asset: a, Place: a.Path}
		if place := places[a.Path]; place != "" {
			f.Place = place
		}
		b, had := s.base(f.Place)
		f.Was = s.standing(f.Place)
		if !mine[a.Path] || changed[a.Path] || had && b.Version == a.Newest && f.Was != nil {
			continue
		}
		bring = append(bring, f)
	}
	if bring, err = w.adopt(s, bring, u); err != nil {
		return out, err
	}
	if u.Refusals, err = w.bring(ctx, bring, nil, func(f placing.Wanted) { u.Brought = append(u.Brought, f.Asset) }); err != nil {
		return out, err
	}
	return out, w.guard(taken)
}

// matching turns patterns (doublestar, as in the rules) into the paths that they match; what names something here stays as it is.
func matching(assets []model.Asset, paths []string) []string {
	var out []string
	for _, p := range paths {
		if kept, _ := Within(assets, []string{p}); len(kept) > 0 || !pattern(p) {
			out = append(out, p)
			continue
		}
		before := len(out)
		for _, a := range assets {
			if ok, _ := doublestar.Match(assetpath.Fold(p), assetpath.Fold(a.Path)); ok {
				out = append(out, a.Path)
			}
		}
		if len(out) == before {
			out = append(out, p)
		}
	}
	return out
}

func pattern(p string) bool { return strings.ContainsAny(p, "*?[{") && doublestar.ValidatePattern(p) }

// noteLocks keeps the locks that were granted, and what the service said of those assets of which there is news. Of the others nobody else
// has unsent changes.
func (w *Workspace) noteLocks(locks []model.Lock, assets []model.Asset) error {
	return w.update(func(t index.Tx) error {
		for i, l := range locks {
			if err := t.SetLock(l.Path, &locks[i]); err != nil {
				return err
			}
			if err := t.SetHeadsUps(l.Path, nil); err != nil {
				return err
			}
		}
		for _, a := range assets {
			if err := t.SetNewest(a); err != nil {
				return err
			}
			if len(a.HeadsUp) == 0 {
				continue
			}
			if err := t.SetHeadsUps(a.Path, a.HeadsUp); err != nil {
				return err
			}
		}
		return t.Turn()
	})
}

// LockEdited takes the lock of an asset that was changed here, as a status lists it, from the version that is here.
func (w *Workspace) LockEdited(ctx context.Context, s *Status, a model.Asset, note string) error {
	answer, err := w.Client.TakeLocks(ctx, w.Marker.Project, model.LockRequest{Workspace: w.Marker.Workspace, Branch: s.View.On(), Note: note,
		Assets: []model.LockWant{{Path: s.source(a.Path), Version: a.Version}}})
	if err != nil {
		return err
	}
	if err := w.noteLocks(answer.Locks, answer.Assets); err != nil {
		return err
	}
	return w.guard([]string{a.Path})
}

// Unlock gives back the locks at or below the paths that this workspace holds, and leaves the lines there; with override, it takes away
// whoever's they are, and offers to who does not come.
func (w *Workspace) Unlock(ctx context.Context, paths []string, override bool, reason string) (out model.Unlocked, err error) {
	if out, err = w.Client.ReleaseLocks(ctx, w.Marker.Project,
		model.UnlockRequest{Workspace: w.Marker.Workspace, Under: paths, Override: override, Reason: reason}); err != nil {
		return out, err
	}
	if w.IsAway() {
		return out, nil
	}
	if err := w.update(func(t index.Tx) error {
		for _, p := range out.Freed {
			if err := t.SetLock(p, nil); err != nil {
				return err
			}
		}
		for _, p := range out.Left {
			if err := t.LeaveLine(p, w.Marker.Workspace); err != nil {
				return err
			}
		}
		return t.Turn()
	}); err != nil {
		return out, err
	}
	return out, w.guard(out.Freed)
}

// Ask asks the holder of an asset's lock to let go; this workspace waits in line from then on.
func (w *Workspace) Ask(ctx context.Context, path, reason string) (model.Waiting, error) {
	waiting, err := w.Client.Ask(ctx, w.Marker.Project, model.AskRequest{Workspace: w.Marker.Workspace, Path: path, Reason: reason})
	if err == nil {
		err = w.Refresh(ctx)
	}
	return waiting, err
}

// Answer answers those who ask for a lock that one holds.
func (w *Workspace) Answer(ctx context.Context, answer model.AskAnswer) error {
	if err := w.Client.AnswerAsk(ctx, w.Marker.Project, answer); err != nil {
		return err
	}
	if err := w.Refresh(ctx); err != nil {
		return err
	}
	return w.guard([]string{answer.Path})
}

// Unsent lists what has unsent changes among assets whose locks this workspace holds, at or below the paths.
func (w *Workspace) Unsent(ctx context.Context, paths []string) ([]model.Asset, error) {
	s, err := w.Status(ctx, Question{})
	if err != nil {
		return nil, err
	}
	var out []model.Asset
	for _, a := range s.Assets {
		hit := len(paths) == 0
		for _, p := range paths {
			hit = hit || assetpath.Below(a.Path, p) || a.MovedFrom != "" && assetpath.Below(a.MovedFrom, p)
		}
		if hit && Changed(a) && a.Lock != nil && a.Lock.WorkspaceID == w.Marker.Workspace {
			out = append(out, a)
		}
	}
	return out, nil
}

// HeadsUps are those of others that the service told of for paths.
func (w *Workspace) HeadsUps(paths []string) (out []model.HeadsUp, err error) {
	err = w.look(func(t index.Tx) error {
		for _, p := range paths {
			list, err := t.HeadsUps(p)
			if err != nil {
				return err
			}
			for _, h := range list {
				if h.WorkspaceID != w.Marker.Workspace {
					out = append(out, h)
				}
			}
		}
		return nil
	})
	return out, err
}
