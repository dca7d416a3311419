package service

import (
	"context"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/text"
	"kettletarn/internal/records"
)

// MaxPaths is how many paths one request may name; MaxNote the bytes of a handoff's note, MaxWord those of a note or a reason with a lock.
const (
	MaxPaths = 125_000
	MaxNote  = 64 << 10
	MaxWord  = 1000
	// MaxReserved is how many names for assets that come later one person keeps in a project.
	MaxReserved = 1000
)

// Want is one asset that somebody wants to lock, with the version that they have (0 for none).
type Want struct {
	Path    string
	Version int
}

// Wish is how somebody wants to lock assets: see model.LockRequest.
type Wish struct {
	Workspace  string
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
func (s *Service) TakeLocks(ctx context.Context, actor Actor, key string, wish Wish) (g Grant, err error) {
	if err := checkWord("the note of a lock", wish.Note); err != nil {
		return g, err
	}
	paths := make([]string, len(wish.Wants))
	have := map[string]int{}
	for i, w := range wish.Wants {
		paths[i] = w.Path
		have[assetpath.Fold(w.Path)] = w.Version
	}
	request := lockRequest{workspace: wish.Workspace, role: model.Artist, paths: paths, reserve: wish.Reserve,
		outcome: records.Outcome{Ending: lock.EndBrought}}
	err = s.changeLocks(ctx, actor, key, request, func(c *lockChange) error {
		g = Grant{Locks: []model.Lock{}}
		for _, a := range c.assets {
			next, events, refusal := c.terms.Take(a.Lock, lock.Request{Who: c.place, Have: have[a.Folded], WillUpdate: wish.WillUpdate,
				Diverge: wish.Diverge, Wait: wish.Wait, Bring: wish.Bring, Note: wish.Note})
			if c.set(a, next, events, refusal); refusal != nil {
				continue
			}
			if next.Holder == c.place {
				g.Locks = append(g.Locks, shown(next))
			} else if at := next.InLine(c.place.Handle); at > 0 {
				g.Waiting = append(g.Waiting, waiting(next, at))
			}
		}
		if wish.Any {
			g.Refusals, c.refusals = c.refusals, nil
		}
		if err := c.finish(map[string]any{"note": wish.Note}); err != nil {
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
		branch, err := c.tx.Branch(c.ctx, c.project.ID, c.branch, false)
		if err != nil {
			return err
		}
		var heads []model.HeadsUp
		if g.Assets, heads, err = c.tx.Shown(c.ctx, c.project.ID, branch.Head, news); err != nil {
			return err
		}
		addHeadsUps(g.Assets, heads, c.place.WorkspaceID)
		c.addLines(g.Assets)
		return nil
	})
	return g, err
}

// checkWord looks at what people say beside a lock.
func checkWord(what, words string) error {
	return written(what, words, MaxWord, true)
}

// written looks at what people write, on its way in: with lines, it may have several.
func written(what, words string, most int, lines bool) error {
	if wrong := text.Check(words, most, lines); wrong != "" {
		return model.NewProblem(model.BadRequest, "write it in plain words, or shorter", "%s %s", what, wrong)
	}
	return nil
}

// addLines adds to assets who waits for them.
func (c *lockChange) addLines(assets []model.Asset) {
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
func (s *Service) GiveBackLocks(ctx context.Context, actor Actor, key, workspaceID string, paths []string, override bool,
	reason string) error {
	request := lockRequest{workspace: workspaceID, role: model.Artist, paths: paths, outcome: records.Outcome{Ending: lock.EndGivenBack}}
	if override {
		if reason = strings.TrimSpace(reason); reason == "" {
			return model.NewProblem(model.BadRequest, "add --reason with a few words; the holder gets to see them",
				"taking a lock away needs a reason")
		}
		if err := checkWord("the reason", reason); err != nil {
			return err
		}
		request.role, request.outcome = model.Lead, records.Outcome{Ending: lock.EndOverridden, Word: reason}
	}
	return s.changeLocks(ctx, actor, key, request, func(c *lockChange) error {
		for _, a := range c.assets {
			if override {
				next, events := c.terms.Override(a.Lock, actor.Handle, reason)
				c.set(a, next, events, nil)
				continue
			}
			next, events, refusal := c.terms.GiveBack(a.Lock, c.place)
			c.set(a, next, events, refusal)
		}
		return c.finish(map[string]any{})
	})
}

// LeaveLines takes the actor out of the lines for assets.
func (s *Service) LeaveLines(ctx context.Context, actor Actor, key string, paths []string) error {
	request := lockRequest{role: model.Artist, paths: paths, outcome: records.Outcome{Ending: lock.EndLeft}}
	return s.changeLocks(ctx, actor, key, request, func(c *lockChange) error {
		for _, a := range c.assets {
			next, events := c.terms.Leave(a.Lock, actor.Handle)
			c.set(a, next, events, nil)
		}
		return c.finish(map[string]any{})
	})
}

// Ask asks the holder of an asset's lock to let go; the actor waits in line from then on.
func (s *Service) Ask(ctx context.Context, actor Actor, key, workspaceID, path, reason string) (w model.Waiting, err error) {
	if reason = strings.TrimSpace(reason); reason == "" {
		return w, model.NewProblem(model.BadRequest, "add -m with a few words; the holder gets to see them", "asking needs a reason")
	}
	if err := checkWord("the reason", reason); err != nil {
		return w, err
	}
	request := lockRequest{workspace: workspaceID, role: model.Artist, paths: []string{path}}
	err = s.changeLocks(ctx, actor, key, request, func(c *lockChange) error {
		for _, a := range c.assets {
			next, events, refusal := c.terms.Ask(a.Lock, c.place, reason)
			c.set(a, next, events, refusal)
			w = waiting(next, next.InLine(actor.Handle))
		}
		return c.finish(map[string]any{})
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
func (s *Service) AnswerAsk(ctx context.Context, actor Actor, key string, answer Answer) error {
	word := strings.TrimSpace(answer.Word)
	if err := checkWord("the word with an answer", word); err != nil {
		return err
	}
	request := lockRequest{role: model.Artist, paths: []string{answer.Path},
		outcome: records.Outcome{Ending: lock.EndNotYet, Word: word, Until: answer.Until}}
	if answer.Give {
		request.outcome = records.Outcome{Ending: lock.EndGiven}
	}
	return s.changeLocks(ctx, actor, key, request, func(c *lockChange) error {
		for _, a := range c.assets {
			if answer.Give {
				next, events, refusal := c.terms.Give(a.Lock, actor.Handle, answer.To)
				c.set(a, next, events, refusal)
				continue
			}
			next, events, refusal := c.terms.NotYet(a.Lock, actor.Handle, answer.To, word, answer.Until)
			c.set(a, next, events, refusal)
		}
		return c.finish(map[string]any{})
	})
}

// Locks lists what is held or waited for; with a path, that of one asset.
func (s *Service) Locks(ctx context.Context, actor Actor, key, path string) (list []model.Lock, err error) {
	err = s.read(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		if path != "" && assetpath.Check(path) != nil {
			return nil
		}
		list, err = tx.Locks(ctx, p.ID, assetpath.Fold(path))
		return err
	})
	return list, err
}

// lockRequest is what a change of locks is about. workspace is "" for what a person does wherever they are; outcome says how what it ends
// is recorded; with reserve, paths that have no asset yet are kept for one.
type lockRequest struct {
	workspace string
	role      string
	paths     []string
	reserve   bool
	outcome   records.Outcome
}

// lockChange is one all-or-none change of locks inside its transaction.
type lockChange struct {
	ctx     context.Context
	tx      *records.Tx
	actor   Actor
	project records.Project
	place   lock.Place
	// branch is the name of the one whose versions are looked at.
	branch   string
	terms    lock.Terms
	outcome  records.Outcome
	assets   []*records.Asset
	changed  []*records.Asset
	events   []lockEvent
	refusals []model.Refusal
}

// lockEvent is one that happened to several assets alike.
type lockEvent struct {
	lock.Event
	paths []string
	count int
}

func terms(p records.Project, now time.Time) lock.Terms {
	return lock.Terms{Now: now, OfferFor: p.Terms.OfferFor, AnswerWithin: p.Terms.AnswerWithin, BehindWarns: p.Terms.BehindWarns}
}

func (s *Service) changeLocks(ctx context.Context, actor Actor, key string, q lockRequest, decide func(*lockChange) error) error {
	if len(q.paths) == 0 || len(q.paths) > MaxPaths {
		return model.NewProblem(model.BadRequest, "", "name 1 to %d assets", MaxPaths)
	}
	return s.knowingRules(ctx, func() error {
		return s.write(ctx, func(tx *records.Tx) error {
			c, err := s.openLocks(ctx, tx, actor, key, q)
			if err != nil {
				return err
			}
			return decide(c)
		})
	})
}

// openLocks locks the rows of assets, and reads what is decided on.
func (s *Service) openLocks(ctx context.Context, tx *records.Tx, actor Actor, key string, q lockRequest) (*lockChange, error) {
	c := &lockChange{ctx: ctx, tx: tx, actor: actor, outcome: q.outcome}
	folded := map[string]string{}
	for _, path := range q.paths {
		if bad := assetpath.Check(path); bad != nil {
			c.refusals = append(c.refusals, model.Refusal{Path: printable(path), Reason: bad.Reason, Message: printable(path) + ": " + bad.Message,
				Remedy: bad.Remedy})
			continue
		}
		folded[assetpath.Fold(path)] = path
	}
	order := sortedKeys(folded)
	if q.workspace == model.KindConsole {
		p, err := project(ctx, tx, actor, key, q.role)
		if err != nil {
			return nil, err
		}
		if q.workspace, err = tx.ConsoleSeat(ctx, newID(), p.ID, actor.ID); err != nil {
			return nil, err
		}
	}
	anywhere := q.workspace == ""
	if anywhere {
		q.workspace = uuid.Nil.String()
	}
	if !validID(q.workspace) {
		return nil, unknownWorkspace
	}
	if q.reserve {
		if err := s.reserve(c, key, q, order, folded); err != nil {
			return nil, err
		}
	}
	o, err := tx.OpenLocks(ctx, key, actor.ID, q.workspace, order)
	if err != nil {
		return nil, err
	}
	// Looked at behind the gate: the person may have been removed while this waited.
	o.Project.Role = actor.role(key, o.Project.Role)
	if err := mayWork(o.Project, actor, key, q.role); err != nil {
		return nil, err
	}
	w := o.Workspace
	if !anywhere && (w.Project != o.Project.ID || w.PersonID != actor.ID) {
		return nil, unknownWorkspace
	}
	c.project, c.place, c.branch = o.Project, lock.Place{Handle: actor.Handle, WorkspaceID: w.ID, Workspace: w.Name}, w.Branch
	c.terms, c.outcome.By, c.outcome.Terms = terms(o.Project, o.Now), actor.ID, o.Project.Terms
	for _, f := range order {
		a := o.Assets[f]
		if refusedAlready(c.refusals, folded[f]) {
			continue
		}
		// Who holds a reservation, or waits for one, may give it back.
		if a == nil || a.Gone && !q.reserve && a.Lock.Free() && len(a.Lock.Line) == 0 {
			c.refusals = append(c.refusals, model.Refusal{Path: folded[f], Reason: "unknown", Message: printable(folded[f]) +
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
func (s *Service) reserve(c *lockChange, key string, q lockRequest, order []string, folded map[string]string) error {
	p, err := project(c.ctx, c.tx, c.actor, key, q.role)
	if err != nil {
		return err
	}
	if err := c.tx.Gate(c.ctx, p.ID, false); err != nil {
		return err
	}
	w, err := workspace(c.ctx, c.tx, c.actor, p, q.workspace)
	if err != nil {
		return err
	}
	branch, err := c.tx.Branch(c.ctx, p.ID, w.Branch, false)
	if err != nil {
		return err
	}
	present, err := s.presentRules(c.ctx, c.tx, p, branch.Root)
	if err != nil {
		return err
	}
	kept, err := c.tx.Reserved(c.ctx, p.ID, c.actor.ID)
	if err != nil {
		return err
	}
	if kept+len(order) > MaxReserved {
		return model.NewProblem(model.TooMany, "send what comes there, or give some back with tarn unlock",
			"one keeps at most %d names for files that come later, and you keep %d", MaxReserved, kept)
	}
	forest := s.forest(c.tx, p.ID)
	there, err := forest.Get(c.ctx, branch.Root, order)
	if err != nil {
		return err
	}
	state := change.State{Rules: present}
	var coming []Change
	var paths, claim []string
	for _, f := range order {
		if _, taken := there[f]; taken {
			continue
		}
		if r := state.Kind(folded[f], &change.Asset{}); r != nil {
			c.refusals = append(c.refusals, *r)
			continue
		}
		coming, paths, claim = append(coming, Change{Path: folded[f]}), append(paths, folded[f]), append(claim, f)
	}
	if len(claim) == 0 {
		return nil
	}
	laid := change.Lay(coming)
	around, err := laid.Look(c.ctx, forest, branch.Root, nil)
	if err != nil {
		return err
	}
	c.refusals = append(c.refusals, laid.Neighbours(around, claim)...)
	_, err = c.tx.ClaimPaths(c.ctx, p.ID, paths, claim)
	return err
}

func (c *lockChange) set(a *records.Asset, next lock.State, events []lock.Event, refusal *model.Refusal) {
	if refusal != nil {
		c.refusals = append(c.refusals, *refusal)
		return
	}
	if len(events) == 0 && len(next.Line) == len(a.Lock.Line) && next.Holder == a.Lock.Holder {
		return
	}
	a.Lock = next
	if !slices.Contains(c.changed, a) {
		c.changed = append(c.changed, a)
	}
	for _, e := range events {
		at := slices.IndexFunc(c.events, func(o lockEvent) bool { return o.Event == e })
		if at < 0 {
			at = len(c.events)
			c.events = append(c.events, lockEvent{Event: e})
		}
		one := &c.events[at]
		// Events stay small: the first hundred paths, beside a count.
		if one.count++; len(one.paths) < 100 {
			one.paths = append(one.paths, a.Lock.Path)
		}
	}
}

// finish writes what was decided, with subject in every event; or refuses, with every reason.
func (c *lockChange) finish(subject map[string]any) error {
	if len(c.refusals) > 0 {
		return &model.Refused{Refusals: c.refusals}
	}
	if len(c.changed) == 0 {
		return nil
	}
	return c.tx.SetLocks(c.ctx, c.project.ID, c.outcome, c.changed, c.told(subject)...)
}

// told is what is told of a change.
func (c *lockChange) told(subject map[string]any) (list []records.NewEvent) {
	for _, e := range c.events {
		about := map[string]any{"person": e.Person, "paths": e.paths, "count": e.count}
		for k, v := range subject {
			about[k] = v
		}
		if c.place.Workspace != "" {
			about["workspace"] = c.place.Workspace
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

// releaseAll takes a person out of every lock of a project: what they hold, where they wait, what they asked.
func (s *Service) releaseAll(ctx context.Context, tx *records.Tx, actor Actor, p records.Project, handle string) (released int, err error) {
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
	c := &lockChange{ctx: ctx, tx: tx, actor: actor, project: p, terms: terms(p, now),
		outcome: records.Outcome{By: actor.ID, Ending: lock.EndRemoved, Terms: p.Terms}}
	for _, f := range sortedKeys(found) {
		if found[f].Lock.Holder.Handle == handle {
			released++
		}
		next, events := c.terms.Forget(found[f].Lock, handle)
		c.set(found[f], next, events, nil)
	}
	return released, c.finish(map[string]any{})
}

func shown(l lock.State) model.Lock {
	return model.Lock{Path: l.Path, Holder: l.Holder.Handle, Workspace: l.Holder.Workspace, WorkspaceID: l.Holder.WorkspaceID,
		Since: l.Since, Note: l.Note, Fence: l.Fence, Diverged: l.Diverged, Waitlist: waiters(l)}
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
