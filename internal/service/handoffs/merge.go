package handoffs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lines"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/service/ruling"
)

// A merge goes the way of every change: load what the two branches have of their common state, judge it (package change), write what
// comes of
// it. It moves no content, whatever it brings; only texts that are put together line by line are read and written.

// merge is one merge on its way.
type merge struct {
	s      *Room
	actor  ground.Actor
	key    string
	q      model.MergeRequest
	decide []change.Decision
	texts  map[int64]change.Text

	project    records.Project
	seat       records.Workspace
	into, from records.Branch
	since      int
	rows       map[int64]*records.Asset
	tips       [2]map[int64]records.Tip // of the branch that stays, and of the one that comes
	plan       *change.Merge
	answers    []model.MergeVerdict
}

// Merge brings a branch into another one, as a handoff with two parents, under a key that the client wrote down; or, with Preview, says
// what
// that would do.
func (s *Room) Merge(ctx context.Context, actor ground.Actor, key string, q model.MergeRequest, sendKey string) (out model.MergeAnswer,
	err error) {
	m := &merge{s: s, actor: actor, key: key, q: q, texts: map[int64]change.Text{}}
	if err := m.check(sendKey); err != nil {
		return out, err
	}
	if !q.Preview {
		// What was carried out is not planned again: the plan would be another one by now.
		if closed, err := s.sentBefore(ctx, actor, key, sendKey); err != nil || closed != nil {
			return model.MergeAnswer{From: q.From, Comes: []model.MergeChange{}, Undecided: []model.MergeClash{}, Refusals: []model.Refusal{},
				Handoff: closed}, err
		}
	}
	look := func() error {
		return s.KnowingRules(ctx, func() error { return s.Use(ctx, func(tx *records.Tx) error { return m.load(ctx, tx, false) }) })
	}
	if err := look(); err != nil {
		return out, err
	}
	more, err := m.readTexts(ctx)
	if err == nil && more {
		err = look()
	}
	if err != nil {
		return out, err
	}
	if out = m.answer(); q.Preview {
		return out, nil
	}
	if err := m.refused(); err != nil {
		return out, err
	}
	if err := m.readRules(ctx); err != nil {
		return out, err
	}
	var made model.Handoff
	for try := 0; ; try++ {
		err := s.KnowingRules(ctx, func() error {
			return s.Write(ctx, func(tx *records.Tx) (err error) {
				made, err = m.write(ctx, tx, sendKey)
				return err
			})
		})
		if errors.Is(err, errMovedOn) && try < 10 {
			continue
		}
		if err != nil {
			return out, err
		}
		break
	}
	out = m.answer()
	out.Handoff = &made
	s.WakeHistory()
	return out, nil
}

// errMovedOn says that the branch that stays has moved on since it was looked at.
var errMovedOn = errors.New("the branch has moved on meanwhile")

// check looks at what was asked.
func (m *merge) check(sendKey string) error {
	m.q.From, m.q.Into, m.q.Note = strings.TrimSpace(m.q.From), strings.TrimSpace(m.q.Into), strings.TrimSpace(m.q.Note)
	if m.q.From == "" {
		return model.NewProblem(model.BadRequest, "see tarn branch list", "name the branch that comes in")
	}
	if !m.q.Preview && !ground.ValidID(sendKey) {
		return model.NewProblem(model.BadRequest, "", "the key of a merge is a UUID")
	}
	if err := ground.CheckWord("the note of a merge", m.q.Note); err != nil {
		return err
	}
	if len(m.q.Decide) > ground.MaxPaths {
		return model.NewProblem(model.TooLarge, "use patterns", "one merge has at most %d decisions", ground.MaxPaths)
	}
	for _, d := range m.q.Decide {
		p, err := rules.ParsePattern(d.Pattern)
		if err != nil {
			return model.NewProblem(model.BadRequest, "a pattern is one of the rules: *.json, levels/, levels/quay.ktl", "%s: %v",
				ground.Printable(d.Pattern), err)
		}
		if !slices.Contains(model.Ways, d.Way) {
			return model.NewProblem(model.BadRequest, "take one of "+strings.Join(model.Ways, ", "), "%q is no way to decide",
				ground.Printable(d.Way))
		}
		m.decide = append(m.decide, change.Decision{Pattern: p, Way: d.Way})
	}
	return nil
}

