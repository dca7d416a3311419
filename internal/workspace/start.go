package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"time"

	"kettletarn/internal/client"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/scan"
	"kettletarn/internal/workspace/transfer"
)

// Preview says what starting a project from a folder would track, under rules that are there or that are proposed (Rules is their text
// then). Hidden are large files that a git ignore file hides: often they are assets.
type Preview struct {
	Presets   []string        `json:"presets"`
	Rules     string          `json:"rules,omitempty"`
	Files     int             `json:"files"`
	Size      int64           `json:"size"`
	Code      int             `json:"code"`
	Left      int             `json:"left_out"`
	LeftBy    []LeftBy        `json:"left_out_by"`
	Largest   []model.Asset   `json:"largest"`
	Hidden    []scan.LeftOut  `json:"hidden"`
	Uncovered []model.Asset   `json:"uncovered"`
	Odd       []model.Refusal `json:"odd"`
}

// LeftBy is one rule of a preview, and how many files and whole folders it leaves out.
type LeftBy struct {
	By    rules.Origin `json:"by"`
	Files int          `json:"files"`
}

// largest is how many of the largest files a preview names.
const largest = 20

// PreviewStart looks at a folder. Where it has no rules file, presets are proposed: those named, or, where that is nil, those that fit.
func PreviewStart(ctx context.Context, dir string, presets []string) (*Preview, error) {
	p := &Preview{Presets: presets}
	s, rulesErr := scan.New(dir)
	if rulesErr != nil {
		return nil, rulesErr
	}
	if _, err := os.Lstat(filepath.Join(dir, rules.File)); errors.Is(err, fs.ErrNotExist) {
		if err := p.propose(ctx, s); err != nil {
			return nil, err
		}
	} else if len(presets) > 0 {
		return nil, model.NewProblem(model.BadRequest, "name the presets in it, or start without --preset", "the folder has a tarn.toml already")
	}
	if p.Presets = s.Rules.Presets; p.Presets == nil {
		p.Presets = []string{}
	}
	s.Listing, s.Deep = true, true
	if err := s.Run(ctx); err != nil {
		return nil, err
	}
	p.Files, p.Code, p.Left, p.Odd = len(s.Fresh), s.Code, s.LeftCount, append([]model.Refusal{}, s.Odd...)
	p.Largest, p.Hidden, p.Uncovered = []model.Asset{}, append([]scan.LeftOut{}, s.Hidden...), []model.Asset{}
	for _, f := range s.Fresh {
		p.Size += f.File.Stamp.Size
		p.Largest = append(p.Largest, model.Asset{Path: f.Path, Size: f.File.Stamp.Size, State: model.New})
	}
	sort.Slice(p.Largest, func(i, j int) bool {
		a, b := p.Largest[i], p.Largest[j]
		return a.Size > b.Size || a.Size == b.Size && a.Path < b.Path
	})
	p.Largest = p.Largest[:min(largest, len(p.Largest))]
	sort.Slice(p.Hidden, func(i, j int) bool { return p.Hidden[i].Size > p.Hidden[j].Size })
	p.Hidden = p.Hidden[:min(largest, len(p.Hidden))]
	for _, f := range s.Large {
		if isBinary(os.DirFS(dir), f.Path) && len(p.Uncovered) < largest {
			p.Uncovered = append(p.Uncovered, model.Asset{Path: f.Path, Size: f.File.Stamp.Size, State: model.Code})
		}
	}
	p.LeftBy = leftBy(s.LeftOut)
	return p, nil
}

// propose makes up rules for a folder that has none.
func (p *Preview) propose(ctx context.Context, s *scan.Scan) error {
	otherwise := rules.Asset
	if besideCode(s.Root) {
		otherwise = rules.Code
	}
	if p.Presets == nil {
		look, _ := scan.New(s.Root)
		if err := look.Run(ctx); err != nil {
			return err
		}
		paths := make([]string, len(look.Fresh))
		for i, f := range look.Fresh {
			paths[i] = f.Path
		}
		p.Presets = rules.Propose(paths)
	}
	for _, name := range p.Presets {
		if err := rules.CheckPreset(name); err != nil {
			return model.NewProblem(model.BadRequest, "", "%v", err)
		}
	}
	p.Rules = rules.Compose(p.Presets, otherwise)
	parsed, err := rules.Parse([]byte(p.Rules))
	if err != nil {
		return err
	}
	s.Rules = parsed
	return nil
}

// besideCode reports whether a folder lies in a git repository.
func besideCode(dir string) bool {
	for {
		if _, err := os.Lstat(filepath.Join(dir, ".git")); err == nil {
			return true
		}
		up := filepath.Dir(dir)
		if up == dir {
			return false
		}
		dir = up
	}
}

