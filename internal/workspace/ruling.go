package workspace

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/scan"
)

// RulesHere are the rules in the folder, with what each decides about here.
type RulesHere struct {
	Presets   []string           `json:"presets"`
	Otherwise string             `json:"otherwise"`
	PointOut  int64              `json:"point_out"`
	ReadOnly  bool               `json:"read_only"`
	Locks     LockTerms          `json:"locks"`
	Rules     []model.RuleLine   `json:"rules"`
	Branches  []model.BranchLine `json:"branches"`
}

// LockTerms are what the rules say of locks, in seconds; ForgottenAfter is 0 for never.
type LockTerms struct {
	OfferFor       int64 `json:"offer_for_seconds"`
	AnswerWithin   int64 `json:"answer_within_seconds"`
	ForgottenAfter int64 `json:"forgotten_after_seconds"`
	BehindWarns    bool  `json:"behind_warns"`
}

// Rules shows the rules in the folder. It needs no service.
func (w *Workspace) Rules(ctx context.Context) (*RulesHere, error) {
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, err
	}
	if s.Rules != nil {
		return nil, s.Rules
	}
	r := s.decide
	v := &RulesHere{Presets: append([]string{}, r.Presets...), Otherwise: r.Otherwise, PointOut: r.PointOut, ReadOnly: r.ReadOnly,
		Rules: []model.RuleLine{}, Branches: model.BranchLines(r),
		Locks: LockTerms{OfferFor: int64(r.Locks.OfferFor.Seconds()), AnswerWithin: int64(r.Locks.AnswerWithin.Seconds()),
			ForgottenAfter: int64(r.Locks.ForgottenAfter.Seconds()), BehindWarns: r.Locks.BehindWarns}}
	for _, rule := range r.List {
		v.Rules = append(v.Rules, model.RuleLine{Match: rule.Match, Kind: rule.Kind, Lock: rule.Lock, In: rule.Origin.In, Line: rule.Origin.Line})
	}
	for _, a := range s.Assets {
		for _, i := range r.Deciding(a.Path) {
			v.Rules[i].Assets++
			v.Rules[i].Size += a.Size
		}
	}
	return v, nil
}

// TestRules says which lines decide about paths, which need not exist.
func (w *Workspace) TestRules(ctx context.Context, paths []string) ([]model.RuleTest, error) {
	s, err := w.Status(ctx, Question{Paths: paths, LeftOut: true})
	if err != nil {
		return nil, err
	}
	if s.Rules != nil {
		return nil, s.Rules
	}
	out := make([]model.RuleTest, 0, len(paths))
	for _, p := range paths {
		if bad := assetpath.Check(p); bad != nil {
			return nil, model.NewProblem(model.BadRequest, bad.Remedy, "%s", bad.Message)
		}
		d := s.Decide(p)
		t := model.RuleTest{Path: p, Kind: d.Kind, KindBy: d.KindBy.String(), Lock: d.Lock, LockBy: d.LockBy.String()}
		if e := s.entry(p); e != nil {
			t.Asset = e.Had
		}
		if by, hidden := w.hiddenByGit(p, d); hidden {
			t.Kind, t.KindBy = rules.Ignored, by.String()
		}
		out = append(out, t)
	}
	return out, nil
}

// hiddenByGit asks the git ignore files on the way to a path, as a look at the folder does.
func (w *Workspace) hiddenByGit(p string, d rules.Decision) (rules.Origin, bool) {
	if d.Kind == rules.Ignored {
		return rules.Origin{}, false
	}
	var ignores []*rules.GitIgnore
	for _, folder := range append([]string{""}, assetpath.Folders(p)...) {
		if folder != "" {
			if by, hidden := scan.HiddenByGit(ignores, folder, true); hidden {
				return by, d.Kind != rules.Asset || !d.Placed
			}
		}
		if text, err := disk.ReadSmall(filepath.Join(w.Root, filepath.FromSlash(folder), ".gitignore"), rules.MaxSize); err == nil {
			ignores = append(ignores, rules.ParseGitIgnore(folder, text))
		}
	}
	by, hidden := scan.HiddenByGit(ignores, p, false)
	return by, hidden && (d.Kind == rules.Code || !d.Covered)
}

// Included is what became of paths that shall be assets.
type Included struct {
	Included []string `json:"included"`
	Asked    []string `json:"asked"`
	Already  []string `json:"already"`
}

