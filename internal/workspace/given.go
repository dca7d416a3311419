package workspace

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/placing"
)

// Given is a file that somebody gives to the workspace. It lies whole and durable in the person's state folder, before anything in the
// workspace is touched.
type Given struct{ name string }

// givenTime is how long one that nobody put anywhere is kept: whoever received it has ended by then.
const givenTime = 24 * time.Hour

// Receive reads such a file to its end. It touches nothing in the folder, and may go on beside anything else.
func (w *Workspace) Receive(from io.Reader) (*Given, error) {
	folder := filepath.Join(w.folder.State, "given")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	entries, _ := os.ReadDir(folder)
	for _, e := range entries {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > givenTime {
			_ = os.Remove(filepath.Join(folder, e.Name()))
		}
	}
	f, err := os.CreateTemp(folder, "")
	if err != nil {
		return nil, placing.NoRoom(err)
	}
	if _, err = io.Copy(f, from); err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return nil, errors.Join(placing.NoRoom(err), os.Remove(f.Name()))
	}
	return &Given{f.Name()}, nil
}

// Drop removes it, where it was not put anywhere.
func (g *Given) Drop() { _ = os.Remove(g.name) }

// There is the reason of a refusal where something stands already at the place of a given file.
const There = "there-already"

// Put puts a given file in its place. Where an asset's file stands there, that is refused, but with over: what has changes of its own is
// put away first. It answers what the rules make of the path.
func (w *Workspace) Put(ctx context.Context, g *Given, place string, over bool) (out model.RuleTest, err error) {
	if bad := assetpath.Check(place); bad != nil {
		return out, model.NewProblem(model.BadRequest, bad.Remedy, "%s", bad.Message)
	}
	if place, err = w.spelledAbove(place); err != nil {
		return out, err
	}
	s, err := w.Status(ctx, Question{Paths: []string{place}})
	if err != nil {
		return out, err
	}
	_, err = w.folder.Disk.Lstat(filepath.FromSlash(place))
	switch _, known := s.file(place); {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return out, err
	case !known:
		return out, refusing(place, "in-the-way", "something stands there that is no asset", "move it away first, or give the file another name")
	case !over:
		return out, refusing(place, There, "a file of that name is here already", "put it over that one: changes that were not sent are put away")
	}
	list, _ := Within(s.Assets, []string{place})
	var a model.Asset
	if len(list) == 1 {
		a = list[0]
	}
	part := filepath.Join(placing.Incoming, filepath.Base(g.name)+"-given")
	if err := w.folder.Disk.MkdirAll(placing.Incoming, 0o755); err != nil {
		return out, err
	}
	defer func() { _ = w.folder.Disk.Remove(placing.Incoming) }()
	if err := disk.Move(g.name, w.folder.Full(part)); err != nil {
		return out, placing.NoRoom(err)
	}
	mode := fs.FileMode(0o644)
	if a.Executable {
		mode = 0o755
	}
	if err := w.folder.Disk.Chmod(part, mode); err != nil {
		return out, errors.Join(err, w.folder.Disk.Remove(part))
	}
	if err := w.moveIn(ctx, s, a, part, place); err != nil {
		return out, err
	}
	tests, err := w.TestRules(ctx, []string{place})
	if err != nil {
		return out, err
	}
	return tests[0], nil
}

func refusing(path, reason, message, remedy string) error {
	return &model.Refused{Refusals: []model.Refusal{{Path: path, Reason: reason, Message: path + ": " + message, Remedy: remedy}}}
}

// spelledAbove is a path in the spelling that it has here already, or else the nearest folder above it.
func (w *Workspace) spelledAbove(place string) (string, error) {
	for above, below := place, ""; above != "."; above, below = path.Dir(above), path.Join(path.Base(above), below) {
		spelled, err := w.Spelled([]string{above})
		if err != nil {
			return "", err
		}
		if _, err := w.folder.Disk.Lstat(filepath.FromSlash(spelled[0])); err == nil {
			return path.Join(spelled[0], below), nil
		}
	}
	return place, nil
}

// moveIn moves a file that lies in the folder of what comes in to its place. What stands there goes first: a version that the service has
// is known, anything else is put away. Where that fails, the file that came is dropped.
func (w *Workspace) moveIn(ctx context.Context, s *Status, a model.Asset, part, place string) (err error) {
	defer func() {
		if err != nil {
			_ = w.folder.Disk.Remove(part)
		}
	}()
	if err := w.folder.SafeFolder(place); err != nil {
		return err
	}
	if file, there := s.file(place); there {
		f := placing.Wanted{Asset: s.theirsOf(a), Place: place, Was: s.standing(place)}
		if a.State == model.Same || a.State == model.Behind {
			if refusal := w.folder.Remove(ctx, f); refusal != nil {
				return &model.Refused{Refusals: []model.Refusal{*refusal}}
			}
		} else if _, err := w.folder.PutAway(place, a.Version, file.Executable); err != nil {
			return err
		}
		if err := w.folder.SafeFolder(place); err != nil { // it went with the last file in it
			return err
		}
	}
	if err := disk.MoveNew(w.folder.Disk, part, filepath.FromSlash(place)); errors.Is(err, fs.ErrExist) {
		return &model.Refused{Refusals: []model.Refusal{*placing.ChangedMeanwhile(place)}}
	} else if err != nil {
		return err
	}
	return nil
}