// load reads what the merge can touch, and judges it. Locking, the rows of the assets are locked, by id, behind the gate that the caller
// has
// passed; what is decided on is read after that.
func (m *merge) load(ctx context.Context, tx *records.Tx, locking bool) (err error) {
	if m.project, err = ground.Project(ctx, tx, m.actor, m.key, model.Artist); err != nil {
		return err
	}
	place := seatOf
	if locking {
		place = ground.Workspace
	}
	if m.seat, err = place(ctx, tx, m.actor, m.project, m.q.Workspace); err != nil {
		return err
	}
	into := m.q.Into
	if into == "" {
		into = m.seat.Branch
	}
	if m.into, err = ground.Head(ctx, tx, m.project, into); err != nil {
		return err
	}
	if m.from, err = ground.Head(ctx, tx, m.project, m.q.From); err != nil {
		return err
	}
	if err := open(m.into); err != nil {
		return err
	}
	if m.since, err = tx.CommonState(ctx, m.project.ID, m.into.Head, m.from.Head); err != nil {
		return err
	}
	switch {
	case m.into.ID == m.from.ID:
		return model.NewProblem(model.BadRequest, "name another branch", "%s can't come into itself", m.into.Name)
	case m.since == m.from.Head:
		return model.NewProblem(model.BadRequest, "see tarn branch show "+m.from.Name, "%s has all that %s has", m.into.Name, m.from.Name)
	case m.q.Seen > 0 && m.q.Seen != m.into.Head, m.q.SeenFrom > 0 && m.q.SeenFrom != m.from.Head:
		return model.NewProblem(model.MovedOn, "look at it again, then merge", "%s or %s has moved on since you decided", m.into.Name,
			m.from.Name)
	}
	if err := m.judge(ctx, tx, locking); err != nil {
		return err
	}
	// As for a send, what the rules ask for is said beside everything else that stands in the way.
	r, err := m.s.ofBranches(ctx, tx, m.project)
	if err != nil {
		return err
	}
	if why := r.ForBranch(m.into.Name).MayCome(m.from.Name, m.into.Name); why != "" {
		m.plan.Refusals = append(m.plan.Refusals, model.Refusal{Path: rules.File, Reason: "branch", Message: why,
			Remedy: "merge it into a branch from which it may come, or ask a lead to change the rules"})
	}
	return m.lookedAt(ctx, tx, r.ForBranch(m.into.Name))
}

// lookedAt takes in what people said of the branch that comes, and refuses where the rules ask for more of them. Who handed off on the
// branch
// since the common state does not count for it.
func (m *merge) lookedAt(ctx context.Context, tx *records.Tx, asked rules.OnBranch) error {
	list, err := tx.Reviews(ctx, m.project.ID, 0, m.from.ID)
	if err != nil {
		return err
	}
	m.answers = nil
	yes := map[string]bool{}
	for _, r := range list {
		for _, a := range r.Answers {
			m.answers = append(m.answers, model.MergeVerdict{Review: r.Number, Person: a.Person, Yes: a.Yes, Why: a.Why, Old: a.Old})
			if a.Yes && !a.Old {
				yes[a.Person] = true
			}
		}
	}
	if asked.Yes == 0 {
		return nil
	}
	worked, err := tx.Worked(ctx, m.project.ID, m.since, m.from.Head)
	if err != nil {
		return err
	}
	for _, w := range worked {
		delete(yes, w.Person)
	}
	roles, err := tx.RolesOf(ctx, m.project.ID, ground.SortedKeys(yes))
	if err != nil {
		return err
	}
	count := 0
	for person := range yes {
		if model.AtLeast(roles[person], asked.YesRole) {
			count++
		}
	}
	if count >= asked.Yes {
		return nil
	}
	whose := ""
	if asked.YesRole != model.Viewer {
		whose = " from a " + asked.YesRole
		if strings.ContainsRune("ao", rune(asked.YesRole[0])) {
			whose = " from an " + asked.YesRole
		}
	}
	m.plan.Refusals = append(m.plan.Refusals, model.Refusal{Path: rules.File, Reason: "unseen",
		Message: fmt.Sprintf("%s comes into %s after %d yes%s of those who did not make it; it has %d, by %s", m.from.Name, m.into.Name,
			asked.Yes, whose,
			count, asked.YesFrom),
		Remedy: fmt.Sprintf("ask people to look: tarn review open %s --ask HANDLE -m TEXT; a yes counts until the branch moves on", m.from.Name)})
	return nil
}

