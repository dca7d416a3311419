package workspace

import (
	"context"
	"fmt"
	"path"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
)

// Branch is the branch that the workspace is on.
func (w *Workspace) Branch() (string, error) {
	view, err := w.view()
	return view.On(), err
}

// StartOn puts a workspace that nothing has come down to yet on a branch, which has to be there.
func (w *Workspace) StartOn(ctx context.Context, branch string) error {
	b, err := w.Client.Branch(ctx, w.Marker.Project, branch)
	if err != nil {
		return err
	}
	return w.update(func(t index.Tx) error {
		view, err := t.View()
		if err != nil {
			return err
		}
		view.Branch = b.Name
		return t.SetView(view)
	})
}

// Switch brings the workspace over to the newest state of a branch, and has it follow that from now on. Unsent changes to what is the same
// on both go along; where others stand in the way, nothing is done. It takes as long as the two states are apart.
func (w *Workspace) Switch(ctx context.Context, branch string) (*Updated, error) {
	if _, err := w.settlePending(ctx); err != nil {
		return nil, err
	}
	b, err := w.Client.Branch(ctx, w.Marker.Project, branch)
	if err != nil {
		return nil, err
	}
	view, err := w.view()
	if err != nil {
		return nil, err
	}
	next := view
	next.Branch, next.Follows, next.Pinned = b.Name, 0, false
	pages, err := w.ask(ctx, next, view.At, view.Scope)
	if err != nil {
		return nil, err
	}
	if err := w.onTheWay(ctx, pages, b.Name); err != nil {
		return nil, err
	}
	// From here on the service may take the workspace to be there before it is, or the other way round: every request says where it is.
	if err := w.Client.DescribeWorkspace(ctx, w.Marker.Project, w.Marker.Workspace, w.told(next)); err != nil {
		return nil, err
	}
	if err := w.update(func(t index.Tx) error {
		now, err := t.View()
		if err != nil {
			return err
		}
		now.Branch, now.Follows, now.Pinned = next.Branch, 0, false
		now.Turn++
		next = now
		return t.SetView(now)
	}); err != nil {
		return nil, err
	}
	if known, err := w.noteNews(next, pages, map[string]bool{}); err != nil {
		return nil, err
	} else if known {
		return w.bringComing(ctx)
	}
	return w.Update(ctx, UpdateOptions{})
}

// bringComing brings what is known to be newer, and looks only into the folders where that is: what comes is known not to meet unsent
// changes.
func (w *Workspace) bringComing(ctx context.Context) (*Updated, error) {
	var behind []string
	same := map[string]int{} // by folder
	if err := w.look(func(t index.Tx) error {
		return t.Each(func(string) bool { return true }, func(e *index.Entry) {
			live := e.Known && !e.Theirs.Gone
			switch {
			case live && e.Had && e.Theirs.Newest == e.Base.Version:
				same[path.Dir(e.Path)]++
			case live || e.Known && e.Had:
				behind = append(behind, e.Path)
			}
		})
	}); err != nil {
		return nil, err
	}
	s, err := w.lookAt(ctx, behind)
	if err != nil {
		return nil, err
	}
	if part := (scan.Scan{Within: foldersOf(behind)}); len(part.Within) > 0 || len(behind) == 0 {
		for folder, n := range same {
			if len(behind) == 0 || !part.WantsFile(folder) {
				s.Same += n
			}
		}
	}
	return w.bringFound(ctx, s, UpdateOptions{})
}

// lookAt looks into the folders of paths, for what has unsent changes or is behind there; without paths at nothing.
func (w *Workspace) lookAt(ctx context.Context, paths []string) (*Status, error) {
	if len(paths) == 0 {
		view, err := w.view()
		return &Status{View: view}, err
	}
	return w.Status(ctx, Question{Paths: foldersOf(paths), Unsent: true})
}

// unsentIn are the paths of what has unsent changes, and is known elsewhere at one of some folded places.
func (s *Status) unsentIn(places map[string]bool) (paths []string) {
	for _, a := range s.Assets {
		if Changed(a) && (places[assetpath.Fold(a.Path)] || places[assetpath.Fold(s.source(a.Path))]) {
			paths = append(paths, a.Path)
		}
	}
	return paths
}

// foldersOf are the folders of paths, or none where that is the whole workspace.
func foldersOf(paths []string) (list []string) {
	known := map[string]bool{}
	for _, p := range paths {
		folder := path.Dir(p)
		if known[folder] {
			continue
		}
		if known[folder] = true; folder == "." {
			return nil
		}
		list = append(list, folder)
	}
	return list
}

// onTheWay refuses where unsent changes here are about what comes.
func (w *Workspace) onTheWay(ctx context.Context, pages []model.Assets, branch string) error {
	jobs, err := w.Jobs()
	if err != nil {
		return err
	}
	for _, j := range jobs {
		if len(j.Refusals) == 0 {
			return model.NewProblem(model.Taken, "wait until it has arrived (tarn watch sends it), or take it back with tarn send --cancel",
				"a send goes on in the background, for the branch that the workspace is on")
		}
	}
	var paths []string
	coming := map[string]bool{}
	for _, page := range pages {
		for _, a := range page.Assets {
			paths, coming[assetpath.Fold(a.Path)] = append(paths, a.Path), true
		}
	}
	s, err := w.lookAt(ctx, paths)
	if err != nil {
		return err
	}
	var refusals []model.Refusal
	for _, path := range s.unsentIn(coming) {
		refusals = append(refusals, model.Refusal{Path: path, Reason: "edited",
			Message: fmt.Sprintf("%s: it has changes here that were not sent, and %s has something else of it", path, branch),
			Remedy:  "send it (tarn send), or put it away (tarn discard), then switch"})
	}
	if len(refusals) > 0 {
		return &model.Refused{Refusals: refusals}
	}
	return nil
}
