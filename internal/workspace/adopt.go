package workspace

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/mainline"
	"kettletarn/internal/workspace/scan"
)

// Prepared is what adopting left ready for a commit of the main history: files taken out of git's index (they stay on disk), and those put
// into it.
type Prepared struct {
	Untracked int      `json:"untracked"`
	Staged    []string `json:"staged"`
	Pin       int      `json:"pin,omitempty"`
}

// ReadyForPast refuses a repository whose past can't be brought in as it is.
func ReadyForPast(ctx context.Context, repo *mainline.Repo, history, beside bool) error {
	if _, err := repo.Commit(ctx, "HEAD"); err != nil {
		return model.NewProblem(model.NotFound, "make a first commit", "the git repository has no commit yet")
	}
	shallow, err := repo.Shallow(ctx)
	if err != nil {
		return err
	}
	if shallow && history {
		return model.NewProblem(model.BadRequest, "get the rest with git fetch --unshallow, then run the same again",
			"this clone has only the latest part of its history")
	}
	if beside {
		return nil
	}
	staged, err := repo.Index(ctx)
	if err != nil {
		return err
	}
	r, err := RulesOf(ctx, repo.Dir)
	if err != nil {
		return err
	}
	wanted := wantedBy(r)
	for _, c := range staged {
		// What an adoption that was cut off has staged itself stands in nobody's way.
		if c.Path == rules.Pin || c.Path == gitIgnoreFile || c.Status == 'D' && (c.Path == rules.File || wanted(assetpath.Fit(c.Path))) {
			continue
		}
		return model.NewProblem(model.BadRequest, "commit what is staged, or take it out with git restore --staged; tarn adopt --beside leaves "+
			"git alone", "something is staged for the next commit, and the commit to be prepared would take it along: %s",
			assetpath.Printable(c.Path))
	}
	return nil
}

// RulesOf are the rules of a folder.
func RulesOf(ctx context.Context, dir string) (*rules.Rules, error) {
	s, err := scan.New(dir)
	return s.Rules, err
}

// TakeOver ties the files of the folder to what was brought in: those that are the same are taken over as they are, and the rules are sent
// where they are new or changed. What differs stays as it is, an unsent change. What stands for a name that no asset can have is brought,
// unless the folder is to be left as it is (beside).
func (w *Workspace) TakeOver(ctx context.Context, beside bool) (*Adopted, error) {
	out, err := w.Adopt(ctx)
	if err != nil {
		return out, err
	}
	rulesOut := func(a model.Asset) bool { return a.Path == rules.File }
	out.New, out.Differ = slices.DeleteFunc(out.New, rulesOut), slices.DeleteFunc(out.Differ, rulesOut)
	s, err := w.Status(ctx, Question{Paths: []string{rules.File}})
	if err != nil {
		return out, err
	}
	for _, a := range s.Assets {
		if a.Path == rules.File && Changed(a) {
			if _, err := w.Send(ctx, SendOptions{About: model.About{Note: "The rules: what is an asset, and what needs its lock"},
				Paths: []string{rules.File}}); err != nil {
				return out, err
			}
		}
	}
	if beside {
		return out, w.Refresh(ctx)
	}
	_, err = w.Update(ctx, UpdateOptions{})
	return out, err
}

// Beside keeps what is ours in the folder out of git's sight, on this machine alone.
func Beside(ctx context.Context, repo *mainline.Repo) error {
	return repo.Exclude(ctx, []string{"/" + rules.File, "/" + assetpath.ReservedPrefix + "*"})
}

// Prepare takes the assets out of git's index, and puts the pin and the block of the ignore file into it: a commit is ready then, and not
// made.
func (w *Workspace) Prepare(ctx context.Context, repo *mainline.Repo, r *rules.Rules) (*Prepared, error) {
	out := &Prepared{Staged: []string{}}
	wanted := wantedBy(r)
	var paths []string
	if err := repo.Tracked(ctx, func(c mainline.Change) error {
		if c.Regular() && (c.Path == rules.File || wanted(assetpath.Fit(c.Path))) {
			paths = append(paths, c.Path)
		}
		return nil
	}); err != nil {
		return out, err
	}
	written, err := w.WritePin(ctx, true)
	if err != nil {
		return out, err
	}
	out.Pin = written.Pin.Handoff
	if _, err := KeepFence(ctx, w.Root, true); err != nil {
		return out, err
	}
	if err := repo.Untrack(ctx, paths); err != nil {
		return out, err
	}
	out.Untracked = len(paths)
	for _, name := range []string{rules.Pin, gitIgnoreFile} {
		if _, err := os.Lstat(filepath.Join(w.Root, name)); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err := repo.Stage(ctx, name); err != nil {
			return out, err
		}
		out.Staged = append(out.Staged, name)
	}
	return out, nil
}
