package desk

import (
	"context"
	"errors"
	"net/http"
	"path/filepath"
	"strings"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
	"kettletarn/internal/workspace/scan"
)

// What is done with a workspace at the desk: each is the command of the same name.

func (d *Desk) workspaces(context.Context, Nothing) (Workspaces, error) {
	out := Workspaces{Workspaces: []Standing{}}
	for _, w := range d.all() {
		w.mu.Lock()
		s := w.standing
		w.mu.Unlock()
		s.Assets = []model.Asset{}
		out.Workspaces = append(out.Workspaces, s)
	}
	return out, nil
}

func (d *Desk) status(ctx context.Context, q Of) (out Standing, err error) {
	w, err := d.workspace(q.Workspace)
	if err != nil {
		return out, err
	}
	w.mu.Lock()
	out = w.standing
	w.mu.Unlock()
	if len(q.Paths) == 0 && out.Known {
		return out, nil
	}
	err = d.looking(q.Workspace, func(w *workspace.Workspace) error {
		named, err := paths(w, q.Paths)
		if err != nil {
			return err
		}
		s, err := w.Status(ctx, workspace.Question{Paths: named})
		if err == nil {
			out.Standing = w.Standing(s)
			if out.Assets, _ = workspace.Within(out.Assets, named); out.Assets == nil {
				out.Assets = []model.Asset{}
			}
		}
		return err
	})
	return out, err
}

