package workspace

import (
	"context"
	"sort"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/scope"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/transfer"
)

// Scope is which folders come down; none for all.
func (w *Workspace) Scope() (scope.Scope, error) {
	view, err := w.view()
	return view.Scope, err
}

// SetScope is called before the first update of a new workspace.
func (w *Workspace) SetScope(folders []string) error {
	var s scope.Scope
	for _, f := range folders {
		s = append(s, strings.Trim(f, "/"))
	}
	if err := s.Check(); err != nil {
		return err
	}
	return w.update(func(t index.Tx) error {
		view, err := t.View()
		if err != nil {
			return err
		}
		var next scope.Scope
		for _, f := range s {
			next = next.Add(f)
			if len(next) == 0 {
				next = scope.Scope{f}
			}
		}
		view.Scope = next
		return t.SetView(view)
	})
}

// AddScope brings folders down from now on.
func (w *Workspace) AddScope(ctx context.Context, folders []string) (*Updated, error) {
	view, err := w.view()
	if err != nil {
		return nil, err
	}
	next := view.Scope
	for _, f := range folders {
		if next.Has(f + "/x") {
			return nil, model.NewProblem(model.BadRequest, "tarn scope shows what comes down", "%s is in the scope already", f)
		}
		next = next.Add(f)
	}
	if err := next.Check(); err != nil {
		return nil, err
	}
	if err := w.rescope(ctx, next); err != nil {
		return nil, err
	}
	return w.Update(ctx, UpdateOptions{Paths: folders})
}

// rescope asks for everything in a scope anew, and keeps it together with the scope.
func (w *Workspace) rescope(ctx context.Context, next scope.Scope) error {
	view, err := w.view()
	if err != nil {
		return err
	}
	pages, err := w.ask(ctx, view, 0, next)
	if err != nil {
		return err
	}
	if err := w.update(func(t index.Tx) error {
		view.Scope = next
		return t.SetView(view)
	}); err != nil {
		return err
	}
	_, err = w.noteNews(view, pages, map[string]bool{})
	w.Describe(ctx)
	return err
}

// RemoveScope takes folders out of the workspace. Where something in them was not sent, nothing is done.
func (w *Workspace) RemoveScope(ctx context.Context, folders []string) (*Updated, error) {
	view, err := w.view()
	if err != nil {
		return nil, err
	}
	next := view.Scope
	for _, f := range folders {
		if f == "" {
			return nil, model.NewProblem(model.BadRequest, "name folders below it", "the whole project can't be taken out of the scope")
		}
		next = next.Remove(f)
	}
	if err := next.Check(); err != nil {
		return nil, err
	}
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, err
	}
	var refusals []model.Refusal
	for _, f := range folders {
		if !s.has(f) {
			refusals = append(refusals, model.Refusal{Path: f, Reason: "unknown", Message: f + ": there is no such folder in this workspace",
				Remedy: "check the spelling; tarn scope shows what comes down"})
		}
	}
	var remove []placing.Wanted
	for _, a := range s.Assets {
		if next.Has(a.Path) && (a.MovedFrom == "" || next.Has(a.MovedFrom)) || a.State == model.Outside {
			continue
		}
		if Changed(a) {
			refusals = append(refusals, model.Refusal{Path: a.Path, Reason: a.State, Message: a.Path + ": it has changes here that were not sent (" +
				a.State + ")", Remedy: "send them, or put them away with tarn discard, then take the folder out"})
			continue
		}
		if a.Lock != nil && a.Lock.WorkspaceID == w.Marker.Workspace {
			refusals = append(refusals, model.Refusal{Path: a.Path, Reason: "held", Message: a.Path + ": you hold its lock here",
				Remedy: "give it back with tarn unlock, then take the folder out"})
			continue
		}
		if was := s.standing(a.Path); was != nil {
			remove = append(remove, placing.Wanted{Asset: a, Place: a.Path, Was: was})
		}
	}
	if len(refusals) > 0 {
		return nil, &model.Refused{Refusals: refusals}
	}
	u := newUpdated()
	u.At = view.At
	if u.Refusals, err = w.bring(ctx, nil, remove, func(f placing.Wanted) { u.Removed = append(u.Removed, f.Asset) }); err != nil {
		return u, err
	}
	defer w.Describe(ctx)
	return u, w.update(func(t index.Tx) error {
		view, err := t.View()
		if err != nil {
			return err
		}
		var drop []string
		if err := t.EachNewest(func(p string) error {
			if !next.Has(p) {
				drop = append(drop, p)
			}
			return nil
		}); err != nil {
			return err
		}
		for _, p := range drop {
			if err := t.DropNewest(p); err != nil {
				return err
			}
		}
		view.Scope, view.Turn = next, view.Turn+1
		return t.SetView(view)
	})
}

// has tells whether the index has something in a folder.
func (s *Status) has(folder string) bool {
	for i := range s.scan.Tracked {
		if p := s.scan.Tracked[i].Path; p != folder && assetpath.Below(p, folder) {
			return true
		}
	}
	return false
}

// Coming is what an update would bring, by folder.
type Coming struct {
	Files   int
	Size    int64
	Folders []model.Folder
	Pace    int64 // bytes a second, the last time; 0 where that is not known
}

// Coming asks what is newer, and adds up what is to be brought, by the first folder of its path.
func (w *Workspace) Coming(ctx context.Context) (*Coming, error) {
	if err := w.Refresh(ctx); err != nil {
		return nil, err
	}
	s, err := w.Status(ctx, Question{})
	if err != nil {
		return nil, err
	}
	out := &Coming{Pace: transfer.Pace(w.Marker.Service)}
	at := map[string]int{}
	for _, a := range s.Assets {
		if a.State != model.Behind || a.Gone {
			continue
		}
		name, _, deep := strings.Cut(a.Path, "/")
		if name += "/"; !deep {
			name = "(no folder)"
		}
		i, ok := at[name]
		if !ok {
			i = len(out.Folders)
			at[name], out.Folders = i, append(out.Folders, model.Folder{Name: name})
		}
		out.Folders[i].Assets++
		out.Folders[i].Size += a.Size
		out.Files, out.Size = out.Files+1, out.Size+a.Size
	}
	sort.SliceStable(out.Folders, func(i, j int) bool { return out.Folders[i].Size > out.Folders[j].Size })
	return out, nil
}
