package workspace

import (
	"context"
	"fmt"
	"path/filepath"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/scan"
)

// Updated is what an update did, or, as a preview, would do. Moved are files with unsent changes that followed their assets to new places.
// Same counts what is the same here and at the service; a switch counts what it had no need to look at by its version alone.
type Updated struct {
	At       int             `json:"at"`
	Follows  int             `json:"follows,omitempty"`
	Pinned   bool            `json:"pinned,omitempty"`
	Brought  []model.Asset   `json:"brought"`
	Removed  []model.Asset   `json:"removed"`
	Moved    []model.Asset   `json:"moved"`
	Same     int             `json:"same"`
	Clashes  []model.Asset   `json:"clashes"`
	Refusals []model.Refusal `json:"refusals"`
}

func newUpdated() *Updated {
	return &Updated{Brought: []model.Asset{}, Removed: []model.Asset{}, Moved: []model.Asset{}, Clashes: []model.Asset{},
		Refusals: []model.Refusal{}}
}

// UpdateOptions say what an update brings. To is a handoff to stay at from now on; Pinned goes to what tarn.pin says and follows it from
// now on; Newest goes back to following the newest.
type UpdateOptions struct {
	Paths   []string
	Preview bool
	To      int
	Pinned  bool
	Newest  bool
}

// Update brings down what is newer, at or below the paths. A local change is never overwritten: it is reported as a clash, and the rest
// goes on.
func (w *Workspace) Update(ctx context.Context, o UpdateOptions) (*Updated, error) {
	view, err := w.view()
	if err != nil {
		return nil, err
	}
	switch {
	case (o.To != 0 || o.Pinned || o.Newest) && len(o.Paths) > 0:
		return nil, model.NewProblem(model.BadRequest, "leave the paths out; tarn rollback brings an old version of one asset back",
			"a workspace follows a handoff as a whole")
	case o.Preview && (o.To != 0 || o.Pinned || o.Newest):
		if o.Pinned {
			p, err := w.checkedPin(ctx)
			if err != nil {
				return nil, err
			}
			o.To = p.Handoff
		}
		return w.previewTo(ctx, o.To)
	case o.To != 0 || o.Newest:
		err = w.follow(ctx, o.To, false)
	case o.Pinned || view.Pinned:
		err = w.followPin(ctx)
	default:
		err = w.Refresh(ctx)
	}
	if err != nil {
		return nil, err
	}
	return w.bringDown(ctx, o)
}

// bringDown brings what is known to be newer.
func (w *Workspace) bringDown(ctx context.Context, o UpdateOptions) (*Updated, error) {
	s, err := w.Status(ctx, Question{All: len(o.Paths) > 0})
	if err != nil {
		return nil, err
	}
	defer w.report(ctx, s)()
	return w.bringFound(ctx, s, o)
}

// bringFound brings what a look found to be newer.
func (w *Workspace) bringFound(ctx context.Context, s *Status, o UpdateOptions) (*Updated, error) {
	u := newUpdated()
	u.At, u.Follows, u.Pinned, u.Same = s.At, s.Follows, s.Pinned, s.Same
	assets, missing := Within(s.Assets, o.Paths)
	for _, p := range missing {
		u.Refusals = append(u.Refusals, model.Refusal{Path: p, Reason: "unknown", Message: p +
			": there is nothing of that name here or at the service", Remedy: "check the spelling"})
	}
	if len(o.Paths) > 0 {
		u.Same = 0
	}
	bring, remove := s.plan(assets, u, len(o.Paths) > 0)
	if o.Preview {
		for _, f := range bring {
			u.Brought = append(u.Brought, f.Asset)
		}
		for _, f := range remove {
			u.Removed = append(u.Removed, f.Asset)
		}
		return u, nil
	}
	w.offer(ctx)
	if err := w.carry(s, u); err != nil {
		return u, err
	}
	bring, err := w.adopt(s, bring, u)
	if err != nil {
		return u, err
	}
	refusals, err := w.bring(ctx, bring, remove, func(f placing.Wanted) {
		if f.Asset.Gone {
			u.Removed = append(u.Removed, f.Asset)
		} else {
			u.Brought = append(u.Brought, f.Asset)
		}
	})
	u.Refusals = append(u.Refusals, refusals...)
	if err != nil {
		return u, err
	}
	if len(o.Paths) == 0 {
		w.folder.Sweep()
		w.Describe(ctx)
		if besideCode(w.Root) {
			if _, err := KeepFence(ctx, w.Root, false); err != nil {
				return u, err
			}
		}
	}
	return u, w.guardAll(u.Brought)
}

