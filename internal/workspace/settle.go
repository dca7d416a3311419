package workspace

import (
	"context"
	"fmt"
	"path"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
)

// How a clash is settled. UseCopy makes a new file of what was changed here, which needs nobody's lock, and puts theirs in its place: the
// way out, too, for somebody whose lock was taken away.
const (
	UseMine   = "mine"
	UseTheirs = "theirs"
	UseBoth   = "both"
	UseCopy   = "copy"
)

// Settled is how a clash was ended. Theirs is the version that was in the way; Superseded says that the next send will follow on it, and
// so supersede it. PutAway is the file that was not used, Beside the place of the other one.
type Settled struct {
	Path       string           `json:"path"`
	Use        string           `json:"use"`
	Theirs     model.Asset      `json:"theirs"`
	Superseded bool             `json:"superseded"`
	PutAway    *placing.PutAway `json:"put_away,omitempty"`
	Beside     string           `json:"beside,omitempty"`
}

// Settle ends the clash at a path. Nothing is lost by it: what is not used is put away, and their version stays in the history.
func (w *Workspace) Settle(ctx context.Context, name, use string) (*Settled, error) {
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, err
	}
	found, _ := Within(s.Assets, []string{name})
	if len(found) != 1 || found[0].State != model.Clash && (use != UseCopy || found[0].State != model.Edited) {
		return nil, model.NewProblem(model.BadRequest, "tarn status lists what clashes", "%s is not in a clash", assetpath.Printable(name))
	}
	a := found[0]
	if refusals := w.notSending(found); len(refusals) > 0 {
		return nil, &model.Refused{Refusals: refusals}
	}
	theirs := s.theirsOf(a)
	out := &Settled{Path: a.Path, Use: use, Theirs: theirs}
	switch use {
	case UseTheirs:
		d, err := w.Discard(ctx, []string{a.Path})
		if err != nil {
			return nil, err
		}
		if len(d.Refusals) > 0 {
			return nil, &model.Refused{Refusals: d.Refusals}
		}
		if len(d.PutAway) > 0 {
			out.PutAway = &d.PutAway[0]
		}
		return out, nil
	case UseBoth:
		if !theirs.Gone {
			if out.Beside, err = w.bringBeside(ctx, a.Path, theirs); err != nil {
				return nil, err
			}
		}
	case UseCopy:
		out.Beside, err = w.copyBeside(ctx, a.Path, theirs)
		return out, err
	case UseMine:
	default:
		return nil, model.NewProblem(model.BadRequest, "use one of mine, theirs, both and copy", "%q is no way to settle a clash",
			assetpath.Printable(use))
	}
	out.Superseded = !theirs.Gone
	return out, w.update(func(t index.Tx) error {
		if theirs.Gone {
			if err := t.DropMove(a.Path); err != nil {
				return err
			}
			return t.DropBase(theirs.Path)
		}
		return t.SetBase(theirs.Path, placing.BaseOf(theirs, index.Stamp{}), nil)
	})
}

// copyBeside moves what was changed here to a name of its own, and brings theirs to its place.
func (w *Workspace) copyBeside(ctx context.Context, name string, theirs model.Asset) (string, error) {
	whose := w.Handle
	if whose == "" {
		whose = "mine"
	}
	beside, err := w.besideName(name, "-"+whose)
	if err != nil {
		return "", err
	}
	if err := w.folder.Rename(name, beside); err != nil {
		return "", err
	}
	if theirs.Gone {
		return beside, w.update(func(t index.Tx) error { return t.DropBase(theirs.Path) })
	}
	refusals, err := w.bring(ctx, []placing.Wanted{{Asset: theirs, Place: name}}, nil, func(placing.Wanted) {})
	if err == nil && len(refusals) > 0 {
		err = &model.Refused{Refusals: refusals}
	}
	if err != nil && w.free(name) {
		if back := w.folder.Rename(beside, name); back == nil {
			return "", err
		}
	}
	return beside, err
}

// besideName is a free name beside a path.
func (w *Workspace) besideName(name, suffix string) (string, error) {
	ext := path.Ext(name)
	beside := strings.TrimSuffix(name, ext) + suffix + ext
	for n := 2; !w.free(beside); n++ {
		beside = fmt.Sprintf("%s%s-%d%s", strings.TrimSuffix(name, ext), suffix, n, ext)
	}
	if bad := assetpath.Check(beside); bad != nil {
		return "", model.NewProblem(model.BadRequest, "settle it with mine or theirs, or move it first", "no other file can stand beside it: %s",
			bad.Message)
	}
	return beside, nil
}

// bringBeside brings a version to a place of its own beside a path.
func (w *Workspace) bringBeside(ctx context.Context, name string, theirs model.Asset) (string, error) {
	beside, err := w.besideName(name, fmt.Sprintf("-v%d-%s", theirs.Newest, theirs.Author))
	if err != nil {
		return "", err
	}
	files, refusals := w.folder.Admit([]placing.Wanted{{Asset: theirs, Place: beside}}, nil)
	if len(refusals) == 0 {
		if _, refusals, err = w.way().Fetch(ctx, files); err != nil {
			return "", err
		}
	}
	defer func() { _ = w.folder.Disk.Remove(placing.Incoming) }()
	if len(refusals) == 0 {
		if _, refusal := w.folder.Place(ctx, files[0], w.folder.Spellings()); refusal != nil {
			refusals = append(refusals, *refusal)
		}
	}
	if len(refusals) > 0 {
		return "", &model.Refused{Refusals: refusals}
	}
	return beside, nil
}
