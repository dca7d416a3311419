// Package locks takes, gives back and waits for the locks of assets, does to them what time does, and keeps the record of them. What may
// happen to a lock is decided in core/lock.
package locks

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/ruling"
)

// Room is where locks are taken, given back and waited for.
type Room struct {
	*ruling.Room
}

// New makes the room.
func New(rules *ruling.Room) *Room { return &Room{rules} }

// MaxReserved is how many names for assets that come later one person keeps in a project.
const MaxReserved = 1000

// Want is one asset that somebody wants to lock, with the version that they have (0 for none).
type Want struct {
	Path    string
	Version int
}

// Wish is how somebody wants to lock assets: see model.LockRequest.
type Wish struct {
	Workspace string
	// Branch is the one that the workspace is on; "" for the one that it was last said to be on.
	Branch     string
	Wants      []Want
	Note       string
	WillUpdate bool
	Any        bool
	Wait       bool
	Diverge    bool
	Bring      bool
	Reserve    bool
}

// Grant is what came of it: the locks that one has now, the lines that one waits in, with Any what was refused, and those assets of which
// there is news (a newer version, somebody's unsent changes, a line), so that whoever fetches knows what.
type Grant struct {
	Locks    []model.Lock
	Waiting  []model.Waiting
	Refusals []model.Refusal
	Assets   []model.Asset
}

// TakeLocks locks all of the assets or none, but with Any those that can be.
func (s *Room) TakeLocks(ctx context.Context, actor ground.Actor, key string, wish Wish) (g Grant, err error) {
	if err := ground.CheckWord("the note of a lock", wish.Note); err != nil {
		return g, err
	}
	paths := make([]string, len(wish.Wants))
	have := map[string]int{}
	for i, w := range wish.Wants {
		paths[i] = w.Path
		have[assetpath.Fold(w.Path)] = w.Version
	}
	request := request{workspace: wish.Workspace, branch: wish.Branch, role: model.Artist, paths: paths, reserve: wish.Reserve,
		outcome: records.Outcome{Ending: lock.EndBrought}}
	err = s.changeLocks(ctx, actor, key, request, func(c *Change) error {
		g = Grant{Locks: []model.Lock{}}
		lacking, err := c.lacking(ctx, have, wish.WillUpdate)
		if err != nil {
			return err
		}
		for _, a := range c.assets {
			next, events, refusal := c.Terms.Take(a.Lock, lock.Request{Who: c.Place, Have: have[a.Folded], WillUpdate: wish.WillUpdate,
				Diverge: wish.Diverge, Wait: wish.Wait, Bring: wish.Bring, Note: wish.Note, Lacks: lacking[a.ID]})
			if c.Set(a, next, events, refusal); refusal != nil {
				continue
			}
			if next.Holder == c.Place {
				g.Locks = append(g.Locks, Shown(next))
			} else if at := next.InLine(c.Place.Handle); at > 0 {
				g.Waiting = append(g.Waiting, waiting(next, at))
			}
		}
		if wish.Any {
			g.Refusals, c.refusals = c.refusals, nil
		}
		if err := c.finish(ctx, map[string]any{"note": wish.Note}); err != nil {
			return err
		}
		// Whoever has the newest version knows what there is to know of it.
		var news []string
		for _, a := range c.assets {
			if have[a.Folded] != a.Lock.Newest || a.HeadsUp || len(a.Lock.Line) > 0 {
				news = append(news, a.Folded)
			}
		}
		if len(news) == 0 {
			return nil
		}
		branch, err := c.Tx.Branch(ctx, c.Project.ID, c.branch, false)
		if err != nil {
			return err
		}
		var heads []model.HeadsUp
		if g.Assets, heads, err = c.Tx.Shown(ctx, c.Project.ID, branch.Head, news); err != nil {
			return err
		}
		ground.AddHeadsUps(g.Assets, heads, c.Place.WorkspaceID)
		c.addLines(g.Assets)
		return nil
	})
	return g, err
}