// judge puts the three trees together, asset by asset, and decides about what came of it.
func (m *merge) judge(ctx context.Context, tx *records.Tx, locking bool) error {
	meeting, err := m.s.Meet(ctx, tx, m.project, m.since, m.into, m.from)
	if err != nil {
		return err
	}
	ids := meeting.IDs
	if m.rows, err = tx.AssetsOf(ctx, ids, locking); err != nil {
		return err
	}
	now, err := tx.Now(ctx)
	if err != nil {
		return err
	}
	if err := meeting.Compare(ctx, tx); err != nil {
		return err
	}
	m.tips = meeting.Tips
	g := &change.Merging{From: m.from.Name, Terms: locks.Terms(m.project, now), Who: seat(m.seat),
		Lead: model.AtLeast(m.project.Role, model.Lead), Decide: m.decide, Texts: m.texts, Met: make(map[int64]change.Met, len(ids)),
		Locks: make(map[int64]lock.State, len(ids))}
	for id, row := range m.rows {
		g.Locks[id] = row.Lock
	}
	for _, id := range ids {
		h, t := m.tips[0][id], m.tips[1][id]
		g.Met[id] = change.Met{Here: change.Tip{Number: h.Number, Gone: h.Gone}, There: change.Tip{Number: t.Number, Gone: t.Gone},
			Newer: meeting.Newer[id]}
	}
	merged, err := meeting.Merge(ctx, g.Side)
	if err != nil {
		return err
	}
	forest := m.s.Forest(tx, m.project.ID)
	var failed error
	m.plan = g.Plan(merged, func(folded string) bool {
		for _, root := range []chunk.Digest{m.into.Root, m.from.Root} {
			held, err := forest.Get(ctx, root, []string{folded})
			if failed = errors.Join(failed, err); len(held) > 0 {
				return true
			}
		}
		return false
	})
	return failed
}

// readTexts puts texts together that were to be merged line by line, and reports whether there were any.
func (m *merge) readTexts(ctx context.Context) (more bool, err error) {
	for _, u := range m.plan.Undecided {
		if u.Tried != model.WayLines || u.Why != tree.BothEdited {
			continue
		}
		var t change.Text
		if t, err = m.text(ctx, u.Met); err != nil {
			return more, err
		}
		m.texts[u.Met.ID], more = t, true
	}
	return more, nil
}

// text puts one text together. What comes of it is kept at once: without the handoff, nobody refers to it, and it goes again.
func (m *merge) text(ctx context.Context, met tree.Met) (t change.Text, err error) {
	var sides [3][]string
	var here []byte
	for i, e := range []*tree.Entry{met.Base, met.Here, met.There} {
		if e == nil {
			continue // both sides made it
		}
		if e.Size > lines.MaxSize {
			return change.Text{Err: lines.ErrTooLarge}, nil
		}
		data, err := m.read(ctx, e)
		if err != nil {
			return t, err
		}
		if sides[i], err = lines.Decode(data); err != nil {
			return change.Text{Err: err}, nil
		}
		if i == 1 {
			here = data
		}
	}
	text, places := lines.Merge(sides[0], sides[1], sides[2])
	if len(places) > 0 {
		return change.Text{Places: places}, nil
	}
	data := lines.Encode(text, here)
	c, err := m.s.Ingest(ctx, m.project, strings.NewReader(string(data)))
	if err != nil {
		return t, err
	}
	t = change.Text{Content: c.Digest, Size: int64(len(data))}
	return t, m.s.Adopt(ctx, m.actor, m.project, []Change{{Path: met.Here.Spelling(), Content: t.Content, Size: t.Size}})
}

