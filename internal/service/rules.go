package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
)

// cachedRules is how many rules files, read and taken apart, are kept.
const cachedRules = 64

// errRulesUnread says that the rules with a content have to be read before a transaction can go on: reading them takes connections of its
// own, and a transaction that waits for one might wait for ever.
type errRulesUnread struct{ content records.Content }

func (e errRulesUnread) Error() string { return "the rules have to be read first" }

// knowingRules runs work, and again after reading the rules that it asks for.
func (s *Service) knowingRules(ctx context.Context, work func() error) error {
	for try := 0; ; try++ {
		err := work()
		var unread errRulesUnread
		if !errors.As(err, &unread) || try == 5 {
			return err
		}
		if err := s.readRules(ctx, unread.content); err != nil {
			return err
		}
	}
}

// rulesFile is one taken apart; where it is broken, the built-in rules stand for it.
type rulesFile struct {
	rules  *rules.Rules
	broken error
}

// readRules reads a rules file and keeps what it says.
func (s *Service) readRules(ctx context.Context, c records.Content) error {
	text, err := s.rulesText(ctx, c)
	if err != nil {
		return err
	}
	read := rulesFile{rules: rules.Default()}
	if parsed, err := rules.Parse(text); err != nil {
		read.broken = err
	} else {
		read.rules = parsed
	}
	s.rules.Add(nodeKey{c.Project, c.Digest}, read)
	return nil
}

func (s *Service) rulesText(ctx context.Context, c records.Content) ([]byte, error) {
	r := s.openContent(ctx, c)
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, rules.MaxSize+1))
}

// ruled is a project's rules as they are now.
type ruled struct {
	project records.Project
	content records.Content
	version int
	root    chunk.Digest
	rules   *rules.Rules
	text    []byte
}

func (s *Service) ruled(ctx context.Context, actor Actor, key, role string) (r ruled, err error) {
	if err := s.read(ctx, func(tx *records.Tx) error {
		if r.project, err = project(ctx, tx, actor, key, role); err != nil {
			return err
		}
		branch, err := head(ctx, tx, r.project)
		if err != nil {
			return err
		}
		r.root = branch.Root
		r.content, r.version, _, err = s.contentAt(ctx, tx, r.project, r.root, rules.File)
		return err
	}); err != nil {
		return r, err
	}
	r.rules = rules.Default()
	if r.version == 0 {
		return r, nil
	}
	if r.text, err = s.rulesText(ctx, r.content); err != nil {
		return r, err
	}
	if parsed, err := rules.Parse(r.text); err == nil {
		r.rules = parsed
	}
	return r, nil
}

// coverKey names what a coverage was counted for.
type coverKey struct {
	project     int64
	root, rules chunk.Digest
}

// coverage is how many assets, and how many bytes of them, each rule decides about; uncovered counts those about which none does.
type coverage struct {
	assets    []int
	sizes     []int64
	uncovered int
}

// cover counts it: each asset is looked at once, as long as neither the rules nor the assets change.
func (s *Service) cover(ctx context.Context, r ruled) (coverage, error) {
	key := coverKey{r.project.ID, r.root, r.content.Digest}
	if c, ok := s.covers.Get(key); ok {
		return c, nil
	}
	c := coverage{assets: make([]int, len(r.rules.List)), sizes: make([]int64, len(r.rules.List))}
	err := s.read(ctx, func(tx *records.Tx) error {
		return s.forest(tx, r.project.ID).Range(ctx, r.root, "", "", func(e *tree.Entry) bool {
			deciding := r.rules.Deciding(e.Spelling())
			for _, i := range deciding {
				c.assets[i]++
				c.sizes[i] += e.Size
			}
			if len(deciding) == 0 {
				c.uncovered++
			}
			return ctx.Err() == nil
		})
	})
	if err == nil {
		err = ctx.Err()
	}
	if err == nil {
		s.covers.Add(key, c)
	}
	return c, err
}

// Rules shows a project's rules, what each covers, and what people ask of the leads.
func (s *Service) Rules(ctx context.Context, actor Actor, key string) (out model.Rules, err error) {
	r, err := s.ruled(ctx, actor, key, model.Viewer)
	if err != nil {
		return out, err
	}
	c, err := s.cover(ctx, r)
	if err != nil {
		return out, err
	}
	out = model.Rules{Text: string(r.text), Version: r.version, Presets: append([]string{}, r.rules.Presets...), Otherwise: r.rules.Otherwise,
		PointOut: r.rules.PointOut, ReadOnly: r.rules.ReadOnly, Uncovered: c.uncovered, Rules: []model.RuleLine{}}
	for i, rule := range r.rules.List {
		out.Rules = append(out.Rules, model.RuleLine{Match: rule.Match, Kind: rule.Kind, Lock: rule.Lock, In: rule.Origin.In,
			Line: rule.Origin.Line, Assets: c.assets[i], Size: c.sizes[i]})
	}
	err = s.read(ctx, func(tx *records.Tx) error {
		out.Requests, err = tx.RuleRequests(ctx, r.project.ID)
		return err
	})
	return out, err
}

