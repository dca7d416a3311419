package workspace

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/adrg/xdg"

	"kettletarn/internal/client"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
	"kettletarn/internal/workspace/transfer"
)

// A workspace is one folder. Its index says how the files of that folder looked, and is compared with no other: a copy is told from the
// folder itself, and so is what came from a backup. A folder that was emptied (git clean, a build machine's fresh clone at the same place)
// loses its marker with everything else, but its workspace is known here still: joining again goes on with it, so that put-away files stay
// at hand and the service does not fill up with workspaces that nobody uses.

// placed says in a workspace's state folder which folder it is: where it was last, and by what the file system tells its marker from any
// copy of it (see identityOf). Identity is empty where an earlier version wrote it.
type placed struct {
	Root     string `json:"root"`
	Marker   Marker `json:"marker"`
	Identity string `json:"identity,omitempty"`
}

const placeFile = "place.json"

// What a folder with a workspace's marker in it can be.
const (
	placeSame  = iota // the folder that it always was, at its place or moved as a whole
	placeCopy         // a copy: the workspace itself is elsewhere on this machine
	placeAnew         // put here anew: from a backup, from another disk. What is in it may be of any age
	placeFirst        // nothing is noted yet
)

// lookAtPlace tells what the folder at root, whose marker is m, is; where the workspace is if this is a copy; and what is to be noted of
// it.
func lookAtPlace(root string, m Marker) (what int, original string, note placed, err error) {
	real, err := filepath.EvalSymlinks(root)
	if err != nil {
		return 0, "", note, err
	}
	note = placed{Root: real, Marker: m}
	if note.Identity, err = scan.IdentityOf(filepath.Join(real, assetpath.Marker)); err != nil {
		return 0, "", note, err
	}
	var noted placed
	text, err := disk.ReadSmall(filepath.Join(stateFolder(m), placeFile), 64<<10)
	if err != nil || json.Unmarshal(text, &noted) != nil || noted.Root == "" {
		return placeFirst, "", note, nil
	}
	if noted.Identity == note.Identity {
		return placeSame, "", note, nil
	}
	if noted.Root != real {
		other, err := ReadMarker(noted.Root)
		is, idErr := scan.IdentityOf(filepath.Join(noted.Root, assetpath.Marker))
		if err == nil && idErr == nil && other.Workspace == m.Workspace && (noted.Identity == "" || is == noted.Identity) {
			return placeCopy, noted.Root, note, nil
		}
	}
	if noted.Identity == "" {
		return placeFirst, "", note, nil
	}
	return placeAnew, "", note, nil
}

// settlePlace refuses a folder that is not the one whose index the state folder has, and notes where the right one is.
func (w *Workspace) settlePlace() error {
	what, original, note, err := lookAtPlace(w.Root, w.Marker)
	if err != nil {
		return err
	}
	remedy := "tarn join " + w.Marker.Project + " --here, run in it, looks at every file and overwrites nothing"
	switch what {
	case placeCopy:
		return model.NewProblem(model.Taken, "if it shall be a workspace of its own: "+remedy,
			"%s is a copy of the workspace in %s, and a workspace is one folder", w.Root, original)
	case placeAnew:
		return model.NewProblem(model.Taken, remedy, "%s was put here anew (from a backup, or from another disk), so that its files may be "+
			"older than what this machine knows of them", w.Root)
	}
	return w.notePlace(note)
}

func (w *Workspace) notePlace(note placed) error {
	text, err := json.Marshal(note)
	if err != nil {
		return err
	}
	if noted, err := os.ReadFile(filepath.Join(w.folder.State, placeFile)); err == nil && bytes.Equal(noted, text) {
		return nil
	}
	return disk.WriteSynced(filepath.Join(w.folder.State, placeFile), text)
}

// takeAnew ties a folder that was put here anew to its workspace again: a file that holds what the index has of it stays as it is; of any
// other, the index forgets which version it was, so that nothing old is taken for an edit of something new.
func takeAnew(ctx context.Context, dir string, m Marker, note placed, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	if err := os.Remove(filepath.Join(stateFolder(m), placeFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	w, err := openAnyhow(dir, c, progress)
	if err != nil {
		return nil, err
	}
	bases, total := map[string]index.Base{}, int64(0)
	if err := w.look(func(t index.Tx) error {
		return t.EachBase(func(path string, b index.Base) error {
			bases[path], total = b, total+b.Size
			return nil
		})
	}); err != nil {
		return nil, err
	}
	w.Progress.Start("Looking at the files", total)
	defer w.Progress.Done()
	same := map[string]index.Base{}
	for path, b := range bases {
		if cut, _, err := w.read(ctx, path, nil); err == nil && cut.Content == b.Content {
			b.Stamp = cut.Stamp
			same[path] = b
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return w, w.update(func(t index.Tx) error {
		for path := range bases {
			b, ok := same[path]
			if !ok {
				if err := t.DropBase(path); err != nil {
					return err
				}
			} else if err := t.SetBase(path, b, nil); err != nil {
				return err
			}
		}
		return t.ForgetCuts()
	})
}

// comeBack opens the workspace of a project that dir was before its marker went; nil where there was none that is the signed-in person's.
func comeBack(ctx context.Context, dir, project string, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	root, err := filepath.EvalSymlinks(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	files, err := filepath.Glob(filepath.Join(xdg.StateHome, "kettle-tarn", "workspaces", "*", placeFile))
	if err != nil {
		return nil, err
	}
	for _, name := range files {
		var p placed
		text, err := disk.ReadSmall(name, 64<<10)
		if err != nil || json.Unmarshal(text, &p) != nil || p.Root != root || p.Marker.Project != project || p.Marker.Service != c.URL() ||
			stateFolder(p.Marker) != filepath.Dir(name) {
			continue
		}
		if entries, err := os.ReadDir(root); err != nil || len(entries) == 0 {
			continue // an empty folder begins anew
		}
		list, err := c.Workspaces(ctx, project)
		if err != nil {
			return nil, err
		}
		for _, known := range list.Workspaces {
			if known.ID == p.Marker.Workspace {
				return goOn(dir, p.Marker, c, progress)
			}
		}
	}
	return nil, nil
}

// goOn gives a folder its marker back. Files that are not there any more were not deleted one by one: they are not here, and come anew.
func goOn(dir string, m Marker, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(dir, assetpath.Marker), append(text, '\n'), 0o644); err != nil {
		return nil, err
	}
	if err := os.Remove(filepath.Join(stateFolder(m), placeFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	w, err := openAnyhow(dir, c, progress)
	if err != nil {
		return nil, err
	}
	return w, w.update(func(t index.Tx) error {
		var lost []string
		if err := t.EachBase(func(path string, _ index.Base) error {
			if _, err := w.folder.Disk.Lstat(filepath.FromSlash(path)); errors.Is(err, fs.ErrNotExist) {
				lost = append(lost, path)
			}
			return nil
		}); err != nil {
			return err
		}
		for _, path := range lost {
			if err := t.DropBase(path); err != nil {
				return err
			}
		}
		return nil
	})
}
