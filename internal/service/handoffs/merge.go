package handoffs

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lines"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/locks"
)

// A merge goes the way of every change: load what the two branches have of their common state, judge it (package change), write what comes
// of it. It moves no content, whatever it brings; only texts that are put together line by line are read and written.

// merge is one merge on its way.
type merge struct {
	s      *Room
	actor  ground.Actor
	key    string
	q      model.MergeRequest
	decide []change.Decision
	texts  map[change.Sides]change.Text

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
// what that would do.
func (s *Room) Merge(ctx context.Context, actor ground.Actor, key string, q model.MergeRequest, sendKey string) (out model.MergeAnswer,
	err error) {
	m := &merge{s: s, actor: actor, key: key, q: q, texts: map[change.Sides]change.Text{}}
	if err := m.check(sendKey); err != nil {
		return out, err
	}
	if !q.Preview {
		// What was carried out is not planned again: the plan would be another one by now.
		if closed, err := s.SentBefore(ctx, actor, key, sendKey); err != nil || closed != nil {
			return model.MergeAnswer{From: q.From, Comes: []model.MergeChange{}, Undecided: []model.MergeClash{}, Refusals: []model.Refusal{},
				Handoff: closed}, err
		}
	}
	if q.Preview {
		if err := m.tried(ctx, func(int) error {
			return s.Use(ctx, func(tx *records.Tx) error { return m.load(ctx, tx, false) })
		}); err != nil {
			return out, err
		}
		return m.answer(), nil
	}
	var made model.Handoff
	if err := m.tried(ctx, func(try int) error {
		return s.Write(ctx, func(tx *records.Tx) (err error) {
			made, err = m.write(ctx, tx, sendKey, try >= triesBeside)
			return err
		})
	}); err != nil {
		return out, err
	}
	out = m.answer()
	out.Handoff = &made
	s.WakeHistory()
	return out, nil
}

// How often a merge is tried beside what else comes in, and how often at all: behind the gate that nothing passes, no branch moves on.
const (
	triesBeside = 3
	triesAtAll  = 10
)

// errMovedOn says that one of the branches has moved on since it was looked at, errUnread that there are texts to put together, which is
// not done while anything is locked.
var (
	errMovedOn = errors.New("the branch has moved on meanwhile")
	errUnread  = errors.New("there are texts to read before")
)

// tried does something again once the rules and texts that it asks for were read, and while the branches move on meanwhile.
func (m *merge) tried(ctx context.Context, do func(try int) error) error {
	for try := 0; ; try++ {
		err := m.s.KnowingRules(ctx, func() error { return do(try) })
		switch unread := errors.Is(err, errUnread); {
		case !unread && !errors.Is(err, errMovedOn):
			return err
		case try == triesAtAll:
			return model.NewProblem(model.MovedOn, "run the command again", "%s moved on while %s was coming in", m.into.Name, m.from.Name)
		case unread:
			if err := m.readTexts(ctx); err != nil {
				return err
			}
		}
	}
}

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
// has passed; what is decided on is read after that.
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
	if slices.ContainsFunc(m.plan.Undecided, unread) {
		return errUnread
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
	if err := m.lookedAt(ctx, tx, r.ForBranch(m.into.Name)); err != nil {
		return err
	}
	if locking || len(m.plan.Refusals)+len(m.plan.Undecided) > 0 {
		return m.still(ctx, tx)
	}
	return nil
}

// still makes sure that both branches are where they were read, which was before the locks were looked at: whoever held one may have sent
// since, and given it back with that. What would come is then not what is there, and what stood in the way is not there to be refused.
func (m *merge) still(ctx context.Context, tx *records.Tx) error {
	same, err := tx.Unmoved(ctx, m.into, m.from)
	if err == nil && !same {
		err = errMovedOn
	}
	return err
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

// unread reports whether a text is to be merged line by line, and was not put together yet.
func unread(u change.Undecided) bool {
	return u.Tried == model.WayLines && u.Why == tree.BothEdited && u.Text == nil
}

// readTexts puts texts together that are to be merged line by line.
func (m *merge) readTexts(ctx context.Context) error {
	for _, u := range m.plan.Undecided {
		if unread(u) {
			t, err := m.text(ctx, u.Met)
			if err != nil {
				return err
			}
			m.texts[change.SidesOf(u.Met)] = t
		}
	}
	return nil
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