func (m *merge) read(ctx context.Context, e *tree.Entry) ([]byte, error) {
	c, err := m.s.OpenDigest(ctx, m.project, e.Content.String())
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return io.ReadAll(io.LimitReader(c, lines.MaxSize+1))
}

// readRules reads the rules that the merge brings, so that the transaction has them.
func (m *merge) readRules(ctx context.Context) error {
	e := m.newRules()
	if e == nil {
		return nil
	}
	var found map[chunk.Digest]records.Content
	if err := m.s.Use(ctx, func(tx *records.Tx) (err error) {
		found, err = tx.Contents(ctx, m.project.ID, []chunk.Digest{e.Content}, false)
		return err
	}); err != nil {
		return err
	}
	c, known := found[e.Content]
	if !known {
		return nil
	}
	return m.s.ReadRules(ctx, c)
}

// newRules is the file of rules that comes of the merge, nil where it stays as it is or goes.
func (m *merge) newRules() *tree.Entry {
	for _, x := range m.plan.Came {
		if x.There != nil && x.There.Key == rules.File {
			return x.There
		}
	}
	for _, x := range m.plan.Made {
		if x.Entry != nil && x.Entry.Key == rules.File {
			return x.Entry
		}
	}
	return nil
}

// refused is the error of a merge that can't be carried out.
func (m *merge) refused() error {
	refusals := slices.Clone(m.plan.Refusals)
	for _, u := range m.plan.Undecided {
		c := m.clash(u)
		refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "undecided", Message: c.Message,
			Remedy: fmt.Sprintf("decide with --decide '%s=%s'", c.Path, strings.Join(c.Ways, "|"))})
		if len(refusals) >= model.MaxMergeListed {
			break
		}
	}
	if len(refusals) == 0 {
		return nil
	}
	return &model.Refused{Refusals: refusals}
}

// write carries the merge out, in the order of locking of docs/architecture.md: gate, assets by id, branch, counter.
func (m *merge) write(ctx context.Context, tx *records.Tx, sendKey string) (out model.Handoff, err error) {
	before, fresh, err := tx.ClaimSendKey(ctx, m.project.ID, sendKey, m.actor.ID, nil)
	if err != nil {
		return out, err
	}
	if !fresh {
		receipt, err := m.s.repeat(ctx, tx, m.project, m.actor, before, chunk.Digest{})
		return receipt.Handoff, err
	}
	if err := tx.Gate(ctx, m.project.ID, m.newRules() != nil); err != nil {
		return out, err
	}
	gated := m.newRules() != nil
	if err := m.load(ctx, tx, true); err != nil {
		return out, err
	}
	if err := m.refused(); err != nil {
		return out, err
	}
	if m.newRules() != nil && !gated {
		return out, errMovedOn
	}
	h, err := m.handoff(ctx, tx)
	if err != nil {
		return out, err
	}
	h.Key = sendKey
	if err := m.seal(ctx, tx, &h); err != nil {
		return out, err
	}
	if err := tx.AddHandoff(ctx, m.project.ID, h); err != nil {
		return out, err
	}
	if err := m.meet(ctx, tx, h); err != nil {
		return out, err
	}
	if out, err = tx.Handoff(ctx, m.project.ID, h.Record.Number); err != nil {
		return out, err
	}
	return out, tx.AddEvent(ctx, m.project.ID, m.actor.ID, news.HandoffSent, map[string]any{"note": ground.FirstLine(out.Note),
		"count": out.Count, "paths": pathsOf(out, 100), "unlocked": 0, "handoff": out.Number, "merged": m.from.Name, "branch": m.into.Name,
		"answers": m.answers})
}

// pathsOf are those of a handoff, at most so many.
func pathsOf(h model.Handoff, most int) (list []string) {
	for _, a := range h.Assets[:min(len(h.Assets), most)] {
		list = append(list, a.Path)
	}
	return list
}

