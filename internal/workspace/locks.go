package workspace

import (
	"context"

	"kettletarn/internal/core/model"
)

// Lock locks the assets at or below the paths, all or none. begin brings the newest versions down too, in the same round trip where
// the files here are unchanged.
func (w *Workspace) Lock(ctx context.Context, paths []string, note string, begin bool) ([]model.Lock, *Updated, error) {
	s, err := w.Status(ctx)
	if err != nil {
		return nil, nil, err
	}
	assets, missing := Within(s.Assets, paths)
	request := model.LockRequest{Workspace: w.Marker.Workspace, Note: note, Assets: []model.LockWant{}}
	changed := map[string]bool{}
	for _, a := range assets {
		if a.State == model.New {
			continue
		}
		if a.State != model.Same && a.State != model.Behind {
			changed[a.Path] = true
		}
		request.Assets = append(request.Assets, model.LockWant{Path: a.Path, Version: a.Version})
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
	if err := w.noteAssets(answer.Assets); err != nil || !begin {
		return answer.Locks, nil, err
	}
	u := &Updated{Brought: []model.Asset{}, Removed: []model.Asset{}, Clashes: []model.Asset{}, Refusals: []model.Refusal{}}
	var bring []wanted
	for _, a := range answer.Assets {
		b, had := s.bases[a.Path]
		f := wanted{asset: a}
		if file, ok := s.found.Files[a.Path]; ok {
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
	u.Refusals, err = w.bring(ctx, bring, func(a model.Asset) { u.Brought = append(u.Brought, a) })
	return answer.Locks, u, err
}

// noteAssets keeps what the service said of some assets.
func (w *Workspace) noteAssets(assets []model.Asset) error {
	return w.update(func(t indexTx) error {
		for _, a := range assets {
			if err := t.setNewest(a); err != nil {
				return err
			}
		}
		return nil
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
	return release, w.update(func(t indexTx) error {
		for _, p := range release {
			a, known, err := get[model.Asset](t.tx.Bucket(bucketNewest), p)
			if err != nil {
				return err
			}
			if !known {
				continue
			}
			a.Lock, a.Holder = nil, ""
			if err := t.setNewest(a); err != nil {
				return err
			}
		}
		return nil
	})
}
