// Package ruling knows the rules of projects: what tarn.toml says, what it covers, and what people ask of it.
package ruling

import (
	"context"
	"errors"
	"io"
	"strings"

	lru "github.com/hashicorp/golang-lru/v2"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/ground"
)

// fileKey names the content of a file of rules.
type fileKey struct {
	project int64
	digest  chunk.Digest
}

// Room knows the rules of projects.
type Room struct {
	*contents.Room
	rules  *lru.Cache[fileKey, File]
	covers *lru.Cache[coverKey, *coverage]
}

// New makes the room.
func New(contents *contents.Room) *Room {
	return &Room{contents, ground.Cache[fileKey, File](cachedRules), ground.Cache[coverKey, *coverage](cachedCovers)}
}

// cachedRules is how many rules files, read and taken apart, are kept.
const cachedRules = 64

// cachedCovers is of how many tree nodes it is kept what the rules cover below them. A project of a million assets has about 200 that are
// not leaves.
const cachedCovers = 8192

// errRulesUnread says that the rules with a content have to be read before a transaction can go on: reading them takes connections of its
// own, and a transaction that waits for one might wait for ever.
type errRulesUnread struct{ content records.Content }

func (e errRulesUnread) Error() string { return "the rules have to be read first" }

// KnowingRules runs work, and again after reading the rules that it asks for.
func (s *Room) KnowingRules(ctx context.Context, work func() error) error {
	for try := 0; ; try++ {
		err := work()
		var unread errRulesUnread
		if !errors.As(err, &unread) || try == 5 {
			return err
		}
		if err := s.ReadRules(ctx, unread.content); err != nil {
			return err
		}
	}
}

// File is one taken apart; where it is broken, the built-in rules stand for it.
type File struct {
	Rules  *rules.Rules
	Broken error
}

// ReadRules reads a rules file and keeps what it says.
func (s *Room) ReadRules(ctx context.Context, c records.Content) error {
	text, err := s.RulesText(ctx, c)
	if err != nil {
		return err
	}
	read := File{Rules: rules.Default()}
	if parsed, err := rules.Parse(text); err != nil {
		read.Broken = err
	} else {
		read.Rules = parsed
	}
	s.rules.Add(fileKey{c.Project, c.Digest}, read)
	return nil
}

// RulesText reads a file of rules, up to a byte more than it may have.
func (s *Room) RulesText(ctx context.Context, c records.Content) ([]byte, error) {
	r := s.OpenRow(ctx, c)
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, rules.MaxSize+1))
}

// InForce are a project's rules as they are now.
type InForce struct {
	Project records.Project
	content records.Content
	// Version is that of the file of rules, 0 where there is none; Text is what is in it.
	Version int
	Text    []byte
	// root is that of the state that they are part of.
	root chunk.Digest
	// Rules are what is in it, or, where that can't be read, those that are built in.
	Rules *rules.Rules
}

// Ruled are the rules that a project has now, for somebody with a role there.
func (s *Room) Ruled(ctx context.Context, actor ground.Actor, key, role string) (r InForce, err error) {
	if err := s.Use(ctx, func(tx *records.Tx) error {
		if r.Project, err = ground.Project(ctx, tx, actor, key, role); err != nil {
			return err
		}
		branch, err := ground.Head(ctx, tx, r.Project, "")
		if err != nil {
			return err
		}
		r.root = branch.Root
		r.content, r.Version, _, err = s.ContentAt(ctx, tx, r.Project, r.root, rules.File)
		return err
	}); err != nil {
		return r, err
	}
	r.Rules = rules.Default()
	if r.Version == 0 {
		return r, nil
	}
	if r.Text, err = s.RulesText(ctx, r.content); err != nil {
		return r, err
	}
	if parsed, err := rules.Parse(r.Text); err == nil {
		r.Rules = parsed
	}
	return r, nil
}

// coverKey names what a coverage was counted for: the entries below a node of a project's tree, under some rules.
type coverKey struct {
	project     int64
	node, rules chunk.Digest
}

// coverage is how many assets, and how many bytes of them, each rule decides about; uncovered counts those about which none does. It is
// never changed once it was counted.
type coverage struct {
	assets    []int
	sizes     []int64
	uncovered int
}

func newCoverage(rules int) *coverage {
	return &coverage{assets: make([]int, rules), sizes: make([]int64, rules)}
}

// cover counts it. What lies below a node of the tree is counted once, as long as the rules stay the same.
func (s *Room) cover(ctx context.Context, r InForce) (c *coverage, err error) {
	summing := tree.Summing[*coverage]{
		Leaf: func(entries []tree.Entry) *coverage {
			c := newCoverage(len(r.Rules.List))
			for i := range entries {
				deciding := r.Rules.Deciding(entries[i].Spelling())
				for _, rule := range deciding {
					c.assets[rule]++
					c.sizes[rule] += entries[i].Size
				}
				if len(deciding) == 0 {
					c.uncovered++
				}
			}
			return c
		},
		Join: func(parts []*coverage) *coverage {
			c := newCoverage(len(r.Rules.List))
			for _, p := range parts {
				for rule := range c.assets {
					c.assets[rule] += p.assets[rule]
					c.sizes[rule] += p.sizes[rule]
				}
				c.uncovered += p.uncovered
			}
			return c
		},
		Known: func(node chunk.Digest) (*coverage, bool) {
			return s.covers.Get(coverKey{r.Project.ID, node, r.content.Digest})
		},
		Keep: func(node chunk.Digest, c *coverage) { s.covers.Add(coverKey{r.Project.ID, node, r.content.Digest}, c) },
	}
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		c, err = summing.Of(ctx, s.Forest(tx, r.Project.ID), r.root)
		return err
	})
	return c, err
}