// handoff makes the handoff of a plan, up to its number: its versions, what comes as it is, the tree.
func (m *merge) handoff(ctx context.Context, tx *records.Tx) (h records.NewHandoff, err error) {
	h = records.NewHandoff{Author: m.actor.ID, Workspace: m.seat.ID, Branch: m.into.ID}
	asides, err := m.asides(ctx, tx)
	if err != nil {
		return h, err
	}
	var claim []int64
	var places []string
	comes := func(id int64, was, now *tree.Entry) {
		if now != nil && (was == nil || was.Key != now.Key) {
			claim, places = append(claim, id), append(places, now.Key)
		}
	}
	for _, x := range m.plan.Came {
		id := x.ID
		h.Came = append(h.Came, records.Came{Asset: id, Number: m.tips[1][id].Number, Before: m.tips[0][id].Number})
		comes(id, x.Here, x.There)
	}
	digests := []chunk.Digest{}
	for _, x := range m.plan.Made {
		if comes(x.Met.ID, x.Here, x.Entry); x.Entry != nil {
			digests = append(digests, x.Entry.Content)
		}
	}
	for _, a := range m.plan.Asides {
		digests = append(digests, a.Entry.Content)
	}
	known, err := tx.Contents(ctx, m.project.ID, digests, false)
	if err != nil {
		return h, err
	}
	version := func(id int64, number int, parents [2]int, path string, e *tree.Entry) error {
		v := records.NewVersion{Asset: id, Number: number, Parents: parents, Path: path, Folded: assetpath.Fold(path)}
		if e != nil {
			c, there := known[e.Content]
			if !there {
				return model.NewProblem(model.ChunksMissing, "try again", "the content %s of %s is not there", e.Content, path)
			}
			v.Content, v.Size, v.Executable = c.ID, e.Size, e.Mode&tree.Executable != 0
		}
		if row := m.rows[id]; row != nil {
			v.Renames = row.Path != path
		}
		h.Versions = append(h.Versions, v)
		return nil
	}
	number := func(id int64) int { return max(m.tips[0][id].Numbered, m.tips[1][id].Numbered) + 1 }
	for _, x := range m.plan.Made {
		path := change.Spelled(x.Met)
		switch row := m.rows[x.Met.ID]; {
		case x.Entry != nil:
			path = x.Entry.Spelling()
		case path == "":
			path = row.Path // deleted on both sides, and in the common state
		}
		if err := version(x.Met.ID, number(x.Met.ID), x.Parents, path, x.Entry); err != nil {
			return h, err
		}
	}
	for i, a := range m.plan.Asides {
		if err := version(asides[i], 1, [2]int{}, a.Path, &a.Entry); err != nil {
			return h, err
		}
	}
	if err := tx.AddClaims(ctx, m.project.ID, claim, places); err != nil {
		return h, err
	}
	forest := m.s.Forest(tx, m.project.ID)
	if h.Record.Root, err = forest.Apply(ctx, m.into.Root, m.plan.Changes(number, asides)); err != nil {
		return h, err
	}
	if err := tx.AddNodes(ctx, m.project.ID, forest.Fresh); err != nil {
		return h, err
	}
	h.Assets, h.Size, err = forest.Sum(ctx, h.Record.Root, "", "")
	return h, err
}

// asides makes the assets that get names of their own.
func (m *merge) asides(ctx context.Context, tx *records.Tx) (ids []int64, err error) {
	var paths, places []string
	for _, a := range m.plan.Asides {
		paths, places = append(paths, a.Path), append(places, assetpath.Fold(a.Path))
	}
	if len(paths) == 0 {
		return nil, nil
	}
	if err := tx.ClaimAnew(ctx, m.project.ID, paths, places); err != nil {
		return nil, err
	}
	rows, err := tx.LockAssets(ctx, m.project.ID, m.into.Name, places)
	if err != nil {
		return nil, err
	}
	for _, f := range places {
		if rows[f] == nil || rows[f].Numbered > 0 {
			return nil, errMovedOn
		}
		ids = append(ids, rows[f].ID)
	}
	return ids, nil
}

