package ruling

import (
	"context"
	"errors"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Bounds of what rules are tried on: assets that are looked at, at once and in all, and paths that are named of each change.
const (
	triedAtOnce = 5000
	triedMost   = 250_000
	triedNamed  = 20
)

// TryRules reads rules that are not handed off yet, and tells what they would change about what is there now. Rules that can't be read are
// no error: the answer says what is wrong with them.
func (s *Room) TryRules(ctx context.Context, actor ground.Actor, key, text string) (out model.RulesTried, err error) {
	now, err := s.Ruled(ctx, actor, key, model.Viewer)
	if err != nil {
		return out, err
	}
	out.Rules, out.Changes, out.Presets = []model.RuleLine{}, []model.RulesChange{}, []string{}
	then, err := rules.Parse([]byte(text))
	var wrong *rules.Error
	if errors.As(err, &wrong) {
		out.Trouble = &model.RulesTrouble{Line: wrong.Line, Column: wrong.Column, Message: wrong.Message}
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Presets, out.Otherwise, out.ReadOnly = append(out.Presets, then.Presets...), then.Otherwise, then.ReadOnly
	for _, r := range then.List {
		out.Rules = append(out.Rules, model.RuleLine{Match: r.Match, Kind: r.Kind, Lock: r.Lock, In: r.Origin.In, Line: r.Origin.Line})
	}
	at := map[string]int{}
	tell := func(what, path string) {
		i, known := at[what]
		if !known {
			i = len(out.Changes)
			at[what], out.Changes = i, append(out.Changes, model.RulesChange{What: what, Paths: []string{}})
		}
		c := &out.Changes[i]
		if c.Count++; len(c.Paths) < triedNamed {
			c.Paths = append(c.Paths, path)
		}
	}
	for after := ""; out.Looked < triedMost; {
		n := 0
		if err := s.Use(ctx, func(tx *records.Tx) error {
			_, end := tree.Below("")
			return s.Forest(tx, now.Project.ID).Range(ctx, now.root, after, end, func(e *tree.Entry) bool {
				path := e.Spelling()
				after, n = e.Key, n+1
				for _, what := range differs(now.Rules.Decide(path), then.Decide(path)) {
					tell(what, path)
				}
				return n < triedAtOnce
			})
		}); err != nil {
			return out, err
		}
		if out.Looked += n; n < triedAtOnce {
			return out, nil
		}
	}
	out.More = true
	return out, nil
}

// differs says what is decided otherwise about an asset.
func differs(now, then rules.Decision) (list []string) {
	if now.Kind != then.Kind && then.Kind != rules.Asset {
		return []string{model.RulesLeaveOut}
	}
	if now.Kind != then.Kind {
		list = append(list, model.RulesTakeIn)
	}
	if now.Lock != then.Lock {
		list = append(list, map[string]string{rules.Free: model.RulesFree, rules.OnEdit: model.RulesOnEdit}[then.Lock])
		if list[len(list)-1] == "" {
			list[len(list)-1] = model.RulesNeedLock
		}
	}
	return list
}

// ProposeRules names the presets that fit some paths, and gives the rules that come of presets: of those that fit, where none are named.
func (s *Room) ProposeRules(q model.RulesQuestion) (out model.RulesProposed, err error) {
	if len(q.Paths) > ground.MaxPaths {
		return out, model.NewProblem(model.TooLarge, "take a part of it first", "at most %d paths can be looked at at once", ground.MaxPaths)
	}
	fit := map[string]bool{}
	names := rules.Propose(q.Paths)
	for _, n := range names {
		fit[n] = true
	}
	if q.Presets != nil {
		names = *q.Presets
	}
	taken := map[string]bool{}
	for _, n := range names {
		taken[n] = true
	}
	for _, p := range rules.Presets() {
		out.Presets = append(out.Presets, model.PresetOffer{Name: p.Name, About: p.About, Fits: fit[p.Name], Taken: taken[p.Name]})
	}
	out.Text = rules.Compose(names, q.Otherwise)
	read, err := rules.Parse([]byte(out.Text))
	if err != nil {
		return out, model.NewProblem(model.BadRequest, "take some of those that are offered", "%v", err)
	}
	for _, p := range q.Paths {
		if read.Decide(p).Kind == rules.Asset {
			out.Assets++
		}
	}
	return out, nil
}