// Rules shows a project's rules, what each covers, and what people ask of the leads.
func (s *Room) Rules(ctx context.Context, actor ground.Actor, key string) (out model.Rules, err error) {
	r, err := s.Ruled(ctx, actor, key, model.Viewer)
	if err != nil {
		return out, err
	}
	c, err := s.cover(ctx, r)
	if err != nil {
		return out, err
	}
	out = model.Rules{Text: string(r.Text), Version: r.Version, Presets: append([]string{}, r.Rules.Presets...), Otherwise: r.Rules.Otherwise,
		PointOut: r.Rules.PointOut, ReadOnly: r.Rules.ReadOnly, Uncovered: c.uncovered, Rules: []model.RuleLine{},
		Branches: model.BranchLines(r.Rules)}
	for i, rule := range r.Rules.List {
		out.Rules = append(out.Rules, model.RuleLine{Match: rule.Match, Kind: rule.Kind, Lock: rule.Lock, In: rule.Origin.In,
			Line: rule.Origin.Line, Assets: c.assets[i], Size: c.sizes[i]})
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		out.Requests, err = tx.RuleRequests(ctx, r.Project.ID)
		return err
	})
	return out, err
}

// TestRules says what the rules decide about a path, and why.
func (s *Room) TestRules(ctx context.Context, actor ground.Actor, key, path string) (out model.RuleTest, err error) {
	if bad := assetpath.Check(path); bad != nil {
		return out, model.NewProblem(model.BadRequest, bad.Remedy, "%s", bad.Message)
	}
	r, err := s.Ruled(ctx, actor, key, model.Viewer)
	if err != nil {
		return out, err
	}
	d := r.Rules.Decide(path)
	out = model.RuleTest{Path: path, Kind: d.Kind, KindBy: d.KindBy.String(), Lock: d.Lock, LockBy: d.LockBy.String()}
	err = s.Use(ctx, func(tx *records.Tx) error {
		folded := assetpath.Fold(path)
		held, err := s.Forest(tx, r.Project.ID).Get(ctx, r.root, []string{folded})
		_, out.Asset = held[folded]
		return err
	})
	return out, err
}

// AskForRule puts it to the leads that a path be an asset.
func (s *Room) AskForRule(ctx context.Context, actor ground.Actor, key, path, reason string) (out model.RuleRequest, err error) {
	reason = strings.TrimSpace(reason)
	if bad := assetpath.Check(path); bad != nil {
		return out, model.NewProblem(model.BadRequest, bad.Remedy, "%s", bad.Message)
	}
	if err := ground.CheckWord("the reason", reason); err != nil {
		return out, err
	}
	r, err := s.Ruled(ctx, actor, key, model.Artist)
	if err != nil {
		return out, err
	}
	if d := r.Rules.Decide(path); d.Kind == rules.Asset {
		return out, model.NewProblem(model.BadRequest, "send it", "the rules make an asset of %s already: %s", path, d.KindBy)
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		open, err := tx.RuleRequests(ctx, r.Project.ID)
		if err != nil {
			return err
		}
		for _, o := range open {
			if o.Answered == nil && assetpath.Fold(o.Path) == assetpath.Fold(path) {
				out = o
				return nil
			}
		}
		out = model.RuleRequest{Path: path, Person: actor.Handle, Reason: reason}
		if out.ID, err = tx.AddRuleRequest(ctx, r.Project.ID, actor.ID, path, reason); err != nil {
			return err
		}
		if out.At, err = tx.Now(ctx); err != nil {
			return err
		}
		return tx.AddEvent(ctx, r.Project.ID, actor.ID, news.RulesAsked, map[string]any{"path": path, "reason": reason})
	})
	return out, err
}

// TermsOf is what rules say of locks, as a project keeps it.
func TermsOf(r *rules.Rules) records.LockTerms {
	return records.LockTerms{OfferFor: r.Locks.OfferFor, AnswerWithin: r.Locks.AnswerWithin, ForgottenAfter: r.Locks.ForgottenAfter,
		BehindWarns: r.Locks.BehindWarns}
}

// Known are rules that were read before. The error, where they were not, is one for which KnowingRules reads them.
func (s *Room) Known(p records.Project, c records.Content) (File, error) {
	found, ok := s.rules.Get(fileKey{p.ID, c.Digest})
	if !ok {
		return found, errRulesUnread{c}
	}
	return found, nil
}

// PresentRules are those that a tree of a project has.
func (s *Room) PresentRules(ctx context.Context, tx *records.Tx, p records.Project, root chunk.Digest) (*rules.Rules, error) {
	c, _, ok, err := s.ContentAt(ctx, tx, p, root, rules.File)
	if err != nil || !ok {
		return rules.Default(), err
	}
	found, err := s.Known(p, c)
	if err != nil {
		return rules.Default(), err
	}
	return found.Rules, nil
}