// seal locks the branch that stays, and gives the handoff its number and its digest.
func (m *merge) seal(ctx context.Context, tx *records.Tx, h *records.NewHandoff) error {
	seen := m.into.Head
	var err error
	if m.into, err = tx.Branch(ctx, m.project.ID, m.into.Name, true); err != nil {
		return err
	}
	if err := open(m.into); err != nil {
		return err
	}
	if m.into.Head != seen {
		return errMovedOn
	}
	now, err := tx.Now(ctx)
	if err != nil {
		return err
	}
	number, err := tx.NextNumber(ctx, m.project.ID)
	if err != nil {
		return err
	}
	root := h.Record.Root
	h.Record = chain.Handoff{Project: m.project.Key, Number: number, Branch: m.into.Name, Root: root, Author: m.actor.Handle,
		At:      now.UnixMicro(),
		Parents: []chain.Parent{{Number: m.into.Head, Digest: m.into.HeadDigest}, {Number: m.from.Head, Digest: m.from.HeadDigest}}}
	record(model.About{Note: m.note()}, &h.Record)
	_, h.Digest = h.Record.Encode()
	if e := m.newRules(); e != nil && m.into.Name == model.FirstBranch {
		return m.terms(ctx, tx, e)
	}
	return nil
}

// terms takes over what the rules that came say of locks.
func (m *merge) terms(ctx context.Context, tx *records.Tx, e *tree.Entry) error {
	found, err := tx.Contents(ctx, m.project.ID, []chunk.Digest{e.Content}, false)
	if err != nil {
		return err
	}
	file, err := m.s.Known(m.project, found[e.Content])
	if err != nil || file.Broken != nil {
		return err
	}
	return tx.SetLockTerms(ctx, m.project.ID, ruling.TermsOf(file.Rules), file.Rules.Tasks)
}