// TestRules says what the rules decide about a path, and why.
func (s *Service) TestRules(ctx context.Context, actor Actor, key, path string) (out model.RuleTest, err error) {
	if bad := assetpath.Check(path); bad != nil {
		return out, model.NewProblem(model.BadRequest, bad.Remedy, "%s", bad.Message)
	}
	r, err := s.ruled(ctx, actor, key, model.Viewer)
	if err != nil {
		return out, err
	}
	d := r.rules.Decide(path)
	out = model.RuleTest{Path: path, Kind: d.Kind, KindBy: d.KindBy.String(), Lock: d.Lock, LockBy: d.LockBy.String()}
	err = s.read(ctx, func(tx *records.Tx) error {
		folded := assetpath.Fold(path)
		held, err := s.forest(tx, r.project.ID).Get(ctx, r.root, []string{folded})
		_, out.Asset = held[folded]
		return err
	})
	return out, err
}

// AskForRule puts it to the leads that a path be an asset.
func (s *Service) AskForRule(ctx context.Context, actor Actor, key, path, reason string) (out model.RuleRequest, err error) {
	reason = strings.TrimSpace(reason)
	if bad := assetpath.Check(path); bad != nil {
		return out, model.NewProblem(model.BadRequest, bad.Remedy, "%s", bad.Message)
	}
	if err := checkWord("the reason", reason); err != nil {
		return out, err
	}
	r, err := s.ruled(ctx, actor, key, model.Artist)
	if err != nil {
		return out, err
	}
	if d := r.rules.Decide(path); d.Kind == rules.Asset {
		return out, model.NewProblem(model.BadRequest, "send it", "the rules make an asset of %s already: %s", path, d.KindBy)
	}
	err = s.write(ctx, func(tx *records.Tx) error {
		open, err := tx.RuleRequests(ctx, r.project.ID)
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
		if out.ID, err = tx.AddRuleRequest(ctx, r.project.ID, actor.ID, path, reason); err != nil {
			return err
		}
		if out.At, err = tx.Now(ctx); err != nil {
			return err
		}
		return tx.AddEvent(ctx, r.project.ID, actor.ID, news.RulesAsked, map[string]any{"path": path, "reason": reason})
	})
	return out, err
}

// AnswerRuleRequest is a lead's decision. Accepting it sends the rules with one more exception.
func (s *Service) AnswerRuleRequest(ctx context.Context, actor Actor, key string, id int64, accept bool, word string) error {
	word = strings.TrimSpace(word)
	if len(word) > 1000 || strings.ContainsRune(word, 0) {
		return model.NewProblem(model.BadRequest, "shorten it", "the answer has at most 1,000 bytes")
	}
	r, err := s.ruled(ctx, actor, key, model.Lead)
	if err != nil {
		return err
	}
	open, err := s.openRequest(ctx, r.project, id)
	if err != nil {
		return err
	}
	if accept && r.rules.Decide(open.Path).Kind != rules.Asset {
		content, err := s.ingest(ctx, r.project, bytes.NewReader(rules.Include(r.text, open.Path)))
		if err != nil {
			return err
		}
		send := Send{Key: newID(), Workspace: model.KindConsole, TakeFree: true,
			Note:    fmt.Sprintf("Rules: %s is an asset, as %s asked", open.Path, open.Person),
			Changes: []Change{{Path: rules.File, Base: r.version, Content: content.Digest, Size: content.Size}}}
		if _, err := s.Send(ctx, actor, key, send, nil); err != nil {
			return err
		}
	}
	return s.write(ctx, func(tx *records.Tx) error {
		path, asker, err := tx.AnswerRuleRequest(ctx, r.project.ID, id, actor.ID, accept, word)
		if errors.Is(err, records.ErrNotFound) {
			return answeredAlready
		}
		if err != nil {
			return err
		}
		return tx.AddEvent(ctx, r.project.ID, actor.ID, news.RulesAnswered,
			map[string]any{"path": path, "asked": asker, "accepted": accept, "word": word})
	})
}

var answeredAlready = model.NewProblem(model.NotFound, "look at the rules page again", "this request is not there, or was answered already")

func (s *Service) openRequest(ctx context.Context, p records.Project, id int64) (open model.RuleRequest, err error) {
	err = s.read(ctx, func(tx *records.Tx) error {
		list, err := tx.RuleRequests(ctx, p.ID)
		for _, r := range list {
			if r.ID == id && r.Answered == nil {
				open = r
				return nil
			}
		}
		if err == nil {
			err = answeredAlready
		}
		return err
	})
	return open, err
}

// termsOf is what rules say of locks, as a project keeps it.
func termsOf(r *rules.Rules) records.Terms {
	return records.Terms{OfferFor: r.Locks.OfferFor, AnswerWithin: r.Locks.AnswerWithin, ForgottenAfter: r.Locks.ForgottenAfter,
		BehindWarns: r.Locks.BehindWarns}
}
