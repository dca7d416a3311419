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
)

// A folder that was emptied (git clean, a build machine's fresh clone at the same place) loses its marker with everything else, but its
// workspace is known here still: joining again goes on with it, so that put-away files stay at hand and the service does not fill up with
// workspaces that nobody uses.

// placed says in a workspace's state folder where it is.
type placed struct {
	Root   string `json:"root"`
	Marker Marker `json:"marker"`
}

const placeFile = "place.json"

// rememberPlace notes where the workspace is, where that is not noted yet: a folder may be moved.
func (w *Workspace) rememberPlace() error {
	root, err := filepath.EvalSymlinks(w.Root)
	if err != nil {
		return err
	}
	text, err := json.Marshal(placed{root, w.Marker})
	if err != nil {
		return err
	}
	if noted, err := os.ReadFile(filepath.Join(w.state, placeFile)); err == nil && bytes.Equal(noted, text) {
		return nil
	}
	return os.WriteFile(filepath.Join(w.state, placeFile), text, 0o600)
}

// comeBack opens the workspace of a project that dir was before its marker went; nil where there was none that is the signed-in person's.
func comeBack(ctx context.Context, dir, project string, c *client.Client, progress Progress) (*Workspace, error) {
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
		text, err := readSmall(name, 64<<10)
		if err != nil || json.Unmarshal(text, &p) != nil || p.Root != root || p.Marker.Project != project || p.Marker.Service != c.URL() || stateFolder(p.Marker) != filepath.Dir(name) {
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
func goOn(dir string, m Marker, c *client.Client, progress Progress) (*Workspace, error) {
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(dir, assetpath.Marker), append(text, '\n'), 0o644); err != nil {
		return nil, err
	}
	w, err := openAnyhow(dir, c, progress)
	if err != nil {
		return nil, err
	}
	return w, w.update(func(t indexTx) error {
		var lost []string
		if err := t.tx.Bucket(bucketBase).ForEach(func(path, _ []byte) error {
			if _, err := w.root.Lstat(filepath.FromSlash(string(path))); errors.Is(err, fs.ErrNotExist) {
				lost = append(lost, string(path))
			}
			return nil
		}); err != nil {
			return err
		}
		for _, path := range lost {
			if err := t.dropBase(path); err != nil {
				return err
			}
		}
		return nil
	})
}
