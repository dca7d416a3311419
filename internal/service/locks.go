package service

import (
	"context"
	"sort"
	"strings"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
)

// MaxPaths is how many paths one request may name; MaxNote the bytes of a note.
const (
	MaxPaths = 125_000
	MaxNote  = 64 << 10
)

// Want is one asset that somebody wants to lock, with the version that they have (0 for none).
type Want struct {
	Path    string
	Version int
}

// TakeLocks locks all of the assets or none. willUpdate says that the caller fetches the newest versions next, so that an old one
// is no reason to refuse. The assets come back as they are now, so that whoever fetches knows what.
func (s *Service) TakeLocks(ctx context.Context, actor Actor, key, workspaceID string, wants []Want, note string, willUpdate bool) (taken []model.Lock, assets []model.Asset, err error) {
	if len(note) > 1000 {
		return nil, nil, model.NewProblem(model.BadRequest, "shorten it", "the note of a lock has at most 1,000 bytes")
	}
	paths := make([]string, len(wants))
	have := map[string]int{}
	for i, w := range wants {
		paths[i] = w.Path
		have[assetpath.Fold(w.Path)] = w.Version
	}
	err = s.changeLocks(ctx, actor, key, workspaceID, model.Artist, paths, func(c *lockChange) error {
		taken = taken[:0]
		for _, a := range c.assets {
			next, refusal := lock.Take(a.Lock, c.place, have[a.Folded], willUpdate, note, c.now)
			c.set(a, next, refusal)
			taken = append(taken, shown(next))
		}
		if err := c.finish("lock.taken", map[string]any{"note": note}); err != nil {
			return err
		}
		if assets, err = c.tx.AssetsAt(c.ctx, c.project.ID, sortedKeys(have)); err != nil {
			return err
		}
		return withHeadsUps(c.ctx, c.tx, c.project.ID, c.place.WorkspaceID, assets)
	})
	return taken, assets, err
}

// GiveBackLocks unlocks all of the assets or none. With override, a lead takes them away from whoever holds them; reason is kept.
func (s *Service) GiveBackLocks(ctx context.Context, actor Actor, key, workspaceID string, paths []string, override bool, reason string) error {
	role, kind := model.Artist, "lock.given-back"
	subject := map[string]any{}
	if override {
		role, kind = model.Lead, "lock.overridden"
		reason = strings.TrimSpace(reason)
		if reason == "" || len(reason) > 1000 {
			return model.NewProblem(model.BadRequest, "add --reason with a few words; the holder gets to see them", "taking a lock away needs a reason of at most 1,000 bytes")
		}
		subject["reason"] = reason
	}
	return s.changeLocks(ctx, actor, key, workspaceID, role, paths, func(c *lockChange) error {
		from := []string{}
		for _, a := range c.assets {
			if override {
				from = append(from, a.Lock.Holder.Handle)
				c.set(a, lock.Override(a.Lock), nil)
				continue
			}
			next, refusal := lock.GiveBack(a.Lock, c.place, c.now)
			c.set(a, next, refusal)
		}
		if override {
			subject["from"] = from
		}
		return c.finish(kind, subject)
	})
}

// Locks lists what is held.
func (s *Service) Locks(ctx context.Context, actor Actor, key string) (list []model.Lock, err error) {
	err = s.read(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.Locks(ctx, p.ID)
		return err
	})
	return list, err
}

// lockChange is one all-or-none change of locks inside its transaction.
type lockChange struct {
	ctx      context.Context
	tx       *records.Tx
	actor    Actor
	project  records.Project
	place    lock.Place
	now      time.Time
	assets   []*records.Asset
	changed  []*records.Asset
	refusals []model.Refusal
}

func (s *Service) changeLocks(ctx context.Context, actor Actor, key, workspaceID, role string, paths []string, decide func(*lockChange) error) error {
	if len(paths) == 0 || len(paths) > MaxPaths {
		return model.NewProblem(model.BadRequest, "", "name 1 to %d assets", MaxPaths)
	}
	return s.write(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, role)
		if err != nil {
			return err
		}
		if err := tx.Gate(ctx, p.ID, false); err != nil {
			return err
		}
		// Read again behind the gate: the person may have been removed while this waited.
		if p, err = project(ctx, tx, actor, key, role); err != nil {
			return err
		}
		w, err := workspace(ctx, tx, actor, p, workspaceID)
		if err != nil {
			return err
		}
		folded := map[string]string{}
		for _, path := range paths {
			folded[assetpath.Fold(path)] = path
		}
		found, err := tx.LockAssets(ctx, p.ID, sortedKeys(folded))
		if err != nil {
			return err
		}
		c := &lockChange{ctx: ctx, tx: tx, actor: actor, project: p, place: lock.Place{Handle: w.Handle, WorkspaceID: w.ID, Workspace: w.Name}}
		if c.now, err = tx.Now(ctx); err != nil {
			return err
		}
		for _, f := range sortedKeys(folded) {
			a := found[f]
			if a == nil || a.Gone {
				c.refusals = append(c.refusals, model.Refusal{Path: folded[f], Reason: "unknown", Message: printable(folded[f]) + ": there is no such asset",
					Remedy: "check the spelling; a new file needs no lock before it is sent"})
				continue
			}
			c.assets = append(c.assets, a)
		}
		return decide(c)
	})
}

func (c *lockChange) set(a *records.Asset, next lock.State, refusal *model.Refusal) {
	if refusal != nil {
		c.refusals = append(c.refusals, *refusal)
		return
	}
	if next != a.Lock {
		a.Lock = next
		c.changed = append(c.changed, a)
	}
}

func (c *lockChange) finish(kind string, subject map[string]any) error {
	if len(c.refusals) > 0 {
		return &model.Refused{Refusals: c.refusals}
	}
	if len(c.changed) == 0 {
		return nil
	}
	if err := c.tx.SetLocks(c.ctx, c.actor.ID, c.changed); err != nil {
		return err
	}
	subject["paths"], subject["workspace"] = somePaths(c.changed), c.place.Workspace
	subject["count"] = len(c.changed)
	return c.tx.AddEvent(c.ctx, c.project.ID, c.actor.ID, kind, subject)
}

// releaseAll frees every lock of one person in a project.
func (s *Service) releaseAll(ctx context.Context, tx *records.Tx, project int64, handle string) (int, error) {
	all, err := tx.Locks(ctx, project)
	if err != nil {
		return 0, err
	}
	var folded []string
	for _, l := range all {
		if l.Holder == handle {
			folded = append(folded, assetpath.Fold(l.Path))
		}
	}
	found, err := tx.LockAssets(ctx, project, folded)
	if err != nil {
		return 0, err
	}
	var changed []*records.Asset
	for _, a := range found {
		if a.Lock.Holder.Handle == handle {
			a.Lock = lock.Override(a.Lock)
			changed = append(changed, a)
		}
	}
	return len(changed), tx.SetLocks(ctx, 0, changed)
}

func shown(l lock.State) model.Lock {
	return model.Lock{Path: l.Path, Holder: l.Holder.Handle, Workspace: l.Holder.Workspace, WorkspaceID: l.Holder.WorkspaceID,
		Since: l.Since, Note: l.Note, Fence: l.Fence, Waitlist: []string{}}
}

// somePaths keeps events small: the first hundred paths, beside a count.
func somePaths(assets []*records.Asset) []string {
	var paths []string
	for _, a := range assets {
		if len(paths) == 100 {
			break
		}
		paths = append(paths, a.Path)
	}
	return paths
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
