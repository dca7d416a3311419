package workspace

import (
	"context"

	"kettletarn/internal/core/model"
)

// Lock locks the assets at or below the paths, all or none; with set, the rest of each set, too. begin brings the newest versions down too, in the same round trip where
// the files here are unchanged.
func (w *Workspace) Lock(ctx context.Context, paths []string, note string, begin, set bool) ([]model.Lock, *Updated, error) {
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, nil, err
	}
	if set {
		paths = s.Together(paths)
	}
	assets, missing := Within(s.Assets, paths)
	request := model.LockRequest{Workspace: w.Marker.Workspace, Note: note, Assets: []model.LockWant{}}
	changed, places := map[string]bool{}, map[string]string{}
	for _, a := range assets {
		if a.State == model.New || a.State == model.Outside {
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
		request.Assets = append(request.Assets, model.LockWant{Path: p})
	}
	if len(request.Assets) == 0 {
		return nil, nil, model.NewProblem(model.BadRequest, "send it when it is ready", "a new file needs no lock before it is sent")
	}
	request.WillUpdate = begin && len(changed) == 0
	answer, err := w.Client.TakeLocks(ctx, w.Marker.Project, request)
	if err != nil {
		return nil, nil, err
	}
	if err := w.noteAssets(answer.Assets); err != nil {
		return answer.Locks, nil, err
	}
	taken := make([]string, len(answer.Locks))
	for i, l := range answer.Locks {
		taken[i] = l.Path
		if place := places[l.Path]; place != "" {
			taken[i] = place
		}
	}
	if !begin {
		return answer.Locks, nil, w.guard(taken)
	}
	u := newUpdated()
	var bring []wanted
	for _, a := range answer.Assets {
		f := wanted{asset: a, place: a.Path}
		if place := places[a.Path]; place != "" {
			f.place = place
		}
		b, had := s.base(f.place)
		if file, ok := s.file(f.place); ok {
			f.stamp = &file.Stamp
		}
		if changed[a.Path] || had && b.Version == a.Newest && f.stamp != nil {
			continue
		}
		bring = append(bring, f)
	}
	if bring, err = w.adopt(s, bring, u); err != nil {
		return answer.Locks, u, err
	}
	if u.Refusals, err = w.bring(ctx, bring, nil, func(f wanted) { u.Brought = append(u.Brought, f.asset) }); err != nil {
		return answer.Locks, u, err
	}
	return answer.Locks, u, w.guard(taken)
}

// noteAssets keeps what the service said of some assets.
func (w *Workspace) noteAssets(assets []model.Asset) error {
	return w.update(func(t indexTx) error {
		for _, a := range assets {
			if err := t.setNewest(a); err != nil {
				return err
			}
			if err := put(t.tx.Bucket(bucketHeads), a.Path, a.HeadsUp); err != nil {
				return err
			}
			if len(a.HeadsUp) == 0 {
				if err := t.tx.Bucket(bucketHeads).Delete([]byte(a.Path)); err != nil {
					return err
				}
			}
		}
		return t.turn()
	})
}

// Unlock gives back the locks at or below the paths that this workspace holds; with override, it takes away whoever's they are.
func (w *Workspace) Unlock(ctx context.Context, paths []string, override bool, reason string) ([]string, error) {
	held, err := w.Client.Locks(ctx, w.Marker.Project)
	if err != nil {
		return nil, err
	}
	var release []string
	for _, p := range paths {
		hit := false
		for _, l := range held.Locks {
			if below(l.Path, p) && (override || l.Path == p || l.WorkspaceID == w.Marker.Workspace) {
				release, hit = append(release, l.Path), true
			}
		}
		if !hit {
			return nil, &model.Refused{Refusals: []model.Refusal{{Path: p, Reason: "not-locked", Message: p + ": nothing is locked there", Remedy: "see tarn holders"}}}
		}
	}
	if err := w.Client.ReleaseLocks(ctx, w.Marker.Project, model.UnlockRequest{Workspace: w.Marker.Workspace, Paths: release, Override: override, Reason: reason}); err != nil {
		return nil, err
	}
	if err := w.update(func(t indexTx) error {
		for _, p := range release {
			if err := t.setLock(p, nil); err != nil {
				return err
			}
		}
		return t.turn()
	}); err != nil {
		return release, err
	}
	return release, w.guard(release)
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
			hit = hit || below(a.Path, p) || a.MovedFrom != "" && below(a.MovedFrom, p)
		}
		if hit && Changed(a) && a.Lock != nil && a.Lock.WorkspaceID == w.Marker.Workspace {
			out = append(out, a)
		}
	}
	return out, nil
}

// HeadsUps are those of others that the service told of for paths.
func (w *Workspace) HeadsUps(paths []string) (out []model.HeadsUp, err error) {
	err = w.look(func(t indexTx) error {
		for _, p := range paths {
			list, _, err := get[[]model.HeadsUp](t.tx.Bucket(bucketHeads), p)
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