// meet ends what was said of locks that were taken knowingly from a version that others had gone on without: where that version has met
// theirs by now.
func (m *merge) meet(ctx context.Context, tx *records.Tx, h records.NewHandoff) error {
	var ids []int64
	var have []int
	number := map[int64]int{}
	for _, c := range h.Came {
		number[c.Asset] = c.Number
	}
	for _, v := range h.Versions {
		number[v.Asset] = v.Number
	}
	for id, n := range number {
		if row := m.rows[id]; row != nil && row.Lock.Diverged > 0 {
			ids, have = append(ids, id), append(have, n)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	lacking, err := tx.Lacking(ctx, m.project.ID, m.into.Name, ids, have)
	if err != nil {
		return err
	}
	var met []*records.Asset
	for _, id := range ids {
		if row := m.rows[id]; len(lacking[id]) == 0 {
			row.Lock.Diverged = 0
			met = append(met, row)
		}
	}
	if len(met) == 0 {
		return nil
	}
	return tx.SetLocks(ctx, m.project.ID, records.Outcome{By: m.actor.ID, Terms: m.project.Terms}, met)
}

func (m *merge) note() string {
	if m.q.Note != "" {
		return m.q.Note
	}
	return fmt.Sprintf("%s comes into %s", m.from.Name, m.into.Name)
}

// answer says what the merge does.
func (m *merge) answer() model.MergeAnswer {
	out := model.MergeAnswer{From: m.from.Name, Into: m.into.Name, At: m.into.Head, AtFrom: m.from.Head, Since: m.since, Note: m.note(),
		Comes: []model.MergeChange{}, Undecided: []model.MergeClash{}, Refusals: append([]model.Refusal{}, m.plan.Refusals...),
		Count: len(m.plan.Came) + len(m.plan.Made) + len(m.plan.Asides), Made: len(m.plan.Made) + len(m.plan.Asides), Open: len(m.plan.Undecided),
		Answers: m.answers}
	add := func(path, does string, was, now *tree.Entry, version, before int, made bool) {
		if was == nil && now == nil {
			out.Count-- // it is not there, before and after
			return
		}
		c := model.MergeChange{Path: path, Change: does, Version: version, Before: before, Made: made}
		if now != nil {
			c.Content, c.Executable = now.Content.String(), now.Mode&tree.Executable != 0
			if c.Size = now.Size; was == nil || was.Content != now.Content {
				out.Size += now.Size
			}
			if was != nil && was.Spelling() != now.Spelling() {
				c.MovedFrom = was.Spelling()
			}
		}
		out.Comes = append(out.Comes, c)
	}
	for _, x := range m.plan.Came {
		id := x.ID
		add(pathAfter(x, x.There), does(x.Here, x.There), x.Here, x.There, m.tips[1][id].Number, m.tips[0][id].Number, false)
	}
	for _, x := range m.plan.Made {
		id := x.Met.ID
		add(pathAfter(x.Met, x.Entry), does(x.Here, x.Entry), x.Here, x.Entry, max(m.tips[0][id].Numbered, m.tips[1][id].Numbered)+1,
			m.tips[0][id].Number, true)
	}
	for _, a := range m.plan.Asides {
		add(a.Path, "new", nil, &a.Entry, 1, 0, true)
	}
	slices.SortFunc(out.Comes, func(a, b model.MergeChange) int { return strings.Compare(a.Path, b.Path) })
	out.Comes = out.Comes[:min(len(out.Comes), model.MaxMergeListed)]
	for _, u := range m.plan.Undecided[:min(len(m.plan.Undecided), model.MaxMergeListed)] {
		out.Undecided = append(out.Undecided, m.clash(u))
	}
	return out
}

func pathAfter(x tree.Met, now *tree.Entry) string {
	if now != nil {
		return now.Spelling()
	}
	return change.Spelled(x)
}

// does is what happens to an asset on the branch that stays.
func does(was, now *tree.Entry) string {
	switch {
	case now == nil:
		return "gone"
	case was == nil:
		return "new"
	case was.Content == now.Content && was.Spelling() != now.Spelling():
		return "moved"
	}
	return "edited"
}

// clash tells of something that nobody has decided.
func (m *merge) clash(u change.Undecided) model.MergeClash {
	id := u.Met.ID
	path := change.Spelled(u.Met)
	c := model.MergeClash{Path: path, Why: u.Why, Ways: u.Ways}
	side := func(e *tree.Entry, version int) *model.MergeSide {
		if e == nil {
			return nil
		}
		return &model.MergeSide{Path: e.Spelling(), Version: version, Size: e.Size, Content: e.Content.String()}
	}
	c.Here, c.There = side(u.Here, m.tips[0][id].Number), side(u.There, m.tips[1][id].Number)
	if u.Base != nil {
		c.Base = side(u.Base, u.Base.Version)
	}
	if u.Other != nil {
		c.Other = u.Other.Spelling()
	}
	here, there := m.into.Name, m.from.Name
	switch u.Why {
	case tree.BothEdited:
		c.Message = fmt.Sprintf("%s: edited on %s (v%d) and on %s (v%d)", path, here, c.Here.Version, there, c.There.Version)
	case tree.BothMoved:
		c.Message = fmt.Sprintf("%s: moved to %s on %s, and to %s on %s", path, c.Here.Path, here, c.There.Path, there)
	case tree.GoneHere:
		c.Message = fmt.Sprintf("%s: deleted on %s, and changed on %s (v%d)", path, here, there, c.There.Version)
	case tree.GoneThere:
		c.Message = fmt.Sprintf("%s: changed on %s (v%d), and deleted on %s", path, here, c.Here.Version, there)
	case tree.PlaceTaken:
		c.Message = fmt.Sprintf("%s: on %s it comes to %s, where %s has %s", path, there, c.There.Path, here, c.Other)
	case tree.FileFolder:
		c.Message = fmt.Sprintf("%s: on %s it comes to %s, and %s is in the way: a file can't be a folder, too", path, there, c.There.Path,
			c.Other)
	}
	// Nobody is offered to put two pictures together line by line; who asks for it nonetheless gets it where they are text.
	if kind := media.KindOf(path); u.Text != nil && u.Text.Err != nil ||
		u.Text == nil && (kind == media.Texture || kind == media.Model || kind == media.Sound || kind == media.Document) {
		c.Ways = slices.DeleteFunc(slices.Clone(c.Ways), func(w string) bool { return w == model.WayLines })
	}
	switch {
	case u.Text != nil && u.Text.Err != nil:
		c.Message += fmt.Sprintf("; it can't be merged line by line: %v", u.Text.Err)
	case u.Text != nil:
		c.Places = u.Text.Places
		c.Message += fmt.Sprintf("; both changed the same lines in %d places", len(c.Places))
	case u.Tried != "" && !slices.Contains(u.Ways, u.Tried):
		c.Message += fmt.Sprintf("; it can't be decided with %q", u.Tried)
	}
	return c
}