// plan sorts out what is to be brought and what is to be removed.
func (s *Status) plan(assets []model.Asset, u *Updated, counted bool) (bring, remove []placing.Wanted) {
	for _, a := range assets {
		switch a.State {
		case model.Clash:
			u.Clashes = append(u.Clashes, a)
		case model.Same:
			if counted {
				u.Same++
			}
		case model.Behind:
			f := placing.Wanted{Asset: s.theirsOf(a), Place: a.Path, Was: s.standing(a.Path)}
			if f.Asset.Gone {
				remove = append(remove, f)
			} else {
				bring = append(bring, f)
			}
		}
	}
	return bring, remove
}

// theirsOf is an asset as the service has it, under its own path.
func (s *Status) theirsOf(a model.Asset) model.Asset {
	source := s.source(a.Path)
	if t := s.entry(source); t != nil {
		a.Size, a.Executable, a.Gone, a.Newest = t.Theirs.Size, t.Theirs.Executable, t.Theirs.Gone, t.Theirs.Newest
		if a.Content = ""; !a.Gone {
			a.Content = t.Theirs.Content.String()
		}
	}
	a.Path, a.State = source, ""
	return a
}

// follow makes the workspace stay at a handoff, which pinned says is that of the pin, or, with 0, follow the newest again.
func (w *Workspace) follow(ctx context.Context, to int, pinned bool) error {
	view, err := w.view()
	if err != nil {
		return err
	}
	if view.Follows == to && view.Pinned != pinned {
		if err := w.update(func(t index.Tx) error {
			view.Pinned = pinned
			return t.SetView(view)
		}); err != nil {
			return err
		}
	}
	if view.Follows != to {
		next := view
		next.Follows = to
		pages, err := w.ask(ctx, next, view.At, view.Scope)
		if err != nil {
			return err
		}
		if err := w.update(func(t index.Tx) error {
			view.Follows, view.Pinned = to, pinned
			return t.SetView(view)
		}); err != nil {
			return err
		}
		if done, err := w.noteNews(view, pages, map[string]bool{}); err != nil || done {
			return err
		}
	}
	return w.Refresh(ctx)
}

// previewTo says what following a handoff would bring, and changes nothing.
func (w *Workspace) previewTo(ctx context.Context, to int) (*Updated, error) {
	view, err := w.view()
	if err != nil {
		return nil, err
	}
	view.Follows = to
	pages, err := w.ask(ctx, view, view.At, view.Scope)
	if err != nil {
		return nil, err
	}
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, err
	}
	u := newUpdated()
	u.Follows = to
	mine := map[string]model.Asset{}
	for _, a := range s.Assets {
		mine[a.Path] = a
	}
	for _, page := range pages {
		u.At = page.At
		for _, a := range page.Assets {
			here, known := mine[a.Path]
			t := s.entry(a.Path)
			had := t != nil && t.Had
			switch {
			case known && Changed(here):
				u.Clashes = append(u.Clashes, here)
			case a.Gone && had:
				u.Removed = append(u.Removed, a)
			case !a.Gone && (!had || t.Base.Version != a.Newest):
				u.Brought = append(u.Brought, a)
			}
		}
	}
	return u, nil
}

// carry moves files with unsent changes along with their assets, which somebody else moved and did nothing else to.
func (w *Workspace) carry(s *Status, u *Updated) error {
	kept := u.Clashes[:0]
	for _, a := range u.Clashes {
		from, to := s.entry(a.Path), s.entry(a.MovedTo)
		if a.MovedTo == "" || a.MovedFrom != "" || from == nil || to == nil || !from.Here || !from.Had || to.Had || to.Here || to.Theirs.Gone ||
			to.Theirs.Content != from.Base.Content {
			kept = append(kept, a)
			continue
		}
		if err := w.folder.Rename(from.Path, to.Path); err != nil {
			u.Refusals = append(u.Refusals, model.Refusal{Path: assetpath.Printable(to.Path), Reason: "in-the-way",
				Message: fmt.Sprintf("%s: it was moved to %s, and can't follow here: %s", from.Path, assetpath.Printable(to.Path), disk.Cause(err)),
				Remedy:  "clear the way, then run tarn update"})
			kept = append(kept, a)
			continue
		}
		base := from.Base
		base.Version = to.Theirs.Newest
		if err := w.update(func(t index.Tx) error {
			refs := t.Refs(from.Path)
			if err := t.DropBase(from.Path); err != nil {
				return err
			}
			if err := t.DropCut(from.Path); err != nil {
				return err
			}
			return t.SetBase(to.Path, base, refs.OrNone())
		}); err != nil {
			return err
		}
		to.Had = true
		a.MovedFrom, a.Path = a.Path, to.Path
		u.Moved = append(u.Moved, a)
	}
	u.Clashes = kept
	return nil
}

