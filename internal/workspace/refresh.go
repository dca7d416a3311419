package workspace

import (
	"context"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/index"
)

// Refresh asks the service what is new, and keeps it.
func (w *Workspace) Refresh(ctx context.Context) error {
	_, err := w.RefreshedPaths(ctx)
	return err
}

// RefreshedPaths is Refresh, and tells the paths of which something else is known now.
func (w *Workspace) RefreshedPaths(ctx context.Context) (changed map[string]bool, err error) {
	for {
		view, err := w.view()
		if err != nil {
			return nil, err
		}
		pages, err := w.ask(ctx, view, view.At, view.Scope)
		if err != nil {
			return nil, err
		}
		changed = map[string]bool{}
		if done, err := w.noteNews(view, pages, changed); err != nil || done {
			return changed, err
		}
	}
}

// ask gets what is different between a handoff and the one that the workspace follows.
func (w *Workspace) ask(ctx context.Context, view index.View, since int, scope []string) (pages []model.Assets, err error) {
	q := model.ChangesQuery{Since: since, At: state(view.Follows), Branch: view.On(), Scope: scope, Locks: true}
	err = w.Client.Changes(ctx, w.Marker.Project, q, func(page model.Assets) error {
		pages = append(pages, page)
		return nil
	})
	return pages, err
}

// noteNews keeps what the service said, unless this workspace brought something about meanwhile: done is false then. changed gets the paths
// of which something else is known.
func (w *Workspace) noteNews(asked index.View, pages []model.Assets, changed map[string]bool) (done bool, err error) {
	return done, w.update(func(t index.Tx) error {
		view, err := t.View()
		if err != nil {
			return err
		}
		if view.Turn != asked.Turn || view.At != asked.At || view.Follows != asked.Follows || view.On() != asked.On() {
			return nil
		}
		for _, page := range pages {
			for _, a := range page.Assets {
				if err := t.SetNewest(a); err != nil {
					return err
				}
				changed[a.Path] = true
			}
			view.At, view.Newest = page.At, page.Newest
		}
		before := t.Holders()
		if err := w.noteHolders(t, pages[0]); err != nil {
			return err
		}
		after := t.Holders()
		for _, both := range []map[string]string{before, after} {
			for path := range both {
				if before[path] != after[path] {
					changed[path] = true
				}
			}
		}
		view.KitsBehind = pages[0].KitsBehind
		view.Fetched, view.Life, done = now(), w.Client.Life(), true
		return t.SetView(view)
	})
}

// noteHolders keeps who holds what and who has unsent changes.
func (w *Workspace) noteHolders(t index.Tx, page model.Assets) error {
	w.wanted = page.Wanted
	if err := t.ForgetHolders(); err != nil {
		return err
	}
	for i := range page.Locks {
		if err := t.SetLock(page.Locks[i].Path, &page.Locks[i]); err != nil {
			return err
		}
	}
	heads := map[string][]model.HeadsUp{}
	for _, h := range page.HeadsUps {
		heads[h.Path] = append(heads[h.Path], h)
	}
	for path, list := range heads {
		if err := t.SetHeadsUps(path, list); err != nil {
			return err
		}
	}
	return nil
}