// leftBy counts what is left out, by rule.
func leftBy(left []scan.LeftOut) []LeftBy {
	count := map[rules.Origin]int{}
	for _, l := range left {
		if l.State == model.Ignored {
			count[l.By]++
		}
	}
	out := []LeftBy{}
	for by, n := range count {
		out = append(out, LeftBy{by, n})
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := out[i], out[j]
		return a.Files > b.Files || a.Files == b.Files && a.By.String() < b.By.String()
	})
	return out
}

// WriteRules writes a rules file where there is none.
func WriteRules(dir, text string) error {
	f, err := os.OpenFile(filepath.Join(dir, rules.File), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("the rules can't be written: %w", err)
	}
	_, err = f.WriteString(text)
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}

// Vacant checks that a folder lies in no workspace, or is the root of one of the same project (an interrupted start or join).
func Vacant(dir, project, service string) (again bool, err error) {
	root, err := Find(dir)
	if err != nil || root == "" {
		return false, err
	}
	m, err := ReadMarker(root)
	if err != nil {
		return false, err
	}
	if root == dir && m.Project == project && m.Service == service {
		return true, nil
	}
	if root == dir {
		return false, model.NewProblem(model.Taken, "tarn status shows how it stands", "%s is a workspace of the project %s already", dir,
			m.Project)
	}
	return false, model.NewProblem(model.Taken, "choose a folder outside it", "%s lies in the workspace %s of the project %s", dir, root,
		m.Project)
}

// MayStart tells, before anything is looked at or written, whether a project with a key can be made of a folder by the signed-in person.
func MayStart(ctx context.Context, dir, key string, c *client.Client) (again bool, err error) {
	if again, err = Vacant(dir, key, c.URL()); err != nil {
		return again, err
	}
	if !model.ValidKey(key) {
		return again, model.NewProblem(model.BadRequest, "take for example: brinelight",
			"%q can't be a project's key: it has 2 to 40 small letters, digits and dashes, and starts with a letter", assetpath.Printable(key))
	}
	p, err := c.Project(ctx, key)
	var problem *model.Problem
	switch {
	case errors.As(err, &problem) && problem.Type == model.NotFound && !again:
		return false, nil // there may be one that is not the person's: making it will tell
	case err != nil:
		return again, err
	case p.Handoffs > 0 && again:
		return again, model.NewProblem(model.Taken, "tarn status shows how it stands; tarn send hands off what changed",
			"%s is the workspace of the project %s already", dir, key)
	case p.Handoffs > 0 || p.Role != model.Owner:
		return again, model.NewProblem(model.Taken, "choose another key, or join that one with tarn join "+key, "there is a project %s already",
			key)
	}
	return again, nil
}

// Start makes a project of a folder and ties the folder to it, with rules, where they are not empty, as its rules file. The baseline is
// sent by the caller. Where the project is refused, nothing is written. Interrupted, it can be repeated.
func Start(ctx context.Context, dir, key, rulesText string, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	return start(ctx, dir, key, rulesText, true, c, progress)
}

// StartBeside is Start for a git repository that goes on carrying the assets: its ignore file is left alone.
func StartBeside(ctx context.Context, dir, key string, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	return start(ctx, dir, key, "", false, c, progress)
}

func start(ctx context.Context, dir, key, rulesText string, fenced bool, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	again, err := Vacant(dir, key, c.URL())
	if err != nil {
		return nil, err
	}
	if again {
		return openAnyhow(dir, c, progress)
	}
	_, err = c.Start(ctx, key)
	var problem *model.Problem
	if errors.As(err, &problem) && problem.Type == model.Taken {
		// A start that was cut off after the project was made goes on; anybody else's project is left alone.
		if p, err2 := c.Project(ctx, key); err2 == nil && p.Role == model.Owner && p.Handoffs == 0 {
			err = nil
		}
	}
	if err != nil {
		return nil, err
	}
	if rulesText != "" {
		if err := WriteRules(dir, rulesText); err != nil {
			return nil, err
		}
	}
	return create(ctx, dir, key, fenced, c, progress)
}

// forgetFormerLife forgets what is known of a folder where that came from a service that was restored since, so that everything in it is
// looked at anew. It gives the versions that the folder had then, by path.
func forgetFormerLife(m Marker, c *client.Client) (former map[string]int, err error) {
	known := index.In(stateFolder(m), m.Project)
	if !known.There() {
		return nil, nil
	}
	var view index.View
	had := map[string]int{}
	if err := known.Look(func(t index.Tx) error {
		if view, err = t.View(); err != nil {
			return err
		}
		return t.EachBase(func(path string, b index.Base) error {
			had[path] = b.Version
			return nil
		})
	}); err != nil || view.Life == "" || c.Life() == "" || view.Life == c.Life() {
		return nil, err
	}
	return had, known.Remove()
}