// lacking finds what other live branches have that is newer than what one goes on from. Of an asset whose versions are one line, the last
// of them descends from all, and nothing is asked.
func (c *Change) lacking(ctx context.Context, have map[string]int, willUpdate bool) (map[int64][]lock.Newest, error) {
	var ids []int64
	var from []int
	for _, a := range c.assets {
		has := have[a.Folded]
		if willUpdate {
			has = a.Lock.Newest
		}
		if a.Forked || has != a.Numbered {
			ids, from = append(ids, a.ID), append(from, has)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	return c.Tx.Lacking(ctx, c.Project.ID, c.branch, ids, from)
}

// addLines adds to assets who waits for them.
func (c *Change) addLines(assets []model.Asset) {
	lines := map[string][]model.Waiter{}
	for _, a := range c.assets {
		if len(a.Lock.Line) > 0 {
			lines[a.Path] = waiters(a.Lock)
		}
	}
	for i, a := range assets {
		assets[i].Waiting = lines[a.Path]
	}
}

func waiters(s lock.State) []model.Waiter {
	list := []model.Waiter{}
	for _, w := range s.Line {
		one := model.Waiter{Handle: w.Handle, Workspace: w.Workspace, WorkspaceID: w.WorkspaceID, Since: w.Since, Note: w.Note}
		if !w.Until.IsZero() {
			one.OfferedUntil = &w.Until
		}
		list = append(list, one)
	}
	return list
}

func waiting(s lock.State, at int) model.Waiting {
	ahead := s.Holder.Handle
	if ahead == "" {
		ahead, _ = s.OfferedTo()
	}
	return model.Waiting{Path: s.Path, Place: at, Holder: ahead}
}

// GiveBackLocks unlocks all of the assets or none. With override, a lead takes them away from whoever holds them; reason is kept.
func (s *Room) GiveBackLocks(ctx context.Context, actor ground.Actor, key, workspaceID string, paths []string, override bool,
	reason string) error {
	request := request{workspace: workspaceID, role: model.Artist, paths: paths, outcome: records.Outcome{Ending: lock.EndGivenBack}}
	if override {
		if reason = strings.TrimSpace(reason); reason == "" {
			return model.NewProblem(model.BadRequest, "add --reason with a few words; the holder gets to see them",
				"taking a lock away needs a reason")
		}
		if err := ground.CheckWord("the reason", reason); err != nil {
			return err
		}
		request.role, request.outcome = model.Lead, records.Outcome{Ending: lock.EndOverridden, Word: reason}
	}
	return s.changeLocks(ctx, actor, key, request, func(c *Change) error {
		for _, a := range c.assets {
			if override {
				next, events := c.Terms.Override(a.Lock, actor.Handle, reason)
				c.Set(a, next, events, nil)
				continue
			}
			next, events, refusal := c.Terms.GiveBack(a.Lock, c.Place)
			c.Set(a, next, events, refusal)
		}
		return c.finish(ctx, map[string]any{})
	})
}

// LeaveLines takes the actor out of the lines for assets.
func (s *Room) LeaveLines(ctx context.Context, actor ground.Actor, key string, paths []string) error {
	request := request{role: model.Artist, paths: paths, outcome: records.Outcome{Ending: lock.EndLeft}}
	return s.changeLocks(ctx, actor, key, request, func(c *Change) error {
		for _, a := range c.assets {
			next, events := c.Terms.Leave(a.Lock, actor.Handle)
			c.Set(a, next, events, nil)
		}
		return c.finish(ctx, map[string]any{})
	})
}

// Ask asks the holder of an asset's lock to let go; the actor waits in line from then on.
func (s *Room) Ask(ctx context.Context, actor ground.Actor, key, workspaceID, path, reason string) (w model.Waiting, err error) {
	if reason = strings.TrimSpace(reason); reason == "" {
		return w, model.NewProblem(model.BadRequest, "add -m with a few words; the holder gets to see them", "asking needs a reason")
	}
	if err := ground.CheckWord("the reason", reason); err != nil {
		return w, err
	}
	request := request{workspace: workspaceID, role: model.Artist, paths: []string{path}}
	err = s.changeLocks(ctx, actor, key, request, func(c *Change) error {
		for _, a := range c.assets {
			next, events, refusal := c.Terms.Ask(a.Lock, c.Place, reason)
			c.Set(a, next, events, refusal)
			w = waiting(next, next.InLine(actor.Handle))
		}
		return c.finish(ctx, map[string]any{})
	})
	return w, err
}

// Answer is a holder's to those who ask: give, to the first in line or to To, or not yet, to all or to To, with a word, and until when
// (zero for not said).
type Answer struct {
	Path  string
	Give  bool
	To    string
	Word  string
	Until time.Time
}

// AnswerAsk answers those who ask for a lock that the actor holds, in whichever workspace.
func (s *Room) AnswerAsk(ctx context.Context, actor ground.Actor, key string, answer Answer) error {
	word := strings.TrimSpace(answer.Word)
	if err := ground.CheckWord("the word with an answer", word); err != nil {
		return err
	}
	request := request{role: model.Artist, paths: []string{answer.Path},
		outcome: records.Outcome{Ending: lock.EndNotYet, Word: word, Until: answer.Until}}
	if answer.Give {
		request.outcome = records.Outcome{Ending: lock.EndGiven}
	}
	return s.changeLocks(ctx, actor, key, request, func(c *Change) error {
		for _, a := range c.assets {
			if answer.Give {
				next, events, refusal := c.Terms.Give(a.Lock, actor.Handle, answer.To)
				c.Set(a, next, events, refusal)
				continue
			}
			next, events, refusal := c.Terms.NotYet(a.Lock, actor.Handle, answer.To, word, answer.Until)
			c.Set(a, next, events, refusal)
		}
		return c.finish(ctx, map[string]any{})
	})
}

// request is what a change of locks is about. workspace is "" for what a person does wherever they are; outcome says how what it ends
// is recorded; with reserve, paths that have no asset yet are kept for one.
type request struct {
	workspace string
	branch    string
	role      string
	paths     []string
	reserve   bool
	outcome   records.Outcome
}

// Change is one all-or-none change of locks inside its transaction, in which the rows of its assets are locked.
type Change struct {
	Tx *records.Tx
	// Actor does it, from Place; Place.WorkspaceID is the nil UUID for what a person does wherever they are.
	Actor   ground.Actor
	Project records.Project
	Place   lock.Place
	// branch is the name of the one whose versions are looked at.
	branch string
	// Terms have the time at which it is decided, which is behind the locks of the rows.
	Terms   lock.Terms
	outcome records.Outcome
	// assets are those that it is about; Changed those whose locks are different next, as they are then.
	assets  []*records.Asset
	Changed []*records.Asset
	// Events are what is told of it, and refusals every reason why it is not done.
	Events   []Event
	refusals []model.Refusal
}

// Event is one that happened to several assets alike.
type Event struct {
	lock.Event
	paths []string
	count int
}

// Terms are those of a project, as of now.
func Terms(p records.Project, now time.Time) lock.Terms {
	return lock.Terms{Now: now, OfferFor: p.Terms.OfferFor, AnswerWithin: p.Terms.AnswerWithin, BehindWarns: p.Terms.BehindWarns}
}

func (s *Room) changeLocks(ctx context.Context, actor ground.Actor, key string, q request, decide func(*Change) error) error {
	if len(q.paths) == 0 || len(q.paths) > ground.MaxPaths {
		return model.NewProblem(model.BadRequest, "", "name 1 to %d assets", ground.MaxPaths)
	}
	return s.KnowingRules(ctx, func() error {
		return s.Write(ctx, func(tx *records.Tx) error {
			c, err := s.openLocks(ctx, tx, actor, key, q)
			if err != nil {
				return err
			}
			return decide(c)
		})
	})
}

// openLocks locks the rows of assets, and reads what is decided on.
func (s *Room) openLocks(ctx context.Context, tx *records.Tx, actor ground.Actor, key string, q request) (*Change, error) {
	c := &Change{Tx: tx, Actor: actor, outcome: q.outcome}
	folded := map[string]string{}
	for _, path := range q.paths {
		if bad := assetpath.Check(path); bad != nil {
			c.refusals = append(c.refusals, model.Refusal{Path: ground.Printable(path), Reason: bad.Reason,
				Message: ground.Printable(path) + ": " + bad.Message,
				Remedy:  bad.Remedy})
			continue
		}
		folded[assetpath.Fold(path)] = path
	}
	order := ground.SortedKeys(folded)
	if q.workspace == model.KindConsole {
		p, err := ground.Project(ctx, tx, actor, key, q.role)
		if err != nil {
			return nil, err
		}
		if q.workspace, err = tx.ConsoleSeat(ctx, ground.NewID(), p.ID, actor.ID); err != nil {
			return nil, err
		}
	}
	anywhere := q.workspace == ""
	if anywhere {
		q.workspace = uuid.Nil.String()
	}
	if !ground.ValidID(q.workspace) {
		return nil, ground.UnknownWorkspace
	}
	if q.reserve {
		if err := s.reserve(ctx, c, key, q, order, folded); err != nil {
			return nil, err
		}
	}
	o, err := tx.OpenLocks(ctx, key, actor.ID, q.workspace, q.branch, order)
	if err != nil {
		return nil, err
	}
	// Looked at behind the gate: the person may have been removed while this waited.
	o.Project.Role = actor.Role(key, o.Project.Role)
	if err := ground.MayWork(o.Project, actor, key, q.role); err != nil {
		return nil, err
	}
	w := o.Workspace
	if !anywhere && (w.Project != o.Project.ID || w.PersonID != actor.ID) {
		return nil, ground.UnknownWorkspace
	}
	c.Project, c.Place, c.branch = o.Project, lock.Place{Handle: actor.Handle, WorkspaceID: w.ID, Workspace: w.Name}, ground.On(w,
		q.branch).Branch
	c.Terms, c.outcome.By, c.outcome.Terms = Terms(o.Project, o.Now), actor.ID, o.Project.Terms
	for _, f := range order {
		a := o.Assets[f]
		if refusedAlready(c.refusals, folded[f]) {
			continue
		}
		// Who holds a reservation, or waits for one, may give it back.
		if a == nil || a.Gone && !q.reserve && a.Lock.Free() && len(a.Lock.Line) == 0 {
			c.refusals = append(c.refusals, model.Refusal{Path: folded[f], Reason: "unknown", Message: ground.Printable(folded[f]) +
				": there is no such asset",
				Remedy: "check the spelling; a new file needs no lock before it is sent, and " +
					"tarn lock --reserve keeps a name for one that comes later"})
			continue
		}
		if a.Gone {
			a.Lock.Path = folded[f]
		}
		c.assets = append(c.assets, a)
	}
	return c, nil
}

func refusedAlready(list []model.Refusal, path string) bool {
	return slices.ContainsFunc(list, func(r model.Refusal) bool { return r.Path == path })
}

// reserve claims those paths that no asset has, where an asset may come to be.
func (s *Room) reserve(ctx context.Context, c *Change, key string, q request, order []string, folded map[string]string) error {
	p, err := ground.Project(ctx, c.Tx, c.Actor, key, q.role)
	if err != nil {
		return err
	}
	if err := c.Tx.Gate(ctx, p.ID, false); err != nil {
		return err
	}
	w, err := ground.Workspace(ctx, c.Tx, c.Actor, p, q.workspace)
	if err != nil {
		return err
	}
	branch, err := c.Tx.Branch(ctx, p.ID, ground.On(w, q.branch).Branch, false)
	if err != nil {
		return err
	}
	present, err := s.PresentRules(ctx, c.Tx, p, branch.Root)
	if err != nil {
		return err
	}
	kept, err := c.Tx.Reserved(ctx, p.ID, c.Actor.ID)
	if err != nil {
		return err
	}
	if kept+len(order) > MaxReserved {
		return model.NewProblem(model.TooMany, "send what comes there, or give some back with tarn unlock",
			"one keeps at most %d names for files that come later, and you keep %d", MaxReserved, kept)
	}
	forest := s.Forest(c.Tx, p.ID)
	there, err := forest.Get(ctx, branch.Root, order)
	if err != nil {
		return err
	}
	state := change.State{Rules: present}
	var coming []change.Change
	var paths, claim []string
	for _, f := range order {
		if _, taken := there[f]; taken {
			continue
		}
		if r := state.Kind(folded[f], &change.Asset{}); r != nil {
			c.refusals = append(c.refusals, *r)
			continue
		}
		coming, paths, claim = append(coming, change.Change{Path: folded[f]}), append(paths, folded[f]), append(claim, f)
	}
	if len(claim) == 0 {
		return nil
	}
	laid := change.Lay(coming)
	around, err := laid.Look(ctx, forest, branch.Root, nil)
	if err != nil {
		return err
	}
	c.refusals = append(c.refusals, laid.Neighbours(around, claim)...)
	return c.Tx.ClaimPaths(ctx, p.ID, paths, claim)
}

// Set notes what becomes of an asset's lock, and tells of it; or why nothing does.
func (c *Change) Set(a *records.Asset, next lock.State, events []lock.Event, refusal *model.Refusal) {
	if refusal != nil {
		c.refusals = append(c.refusals, *refusal)
		return
	}
	if len(events) == 0 && len(next.Line) == len(a.Lock.Line) && next.Holder == a.Lock.Holder {
		return
	}
	a.Lock = next
	if !slices.Contains(c.Changed, a) {
		c.Changed = append(c.Changed, a)
	}
	for _, e := range events {
		at := slices.IndexFunc(c.Events, func(o Event) bool { return o.Event == e })
		if at < 0 {
			at = len(c.Events)
			c.Events = append(c.Events, Event{Event: e})
		}
		one := &c.Events[at]
		// Events stay small: the first hundred paths, beside a count.
		if one.count++; len(one.paths) < 100 {
			one.paths = append(one.paths, a.Lock.Path)
		}
	}
}

// finish writes what was decided, with subject in every event; or refuses, with every reason.
func (c *Change) finish(ctx context.Context, subject map[string]any) error {
	if len(c.refusals) > 0 {
		return &model.Refused{Refusals: c.refusals}
	}
	if len(c.Changed) == 0 {
		return nil
	}
	return c.Tx.SetLocks(ctx, c.Project.ID, c.outcome, c.Changed, c.Told(subject)...)
}

// Told is what is told of a change.
func (c *Change) Told(subject map[string]any) (list []records.NewEvent) {
	for _, e := range c.Events {
		about := map[string]any{"person": e.Person, "paths": e.paths, "count": e.count}
		for k, v := range subject {
			about[k] = v
		}
		if c.Place.Workspace != "" {
			about["workspace"] = c.Place.Workspace
		}
		if e.Other != "" {
			about["other"] = e.Other
		}
		if e.Word != "" {
			about["word"] = e.Word
		}
		if !e.Until.IsZero() {
			about["until"] = e.Until.UTC().Format(time.RFC3339)
		}
		list = append(list, records.NewEvent{Kind: e.Kind, Subject: about})
	}
	return list
}

// ReleaseAll takes a person out of every lock of a project: what they hold, where they wait, what they asked.
func (s *Room) ReleaseAll(ctx context.Context, tx *records.Tx, actor ground.Actor, p records.Project, handle string) (released int,
	err error) {
	all, err := tx.Locks(ctx, p.ID, "")
	if err != nil {
		return 0, err
	}
	var folded []string
	for _, l := range all {
		if l.Holder == handle || slices.ContainsFunc(l.Waitlist, func(w model.Waiter) bool { return w.Handle == handle }) {
			folded = append(folded, assetpath.Fold(l.Path))
		}
	}
	found, err := tx.LockAssets(ctx, p.ID, "", folded)
	if err != nil {
		return 0, err
	}
	now, err := tx.Now(ctx)
	if err != nil {
		return 0, err
	}
	c := &Change{Tx: tx, Actor: actor, Project: p, Terms: Terms(p, now),
		outcome: records.Outcome{By: actor.ID, Ending: lock.EndRemoved, Terms: p.Terms}}
	for _, f := range ground.SortedKeys(found) {
		if found[f].Lock.Holder.Handle == handle {
			released++
		}
		next, events := c.Terms.Forget(found[f].Lock, handle)
		c.Set(found[f], next, events, nil)
	}
	return released, c.finish(ctx, map[string]any{})
}

// Shown is a lock as people see it.
func Shown(l lock.State) model.Lock {
	return model.Lock{Path: l.Path, Holder: l.Holder.Handle, Workspace: l.Holder.Workspace, WorkspaceID: l.Holder.WorkspaceID,
		Since: l.Since, Note: l.Note, Fence: l.Fence, Diverged: l.Diverged, Waitlist: waiters(l)}
}
