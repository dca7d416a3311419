package handoffs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// AnswerRuleRequest is a lead's decision. Accepting it sends the rules with one more exception.
func (s *Room) AnswerRuleRequest(ctx context.Context, actor ground.Actor, key string, id int64, accept bool, word string) error {
	word = strings.TrimSpace(word)
	if len(word) > 1000 || strings.ContainsRune(word, 0) {
		return model.NewProblem(model.BadRequest, "shorten it", "the answer has at most 1,000 bytes")
	}
	r, err := s.Ruled(ctx, actor, key, model.Lead)
	if err != nil {
		return err
	}
	open, err := s.openRequest(ctx, r.Project, id)
	if err != nil {
		return err
	}
	if accept && r.Rules.Decide(open.Path).Kind != rules.Asset {
		content, err := s.Ingest(ctx, r.Project, bytes.NewReader(rules.Include(r.Text, open.Path)))
		if err != nil {
			return err
		}
		send := Send{Key: ground.NewID(), Workspace: model.KindConsole, TakeFree: true,
			About:   model.About{Note: fmt.Sprintf("Rules: %s is an asset, as %s asked", open.Path, open.Person)},
			Changes: []Change{{Path: rules.File, Base: r.Version, Content: content.Digest, Size: content.Size}}}
		if _, err := s.Send(ctx, actor, key, send, nil); err != nil {
			return err
		}
	}
	return s.Write(ctx, func(tx *records.Tx) error {
		path, asker, err := tx.AnswerRuleRequest(ctx, r.Project.ID, id, actor.ID, accept, word)
		if errors.Is(err, records.ErrNotFound) {
			return answeredAlready
		}
		if err != nil {
			return err
		}
		return tx.AddEvent(ctx, r.Project.ID, actor.ID, news.RulesAnswered,
			map[string]any{"path": path, "asked": asker, "accepted": accept, "word": word})
	})
}

var answeredAlready = model.NewProblem(model.NotFound, "look at the rules page again", "this request is not there, or was answered already")

func (s *Room) openRequest(ctx context.Context, p records.Project, id int64) (open model.RuleRequest, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
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
