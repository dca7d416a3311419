package handoffs

import (
	"cmp"
	"context"
	"strings"
	"unicode/utf8"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/text"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// MaxCommits is how many commits one request may bring in.
const MaxCommits = 200

// Past is how far a git history was brought in.
func (s *Room) Past(ctx context.Context, actor ground.Actor, key, branch string) (past model.Past, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		past, err = tx.Past(ctx, p.ID, cmp.Or(branch, model.FirstBranch))
		return err
	})
	return past, err
}

// OfCommits finds the handoffs that stand for commits, of those that have one.
func (s *Room) OfCommits(ctx context.Context, actor ground.Actor, key string, commits []string) (out []model.PastHandoff, err error) {
	if len(commits) == 0 || len(commits) > MaxCommits {
		return nil, model.NewProblem(model.BadRequest, "ask in parts", "one request asks for between one and %d commits", MaxCommits)
	}
	out = []model.PastHandoff{}
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		known, err := tx.OfCommits(ctx, p.ID, commits)
		for _, id := range commits {
			if h, there := known[id]; there {
				out = append(out, h)
			}
		}
		return err
	})
	return out, err
}

// BringPast makes handoffs of commits of a git history, in their order, all of them or none, with the commits' authors, times and
// messages. The content is there already. A commit that was brought in before is passed over. It takes a lead. Nobody's lock and nothing
// that was handed off here since is passed over silently: that is refused, or, with over, for the latter, made a version before.
func (s *Room) BringPast(ctx context.Context, actor ground.Actor, key string, q model.PastRequest) (out []model.PastHandoff, err error) {
	if len(q.Commits) == 0 || len(q.Commits) > MaxCommits {
		return nil, model.NewProblem(model.BadRequest, "bring them in parts", "one request brings between one and %d commits", MaxCommits)
	}
	var p records.Project
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		p, err = ground.Project(ctx, tx, actor, key, model.Lead)
		return err
	}); err != nil {
		return nil, err
	}
	sends := make([]Send, len(q.Commits))
	var all []Change
	for i := range q.Commits {
		if sends[i], err = pastSend(&q.Commits[i], q.Workspace); err != nil {
			return nil, err
		}
		all = append(all, sends[i].Changes...)
	}
	if len(all) > ground.MaxPaths {
		return nil, model.NewProblem(model.TooLarge, "bring them in parts", "one request changes at most %d assets", ground.MaxPaths)
	}
	if err := s.Adopt(ctx, actor, p, all); err != nil {
		return nil, err
	}
	err = s.KnowingRules(ctx, func() error {
		return s.Write(ctx, func(tx *records.Tx) error {
			if err := tx.KeepPlans(ctx); err != nil {
				return err
			}
			b := &bringing{s: s, tx: tx, actor: actor, key: key, over: q.Over}
			if err := b.begin(ctx, p.ID, q); err != nil {
				return err
			}
			out = make([]model.PastHandoff, 0, len(sends))
			for at := 0; at < len(sends); {
				n := b.still(q.Commits[at:], sends[at:])
				made, err := b.stretch(ctx, q.Commits[at:at+n], sends[at:at+n])
				if err != nil {
					return err
				}
				out = append(out, made...)
				if at += len(made); len(made) < n || at == len(sends) {
					continue
				}
				h, err := b.commit(ctx, q.Commits[at], sends[at])
				if err != nil {
					return err
				}
				out = append(out, h)
				at++
			}
			return b.end(ctx, out)
		})
	})
	if err == nil {
		s.WakeHistory()
	}
	return out, err
}

