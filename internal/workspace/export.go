package workspace

import (
	"context"
	"io"
	"os"
	"path/filepath"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/placing"
)

// ExportOptions say what is written where: the state At (a handoff, a time or a milestone), of it what is at or below Paths (all where
// there are none), into Out.
type ExportOptions struct {
	At    string
	Paths []string
	Out   bundle.Writer
}

// Exported is what was written: the handoff that the state is, and how much it is.
type Exported struct {
	At     int   `json:"at"`
	Assets int   `json:"assets"`
	Size   int64 `json:"size"`
}

// Export writes an old state, and leaves the workspace as it is. What is on this disk is not fetched. It goes beyond the scope.
func (w *Workspace) Export(ctx context.Context, o ExportOptions) (*Exported, error) {
	out := &Exported{}
	var assets []model.Asset
	if err := w.Client.Changes(ctx, w.Marker.Project, model.ChangesQuery{At: o.At}, func(page model.Assets) error {
		out.At = page.At
		for _, a := range page.Assets {
			if !a.Gone {
				assets = append(assets, a)
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	kept, missing := Within(assets, o.Paths)
	if len(missing) > 0 {
		list := make([]model.Refusal, len(missing))
		for i, p := range missing {
			list[i] = model.Refusal{Path: p, Reason: "unknown", Message: p + ": there is nothing of that name in " + state(out.At),
				Remedy: "check the spelling; tarn history PATH says when something was there"}
		}
		return nil, &model.Refused{Refusals: list}
	}
	for _, a := range kept {
		out.Size += a.Size
	}
	out.Assets = len(kept)
	w.Progress.Start("Writing", out.Size)
	defer w.Progress.Done()
	if err := w.way().Stream(ctx, kept, o.Out); err != nil {
		return nil, placing.NoRoom(err)
	}
	return out, placing.NoRoom(o.Out.Close())
}

// folderWriter writes the files of a bundle into a new folder.
type folderWriter struct{ root *os.Root }

// NewFolder is a bundle.Writer that writes into a folder, which is made, or is empty. Nothing is written outside it.
func NewFolder(dir string) (bundle.Writer, error) {
	if root, err := Find(filepath.Dir(dir)); err == nil && root != "" {
		return nil, model.NewProblem(model.Taken, "name a folder outside it: what lies in a workspace would count as new there",
			"%s lies in the workspace %s", dir, root)
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, model.NewProblem(model.Taken, "name a new folder", "%s is not empty", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	return folderWriter{root}, err
}

func (w folderWriter) Add(f bundle.File, content io.Reader) error {
	if bad := assetpath.Check(f.Path); bad != nil {
		return bad
	}
	name := filepath.FromSlash(f.Path)
	if err := w.root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if f.Executable {
		mode = 0o755
	}
	out, err := w.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, content)
	if closed := out.Close(); err == nil {
		err = closed
	}
	if err == nil && n != f.Size {
		err = io.ErrUnexpectedEOF
	}
	if err == nil && !f.At.IsZero() {
		err = w.root.Chtimes(name, f.At, f.At)
	}
	return err
}

func (w folderWriter) Close() error { return w.root.Close() }
