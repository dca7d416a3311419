package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sort"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
)

// Preview says what starting a project from a folder would track.
type Preview struct {
	Files   int             `json:"files"`
	Size    int64           `json:"size"`
	Left    int             `json:"left_out"`
	Largest []model.Asset   `json:"largest"`
	Odd     []model.Refusal `json:"odd"`
}

// PreviewStart looks at a folder.
func PreviewStart(ctx context.Context, dir string) (*Preview, error) {
	found, err := Look(ctx, dir, nil)
	if err != nil {
		return nil, err
	}
	if found.RulesErr != nil {
		return nil, found.RulesErr
	}
	p := &Preview{Files: len(found.Files), Left: found.Left, Odd: append([]model.Refusal{}, found.Odd...), Largest: []model.Asset{}}
	for name, f := range found.Files {
		p.Size += f.Stamp.Size
		p.Largest = append(p.Largest, model.Asset{Path: name, Size: f.Stamp.Size, State: model.New})
	}
	sort.Slice(p.Largest, func(i, j int) bool {
		a, b := p.Largest[i], p.Largest[j]
		return a.Size > b.Size || a.Size == b.Size && a.Path < b.Path
	})
	p.Largest = p.Largest[:min(5, len(p.Largest))]
	return p, nil
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
		return false, model.NewProblem(model.Taken, "tarn status shows how it stands", "%s is a workspace of the project %s already", dir, m.Project)
	}
	return false, model.NewProblem(model.Taken, "choose a folder outside it", "%s lies in the workspace %s of the project %s", dir, root, m.Project)
}

// Start makes a project of a folder and ties the folder to it. The baseline is sent by the caller. Interrupted, it can be repeated.
func Start(ctx context.Context, dir, key string, c *client.Client, progress Progress) (*Workspace, error) {
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
	return Create(ctx, dir, key, c, progress)
}

// Join ties a folder to a project. A new folder has to be empty or missing. With here, the folder may have the files already:
// nothing in it is overwritten. Interrupted, it can be repeated.
func Join(ctx context.Context, dir, key string, here bool, c *client.Client, progress Progress) (*Workspace, error) {
	again, err := Vacant(dir, key, c.URL())
	if err != nil {
		return nil, err
	}
	if again {
		mine, err := ours(ctx, dir, key, c)
		if err != nil {
			return nil, err
		}
		if mine {
			return openAnyhow(dir, c, progress)
		}
		if !here {
			return nil, model.NewProblem(model.Taken, "make it yours with tarn join "+key+" --here, which overwrites nothing", "%s is somebody else's workspace", dir)
		}
	}
	if _, err := c.Project(ctx, key); err != nil {
		return nil, err
	}
	if here {
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			return nil, model.NewProblem(model.BadRequest, "name the folder that has the files", "%s is not a folder", dir)
		}
		return Create(ctx, dir, key, c, progress)
	}
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s can't be used: %w", dir, err)
	}
	if len(entries) > 0 {
		return nil, model.NewProblem(model.Taken, "name a new folder, or, if it has the project's files already, use tarn join "+key+" --here", "%s is not empty", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("%s can't be made: %w", dir, err)
	}
	return Create(ctx, dir, key, c, progress)
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
	s, err := w.Status(ctx)
	if err != nil {
		return nil, err
	}
	out := &Adopted{Differ: []model.Asset{}, New: []model.Asset{}, Lacking: []model.Asset{}, Odd: append([]model.Refusal{}, s.Odd...)}
	var same []wanted
	for _, a := range s.Assets {
		f, there := s.found.Files[a.Path]
		switch {
		case a.State == model.Same:
			out.Taken++
		case a.State == model.New:
			out.New = append(out.New, a)
		case there && a.State == model.Behind:
			same = append(same, wanted{asset: s.newest[a.Path], stamp: &f.Stamp})
		case there:
			out.Differ = append(out.Differ, a)
		default:
			out.Lacking = append(out.Lacking, a)
		}
	}
	u := &Updated{}
	rest, err := w.adopt(s, same, u)
	out.Taken += len(u.Brought)
	for _, f := range rest {
		out.Lacking = append(out.Lacking, f.asset)
	}
	return out, err
}