// pastSend is a commit as a send.
func pastSend(c *model.PastCommit, workspace string) (send Send, err error) {
	if !ground.CommitID.MatchString(c.Commit) {
		return send, model.NewProblem(model.BadRequest, "name commits by their full ids", "%s is not the id of a commit",
			ground.Printable(c.Commit))
	}
	note := strings.TrimSpace(text.Lines(strings.ReplaceAll(strings.ReplaceAll(c.Note, "\x00", ""), "\r\n", "\n")))
	if note == "" {
		note = "(without a message)"
	}
	const cut = "\n… (the rest is in the git history)"
	if len(note) > ground.MaxNote {
		end := ground.MaxNote - len(cut)
		for !utf8.RuneStart(note[end]) {
			end--
		}
		note = note[:end] + cut
	}
	c.Name, c.Mail = ground.Printable(strings.TrimSpace(c.Name)), strings.ToLower(strings.TrimSpace(c.Mail))
	if ground.Handles.MatchString(c.Name) {
		c.Name += " (in git)" // a name is never taken for a person here
	}
	send = Send{Workspace: workspace, About: model.About{Note: note}, Changes: make([]Change, len(c.Changes))}
	for i, x := range c.Changes {
		if x.Digest != nil || x.Base != 0 || x.Fence != 0 || assetpath.Fold(x.Path) == rules.File {
			return send, model.NewProblem(model.BadRequest, "leave it out", "the change of %s says what a change of the past can't say",
				ground.Printable(x.Path))
		}
		send.Changes[i] = Change{Path: x.Path, MovedFrom: x.MovedFrom, Gone: x.Gone, Content: x.Content, Size: x.Size, Executable: x.Executable}
	}
	if len(send.Changes) > 0 {
		err = send.check()
	}
	return send, err
}

// bringing is the transaction of a BringPast: it has the project's exclusive gate, so that nothing runs beside it and the order of locking
// does not matter.
type bringing struct {
	s       *Room
	tx      *records.Tx
	actor   ground.Actor
	key     string
	over    bool
	people  map[string]records.Person
	before  map[string]model.PastHandoff
	project records.Project
	seat    records.Workspace
}

func (b *bringing) begin(ctx context.Context, id int64, q model.PastRequest) (err error) {
	if err := b.tx.Gate(ctx, id, true); err != nil {
		return err
	}
	if b.project, err = ground.Project(ctx, b.tx, b.actor, b.key, model.Lead); err != nil {
		return err
	}
	if b.seat, err = ground.Workspace(ctx, b.tx, b.actor, b.project, q.Workspace); err != nil {
		return err
	}
	b.seat = ground.On(b.seat, q.Branch)
	var mails, ids []string
	for _, c := range q.Commits {
		mails, ids = append(mails, c.Mail), append(ids, c.Commit)
	}
	if b.people, err = b.tx.PeopleByMail(ctx, mails); err != nil {
		return err
	}
	b.before, err = b.tx.OfCommits(ctx, b.project.ID, ids)
	return err
}

// end tells of all of them at once.
func (b *bringing) end(ctx context.Context, out []model.PastHandoff) error {
	first, last, count := 0, 0, 0
	for _, h := range out {
		if _, known := b.before[h.Commit]; known || h.Handoff == 0 {
			continue
		}
		if last = h.Handoff; first == 0 {
			first = last
		}
		count++
	}
	if count == 0 {
		return nil
	}
	return b.tx.AddEvent(ctx, b.project.ID, b.actor.ID, news.PastBrought,
		map[string]any{"handoffs": count, "first": first, "handoff": last, "commit": out[len(out)-1].Commit})
}

// commit makes one handoff.
func (b *bringing) commit(ctx context.Context, c model.PastCommit, send Send) (model.PastHandoff, error) {
	if known, ok := b.before[c.Commit]; ok {
		return known, nil
	}
	h, by := b.origin(c)
	if len(send.Changes) == 0 {
		return h, nil
	}
	l, err := b.s.load(ctx, b.tx, b.project, b.seat, send.Changes, change.Manner{Past: true, Over: b.over}, true)
	if err != nil {
		return h, err
	}
	plan, err := l.judge(ctx, b.tx)
	if err != nil || len(plan.Versions)+len(plan.Missing) == 0 {
		return h, err
	}
	if by.at.IsZero() {
		by.at = l.state.Terms.Now
	}
	receipt, _, err := b.s.writePlan(ctx, b.tx, l, plan, b.actor, send, by)
	h.Handoff = receipt.Handoff.Number
	b.project.Handoffs = max(b.project.Handoffs, h.Handoff)
	return h, err
}

// origin is whose handoff a commit becomes.
func (b *bringing) origin(c model.PastCommit) (h model.PastHandoff, by origin) {
	by = origin{author: b.actor.ID, handle: b.actor.Handle, commit: c.Commit}
	h = model.PastHandoff{Commit: c.Commit, Author: b.actor.Handle, Known: true}
	if person, ok := b.people[c.Mail]; ok && c.Mail != "" {
		by.author, by.handle, h.Author = person.ID, person.Handle, person.Handle
	} else if c.Name != "" {
		by.signed, h.Author, h.Known = c.Name, c.Name, false
	}
	if c.At != nil {
		by.at = ground.Within(*c.At)
	}
	return h, by
}