// Include writes exceptions for paths into the rules, or, where one may not change them, puts them to the leads.
func (w *Workspace) Include(ctx context.Context, paths []string, reason string) (*Included, error) {
	tests, err := w.TestRules(ctx, paths)
	if err != nil {
		return nil, err
	}
	p, err := w.Client.Project(ctx, w.Marker.Project)
	if err != nil {
		return nil, err
	}
	out := &Included{Included: []string{}, Asked: []string{}, Already: []string{}}
	name := filepath.Join(w.Root, rules.File)
	text, err := disk.ReadSmall(name, rules.MaxSize)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	var nothing []model.Refusal
	for _, t := range tests {
		if _, err := os.Lstat(w.folder.Full(filepath.FromSlash(t.Path))); t.Kind != rules.Asset && os.IsNotExist(err) {
			nothing = append(nothing, model.Refusal{Path: t.Path, Reason: "unknown", Message: t.Path + ": there is nothing of that name",
				Remedy: "check the spelling; a rule for what comes later is written into tarn.toml by hand"})
		}
	}
	if len(nothing) > 0 {
		return nil, &model.Refused{Refusals: nothing}
	}
	for _, t := range tests {
		switch {
		case t.Kind == rules.Asset:
			out.Already = append(out.Already, t.Path)
		case model.AtLeast(p.Role, model.Lead):
			text = rules.Include(text, t.Path)
			out.Included = append(out.Included, t.Path)
		default:
			if _, err := w.Client.AskForRule(ctx, w.Marker.Project, model.RuleRequestNew{Path: t.Path, Reason: reason}); err != nil {
				return nil, err
			}
			out.Asked = append(out.Asked, t.Path)
		}
	}
	if len(out.Included) == 0 {
		return out, nil
	}
	return out, w.writeRules(text)
}

// writeRules replaces the rules file, if what it would say can be read.
func (w *Workspace) writeRules(text []byte) error {
	if _, err := rules.Parse(text); err != nil {
		return model.NewProblem(model.BadRequest, "mend the file first", "tarn.toml: %v", err)
	}
	part := filepath.Join(w.Root, assetpath.ReservedPrefix+"rules-new")
	if err := os.WriteFile(part, text, 0o644); err != nil {
		return err
	}
	if err := os.Rename(part, filepath.Join(w.Root, rules.File)); err != nil {
		return err
	}
	_, err := KeepFence(context.Background(), w.Root, false)
	return err
}

var presetsLine = regexp.MustCompile(`(?ms)^presets\s*=\s*\[[^\]]*\]`)

// AddPresets names presets in the rules file, behind those that it names, and lists the assets that the rules would leave out then.
func (w *Workspace) AddPresets(ctx context.Context, names []string) ([]model.Asset, error) {
	release, err := w.Work()
	if err != nil {
		return nil, err
	}
	defer release()
	text, err := disk.ReadSmall(filepath.Join(w.Root, rules.File), rules.MaxSize)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	parsed, err := rules.Parse(text)
	if err != nil {
		return nil, model.NewProblem(model.BadRequest, "mend the file first", "tarn.toml: %v", err)
	}
	list := parsed.Presets
	for _, n := range names {
		if err := rules.CheckPreset(n); err != nil {
			return nil, model.NewProblem(model.BadRequest, "", "%v", err)
		}
		known := false
		for _, p := range list {
			known = known || p == n
		}
		if !known {
			list = append(list, n)
		}
	}
	quoted := make([]string, len(list))
	for i, n := range list {
		quoted[i] = fmt.Sprintf("%q", n)
	}
	line := "presets = [" + strings.Join(quoted, ", ") + "]"
	next := line + "\n\n" + string(text)
	if at := presetsLine.FindIndex(text); at != nil {
		next = string(text[:at[0]]) + line + string(text[at[1]:])
	}
	if err := w.writeRules([]byte(next)); err != nil {
		return nil, err
	}
	return w.Stay(ctx)
}

// Stay lists the assets here that the rules in the folder would leave out. They stay assets.
func (w *Workspace) Stay(ctx context.Context) ([]model.Asset, error) {
	s, err := w.Status(ctx, Question{})
	if err != nil {
		return nil, err
	}
	return s.stay(), nil
}

func (s *Status) stay() []model.Asset {
	out := []model.Asset{}
	for i := range s.scan.Tracked {
		if t := &s.scan.Tracked[i]; t.Had && s.decide.Decide(t.Path).Kind != rules.Asset {
			out = append(out, model.Asset{Path: t.Path, Version: t.Base.Version, Size: t.Base.Size})
		}
	}
	return out
}