// adopt takes over the files that have the newest content already, whoever put them there, and leaves the rest to be brought.
func (w *Workspace) adopt(s *Status, bring []placing.Wanted, u *Updated) (rest []placing.Wanted, err error) {
	moved := map[string]bool{}
	for _, a := range u.Moved {
		moved[a.Path] = true
	}
	return rest, w.update(func(t index.Tx) error {
		for _, f := range bring {
			if moved[f.Place] {
				continue
			}
			c, known, err := t.Cut(f.Place)
			if err != nil {
				return err
			}
			if f.Was == nil || !known || !c.Stamp.Fits(f.Was.Stamp) || c.Content.String() != f.Asset.Content {
				rest = append(rest, f)
				continue
			}
			if err := t.SetBase(f.Asset.Path, placing.BaseOf(f.Asset, c.Stamp), c.Refs.OrNone()); err != nil {
				return err
			}
			if err := t.DropCut(f.Place); err != nil {
				return err
			}
			u.Brought = append(u.Brought, f.Asset)
		}
		return nil
	})
}

// guardAll is guard for assets; where the rules came, it is for everything.
func (w *Workspace) guardAll(assets []model.Asset) error {
	paths := make([]string, len(assets))
	for i, a := range assets {
		paths[i] = a.Path
		if a.Path == rules.File {
			if _, err := KeepFence(context.Background(), w.Root, false); err != nil {
				return err
			}
			return w.guard(nil)
		}
	}
	if len(paths) == 0 {
		return nil
	}
	return w.guard(paths)
}

// guard makes files read-only whose lock is needed and not held here, and the others writable, where the rules ask for it. No paths stand
// for all that the workspace has.
func (w *Workspace) guard(paths []string) error {
	scan, _ := scan.New(w.Root)
	meta := struct{ ReadOnly bool }{scan.Rules.ReadOnly}
	before := false
	mine := map[string]bool{}
	if err := w.look(func(t index.Tx) (err error) {
		if before, err = t.ReadOnly(); err != nil || !before && !meta.ReadOnly {
			return err
		}
		if before != meta.ReadOnly {
			paths = nil
		}
		locks, err := t.Locks()
		for p, l := range locks {
			mine[p] = l.WorkspaceID == w.Marker.Workspace
		}
		if paths == nil {
			if err := t.EachBase(func(path string, _ index.Base) error {
				paths = append(paths, path)
				return nil
			}); err != nil {
				return err
			}
		}
		return err
	}); err != nil || !before && !meta.ReadOnly {
		return err
	}
	for _, p := range paths {
		name := filepath.FromSlash(p)
		info, err := w.folder.Disk.Lstat(name)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		mode := info.Mode().Perm() | 0o200
		if meta.ReadOnly && !mine[p] && scan.Rules.Decide(p).Lock != rules.Free {
			mode = info.Mode().Perm() &^ 0o222
		}
		if mode != info.Mode().Perm() {
			if err := w.folder.Disk.Chmod(name, mode); err != nil {
				return fmt.Errorf("%s: it can't be made read-only or writable: %w", p, err)
			}
		}
	}
	if before == meta.ReadOnly {
		return nil
	}
	return w.update(func(t index.Tx) error { return t.SetReadOnly(meta.ReadOnly) })
}

// bring fetches files, takes those to be removed away, and puts the fetched ones in their places. What is in the way comes back as
// refusals; the rest goes on. each is told of every file that is done.
func (w *Workspace) bring(ctx context.Context, files, remove []placing.Wanted, each func(placing.Wanted)) ([]model.Refusal, error) {
	files, refusals := w.folder.Admit(files, remove)
	remove, more := w.folder.Admit(remove, remove)
	refusals = append(refusals, more...)
	list, damaged, err := w.way().Fetch(ctx, files)
	refusals = append(refusals, damaged...)
	if err != nil {
		_ = w.folder.Disk.Remove(placing.Incoming)
		return refusals, err
	}
	applied, err := w.folder.Install(ctx, list, remove, each)
	return append(refusals, applied...), err
}