func (s *speaker) follow(_ context.Context, q Follow) (Standing, error) {
	w, err := s.desk.workspace(q.Workspace)
	if err != nil {
		return Standing{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.follows[w] = true
	return w.follow(s.follower), nil
}

func (s *speaker) unfollow(_ context.Context, q Follow) (Nothing, error) {
	w, err := s.desk.workspace(q.Workspace)
	if err != nil {
		return Nothing{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.follows, w)
	w.leave(s.follower)
	return Nothing{}, nil
}

func (d *Desk) settings(_ context.Context, q Settings) (Settings, error) {
	w, err := d.workspace(q.Workspace)
	if err != nil {
		return q, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	kept, err := readSettings()
	if err != nil {
		return q, err
	}
	if kept.AutoUpdate[q.Workspace] = q.AutoUpdate; !q.AutoUpdate {
		delete(kept.AutoUpdate, q.Workspace)
	}
	if err := kept.write(); err != nil {
		return q, err
	}
	w.again()
	return q, nil
}

// stir makes the desk look at once which workspaces there are.
func (d *Desk) stir() {
	select {
	case d.changed <- struct{}{}:
	default:
	}
}

func (s *speaker) begin(ctx context.Context, q Begin) (out Begun, err error) {
	out = Begun{Locks: []model.Lock{}, Brought: []model.Asset{}, HeadsUp: []model.HeadsUp{}, Refusals: []model.Refusal{}, Opened: []string{}}
	err = s.desk.working(ctx, q.Workspace, s.progress(q.Long), func(w *workspace.Workspace) error {
		named, err := named(w, q.Paths)
		if err != nil {
			return err
		}
		got, err := w.Lock(ctx, named, workspace.LockOptions{Note: q.Note, Begin: true, Set: q.Set, Any: q.Any, Bring: q.Bring})
		if err != nil {
			return err
		}
		out.Locks = append(out.Locks, got.Locks...)
		if u := got.Updated; u != nil {
			out.Brought = append(out.Brought, u.Brought...)
			out.Refusals = append(out.Refusals, u.Refusals...)
			for _, c := range u.Clashes {
				out.Refusals = append(out.Refusals, model.Refusal{Path: c.Path, Reason: model.Clash, Message: c.Path +
					": changed here, and a newer version is there", Remedy: "settle it: yours, theirs, or both"})
			}
		}
		out.Refusals = append(out.Refusals, got.Refusals...)
		if out.HeadsUp, err = headsUps(w, got.Locks); err != nil || !q.Open {
			return err
		}
		if len(got.Locks) > maxOpened {
			out.Refusals = append(out.Refusals, model.Refusal{Reason: "many", Message: "these are too many to open at once",
				Remedy: "open those that you need, one by one"})
			return nil
		}
		for _, l := range got.Locks {
			if err := s.desk.openFile(w, l.Path, false); err != nil {
				out.Refusals = append(out.Refusals, reasons(l.Path, err)...)
				continue
			}
			out.Opened = append(out.Opened, l.Path)
		}
		return nil
	})
	return out, err
}

// maxOpened is how many files are opened at once.
const maxOpened = 5

// named are paths that were named, and refuses to take none for all.
func named(w *workspace.Workspace, list []string) ([]string, error) {
	if len(list) == 0 {
		return nil, model.NewProblem(model.BadRequest, "name assets or folders in paths", "nothing was named")
	}
	return paths(w, list)
}

// reasons are the refusals that an error is.
func reasons(path string, err error) []model.Refusal {
	var refused *model.Refused
	if errors.As(err, &refused) {
		return refused.Refusals
	}
	var problem *model.Problem
	if errors.As(err, &problem) {
		return []model.Refusal{{Path: path, Reason: problem.Type, Message: problem.Detail, Remedy: problem.Remedy}}
	}
	return []model.Refusal{{Path: path, Reason: "failed", Message: path + ": " + err.Error()}}
}

func headsUps(w *workspace.Workspace, locks []model.Lock) ([]model.HeadsUp, error) {
	taken := make([]string, len(locks))
	for i, l := range locks {
		taken[i] = l.Path
	}
	heads, err := w.HeadsUps(taken)
	return append([]model.HeadsUp{}, heads...), err
}

func (d *Desk) lock(ctx context.Context, q TakeLocks) (out Locked, err error) {
	out = Locked{Locks: []model.Lock{}, Waiting: []model.Waiting{}, HeadsUp: []model.HeadsUp{}, Refusals: []model.Refusal{}}
	err = d.working(ctx, q.Workspace, nil, func(w *workspace.Workspace) error {
		named, err := named(w, q.Paths)
		if err != nil {
			return err
		}
		got, err := w.Lock(ctx, named, workspace.LockOptions{Note: q.Note, Wait: q.Wait, Set: q.Set, Any: q.Any, Diverge: q.Diverge,
			Bring: q.Bring, Reserve: q.Reserve})
		if err != nil {
			return err
		}
		out.Locks, out.Waiting = append(out.Locks, got.Locks...), append(out.Waiting, got.Waiting...)
		out.Refusals = append(out.Refusals, got.Refusals...)
		out.HeadsUp, err = headsUps(w, got.Locks)
		return err
	})
	return out, err
}

func (d *Desk) unlock(ctx context.Context, q Unlock) (out Unlocked, err error) {
	out = Unlocked{Unlocked: []string{}, Left: []string{}}
	err = d.working(ctx, q.Workspace, nil, func(w *workspace.Workspace) error {
		named, err := named(w, q.Paths)
		if err != nil {
			return err
		}
		if err := settleEdits(ctx, w, named, q.Edits); err != nil {
			return err
		}
		freed, err := w.Unlock(ctx, named, false, "")
		out.Unlocked, out.Left, out.Next = append(out.Unlocked, freed.Freed...), append(out.Left, freed.Left...), freed.Next
		return err
	})
	return out, err
}

// settleEdits sees to unsent changes of what is to be unlocked. It never guesses what shall become of them.
func settleEdits(ctx context.Context, w *workspace.Workspace, named []string, edits string) error {
	unsent, err := w.Unsent(ctx, named)
	if err != nil || len(unsent) == 0 {
		return err
	}
	list := make([]string, len(unsent))
	var refusals []model.Refusal
	for i, a := range unsent {
		list[i] = a.Path
		refusals = append(refusals, model.Refusal{Path: a.Path, Reason: "unsent", Message: a.Path + ": it has changes here that were not sent",
			Remedy: "send them, put them away, or leave them here without the lock"})
	}
	switch edits {
	case "leave":
		return nil
	case "put-away":
		out, err := w.Discard(ctx, list)
		if err == nil && len(out.Refusals) > 0 {
			err = &model.Refused{Refusals: out.Refusals}
		}
		return err
	case "":
		return &model.Refused{Refusals: refusals}
	}
	return model.NewProblem(model.BadRequest, "edits is leave or put-away", "nothing can be done with edits as %q", edits)
}

func (d *Desk) ask(ctx context.Context, q AskToLetGo) (out model.Waiting, err error) {
	if strings.TrimSpace(q.Reason) == "" {
		return out, model.NewProblem(model.BadRequest, "say why: the holder gets to see it", "the reason is missing")
	}
	err = d.working(ctx, q.Workspace, nil, func(w *workspace.Workspace) error {
		named, err := named(w, []string{q.Path})
		if err == nil {
			out, err = w.Ask(ctx, named[0], q.Reason)
		}
		return err
	})
	return out, err
}

func (d *Desk) answer(ctx context.Context, q AnswerAsk) (Nothing, error) {
	return Nothing{}, d.working(ctx, q.Workspace, nil, func(w *workspace.Workspace) error {
		named, err := named(w, []string{q.Path})
		if err != nil {
			return err
		}
		if q.Give {
			if err := settleEdits(ctx, w, named, ""); err != nil {
				return err
			}
		}
		return w.Answer(ctx, model.AskAnswer{Path: named[0], Give: q.Give, To: q.To, Word: q.Word, Until: q.Until})
	})
}

func (d *Desk) open(_ context.Context, q Open) (Nothing, error) {
	return Nothing{}, d.looking(q.Workspace, func(w *workspace.Workspace) error {
		named, err := named(w, []string{q.Path})
		if err != nil {
			return err
		}
		return d.openFile(w, named[0], q.Anyway)
	})
}

func (d *Desk) openFile(w *workspace.Workspace, path string, anyway bool) error {
	if !w.Has(path) {
		return model.NewProblem(model.NotFound, "bring it down, then open it", "%s is not here", path)
	}
	if !anyway && !w.Openable(path) {
		return &model.Refused{Refusals: []model.Refusal{{Path: path, Reason: "unknown-kind", Message: path +
			": it is of no kind that is known here, and opening it might run it", Remedy: "open it all the same only where you know what it is"}}}
	}
	return d.o.Open(filepath.Join(w.Root, filepath.FromSlash(path)))
}

func (s *speaker) send(ctx context.Context, q Send) (out Sending, err error) {
	out.Apart = []workspace.Reference{}
	if strings.TrimSpace(q.Note) == "" {
		return out, model.NewProblem(model.BadRequest, "say in the note what was done, and why", "the note is missing")
	}
	at, err := s.desk.workspace(q.Workspace)
	if err != nil {
		return out, err
	}
	at.mu.Lock()
	away := at.standing.Known && !at.standing.Online
	at.mu.Unlock()
	err = s.desk.working(ctx, q.Workspace, s.progress(q.Long), func(w *workspace.Workspace) error {
		named, err := paths(w, q.Paths)
		if err != nil {
			return err
		}
		job, err := w.SendLater(ctx, workspace.SendOptions{About: q.About, Paths: named, KeepLocks: q.KeepLocks, WithGone: q.WithGone,
			Older: q.Older, Set: q.Set, Away: away, Apart: func(list []workspace.Reference) bool {
				if !q.Without {
					out.Apart = list
				}
				return q.Without
			}})
		if len(out.Apart) > 0 {
			return nil // nothing was done, and the answer says why
		}
		if job != nil {
			now := workspace.UnderWayOf(job)
			out.Job = &now
			select {
			case at.jobs <- struct{}{}:
			default:
			}
		}
		return err
	})
	return out, err
}

func (d *Desk) cancelSends(ctx context.Context, q In) (out Canceled, err error) {
	out.Handoffs = []model.Handoff{}
	err = d.working(ctx, q.Workspace, nil, func(w *workspace.Workspace) error {
		jobs, err := w.Jobs()
		if err != nil {
			return err
		}
		for i := range jobs {
			h, err := w.CancelJob(ctx, &jobs[i])
			if err != nil {
				return err
			}
			if h != nil {
				out.Handoffs = append(out.Handoffs, *h)
			}
		}
		return nil
	})
	return out, err
}

func (s *speaker) update(ctx context.Context, q Update) (out *workspace.Updated, err error) {
	err = s.desk.working(ctx, q.Workspace, s.progress(q.Long), func(w *workspace.Workspace) error {
		named, err := paths(w, q.Paths)
		if err == nil {
			out, err = w.Update(ctx, workspace.UpdateOptions{Paths: named, Preview: q.Preview, Newest: q.Newest, To: q.To})
		}
		return err
	})
	return out, err
}

func (d *Desk) discard(ctx context.Context, q Of) (out *workspace.Discarded, err error) {
	err = d.working(ctx, q.Workspace, nil, func(w *workspace.Workspace) error {
		named, err := named(w, q.Paths)
		if err == nil {
			out, err = w.Discard(ctx, named)
		}
		return err
	})
	return out, err
}

func (d *Desk) putAway(_ context.Context, q In) (out Kept, err error) {
	err = d.looking(q.Workspace, func(w *workspace.Workspace) error {
		list, err := w.Kept()
		out.PutAway = append([]workspace.PutAway{}, list...)
		return err
	})
	return out, err
}

func (d *Desk) restore(ctx context.Context, q Restore) (out Restored, err error) {
	err = d.working(ctx, q.Workspace, nil, func(w *workspace.Workspace) error {
		list, err := w.Restore(ctx, q.Names)
		out.Restored = append([]workspace.PutAway{}, list...)
		return err
	})
	return out, err
}

func (d *Desk) settle(ctx context.Context, q Settle) (out *workspace.Settled, err error) {
	err = d.working(ctx, q.Workspace, nil, func(w *workspace.Workspace) error {
		named, err := named(w, []string{q.Path})
		if err == nil {
			out, err = w.Settle(ctx, named[0], q.Use)
		}
		return err
	})
	return out, err
}

func (d *Desk) leftOut(ctx context.Context, q Of) (out LeftOutList, err error) {
	err = d.looking(q.Workspace, func(w *workspace.Workspace) error {
		named, err := paths(w, q.Paths)
		if err != nil {
			return err
		}
		s, err := w.Status(ctx, workspace.Question{Paths: named, LeftOut: true})
		if err == nil {
			out.LeftOut = append([]scan.LeftOut{}, s.LeftOut...)
		}
		return err
	})
	return out, err
}

func (d *Desk) include(ctx context.Context, q Include) (out *workspace.Included, err error) {
	err = d.working(ctx, q.Workspace, nil, func(w *workspace.Workspace) error {
		named, err := named(w, q.Paths)
		if err == nil {
			out, err = w.Include(ctx, named, q.Reason)
		}
		return err
	})
	return out, err
}

// give takes a file that the page gives, whose content is the request's body, into a workspace.
func (d *Desk) give(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	var given *workspace.Given
	err := d.looking(q.Get("workspace"), func(ws *workspace.Workspace) (err error) {
		given, err = ws.Receive(r.Body)
		return err
	})
	if err != nil {
		failWith(w, err)
		return
	}
	defer given.Drop()
	var out model.RuleTest
	err = d.working(r.Context(), q.Get("workspace"), nil, func(ws *workspace.Workspace) error {
		place, err := ws.Path(ws.Root, q.Get("path"))
		if err == nil {
			out, err = ws.Put(r.Context(), given, place, q.Get("over") != "")
		}
		return err
	})
	if err != nil {
		failWith(w, err)
		return
	}
	answerJSON(w, http.StatusOK, out)
}

func (d *Desk) compare(ctx context.Context, q One) (out Compared, err error) {
	u, err := d.unsent(ctx, q)
	if err != nil {
		return out, err
	}
	return Compared{Path: u.Path, Version: u.Version, Comparison: u.Comparison}, nil
}

func (d *Desk) history(ctx context.Context, q One) (out model.AssetHistory, err error) {
	err = d.looking(q.Workspace, func(w *workspace.Workspace) error {
		named, err := named(w, []string{q.Path})
		if err != nil {
			return err
		}
		on, err := w.Branch()
		if err == nil {
			out, err = w.Client.Asset(ctx, w.Marker.Project, on, named[0])
		}
		return err
	})
	return out, err
}

func (d *Desk) scope(_ context.Context, q In) (out Scope, err error) {
	err = d.looking(q.Workspace, func(w *workspace.Workspace) error {
		now, err := w.Scope()
		out.Scope = append([]string{}, now...)
		return err
	})
	return out, err
}

func (s *speaker) setScope(ctx context.Context, q SetScope) (out *workspace.Updated, err error) {
	err = s.desk.working(ctx, q.Workspace, s.progress(q.Long), func(w *workspace.Workspace) error {
		if len(q.Add)+len(q.Remove) == 0 || len(q.Add) > 0 && len(q.Remove) > 0 {
			return model.NewProblem(model.BadRequest, "name folders to add, or folders to remove", "it is not said what the scope shall be")
		}
		add, err := paths(w, q.Add)
		if err != nil {
			return err
		}
		remove, err := paths(w, q.Remove)
		if err != nil {
			return err
		}
		if len(add) > 0 {
			out, err = w.AddScope(ctx, add)
		} else {
			out, err = w.RemoveScope(ctx, remove)
		}
		return err
	})
	return out, err
}

func (s *speaker) switchTo(ctx context.Context, q Switch) (out *workspace.Updated, err error) {
	err = s.desk.working(ctx, q.Workspace, s.progress(q.Long), func(w *workspace.Workspace) (err error) {
		out, err = w.Switch(ctx, q.Branch)
		return err
	})
	return out, err
}