// Join ties a folder to a project. A new folder has to be empty or missing. With here, the folder may have the files already:
// nothing in it is overwritten. Interrupted, it can be repeated.
func Join(ctx context.Context, dir, key string, here bool, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	again, err := Vacant(dir, key, c.URL())
	if err != nil {
		return nil, err
	}
	if again {
		mine, err := ours(ctx, dir, key, c)
		if err != nil {
			return nil, err
		}
		m, err := ReadMarker(dir)
		if err != nil {
			return nil, err
		}
		var former map[string]int
		if here {
			if former, err = forgetFormerLife(m, c); err != nil {
				return nil, err
			}
		}
		what, _, note, err := lookAtPlace(dir, m)
		if err != nil {
			return nil, err
		}
		switch {
		case mine && here && what == placeAnew:
			return takeAnew(ctx, dir, m, note, c, progress)
		case mine && (!here || what != placeCopy):
			w, err := openAnyhow(dir, c, progress)
			if err == nil {
				w.former = former
			}
			return w, err
		}
		if !here {
			return nil, model.NewProblem(model.Taken, "make it yours with tarn join "+key+" --here, which overwrites nothing",
				"%s is somebody else's workspace", dir)
		}
	}
	if _, err := c.Project(ctx, key); err != nil {
		return nil, err
	}
	if w, err := comeBack(ctx, dir, key, c, progress); w != nil || err != nil {
		return w, err
	}
	if here {
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			return nil, model.NewProblem(model.BadRequest, "name the folder that has the files", "%s is not a folder", dir)
		}
		return create(ctx, dir, key, true, c, progress)
	}
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s can't be used: %w", dir, err)
	}
	if len(entries) > 0 {
		return nil, model.NewProblem(model.Taken, "name a new folder, or, if it has the project's files already, use tarn join "+key+" --here",
			"%s is not empty", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("%s can't be made: %w", dir, err)
	}
	return create(ctx, dir, key, true, c, progress)
}

// ours tells whether the workspace that a folder's marker names is the signed-in person's: a folder may have been copied from
// somebody's, marker and all.
func ours(ctx context.Context, dir, key string, c *client.Client) (bool, error) {
	m, err := ReadMarker(dir)
	if err != nil {
		return false, err
	}
	list, err := c.Workspaces(ctx, key)
	for _, w := range list.Workspaces {
		if w.ID == m.Workspace {
			return true, nil
		}
	}
	return false, err
}

// Adopted is what join --here found: files that are the same at the service, files that differ, and what is not here yet.
type Adopted struct {
	Taken   int             `json:"taken_over"`
	Differ  []model.Asset   `json:"differ"`
	New     []model.Asset   `json:"new"`
	Lacking []model.Asset   `json:"lacking"`
	Odd     []model.Refusal `json:"odd"`
}

// Adopt takes over the files of the folder that are the same at the service. It changes no file.
func (w *Workspace) Adopt(ctx context.Context) (*Adopted, error) {
	if err := w.Refresh(ctx); err != nil {
		return nil, err
	}
	out, young, err := w.adoptOnce(ctx)
	if err == nil && young {
		// A file that was written this very moment may be written again without looking other; a moment later it is what it is.
		time.Sleep(2 * index.Resolution)
		out, _, err = w.adoptOnce(ctx)
	}
	return out, err
}

// adoptOnce says besides whether there were files that are too young to be told by their looks.
func (w *Workspace) adoptOnce(ctx context.Context) (out *Adopted, young bool, err error) {
	s, err := w.Status(ctx, Question{})
	if err != nil {
		return nil, false, err
	}
	out = &Adopted{Taken: s.Same, Differ: []model.Asset{}, New: []model.Asset{}, Lacking: []model.Asset{},
		Odd: append([]model.Refusal{}, s.Odd...)}
	var same []placing.Wanted
	var later []model.Asset
	for _, a := range s.Assets {
		was := s.standing(a.Path)
		switch {
		case a.State == model.Same || a.State == model.Outside:
		case a.State == model.New:
			out.New = append(out.New, a)
		case was != nil && a.State == model.Behind:
			same = append(same, placing.Wanted{Asset: s.theirsOf(a), Place: a.Path, Was: was})
		case was != nil:
			out.Differ = append(out.Differ, a)
			// What the service had before it was restored was made from what it has now.
			if theirs := s.theirsOf(a); w.former[a.Path] >= theirs.Newest && !theirs.Gone {
				later = append(later, theirs)
			}
		default:
			out.Lacking = append(out.Lacking, a)
		}
	}
	u := &Updated{}
	rest, err := w.adopt(s, same, u)
	out.Taken += len(u.Brought)
	for _, f := range rest {
		young = young || f.Was != nil
		out.Lacking = append(out.Lacking, f.Asset)
	}
	if err != nil || len(later) == 0 {
		return out, young, err
	}
	return out, young, w.update(func(t index.Tx) error {
		for _, a := range later {
			if err := t.SetBase(a.Path, placing.BaseOf(a, index.Stamp{Size: a.Size}), nil); err != nil {
				return err
			}
		}
		return nil
	})
}
