// Package workspace is a copy of a project on disk: its marker, its index, what differs from the service, and the commands that
// change it. It prints nothing. What it refuses is a *model.Refused or *model.Problem, like the service.
//
// A workspace's index and put-away files lie in the person's state folder, not among the assets, so that cleaning the folder never
// destroys them. The folder itself carries one small marker.
package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/adrg/xdg"
	"github.com/gofrs/flock"

	"kettletarn/internal/client"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/scan"
	"kettletarn/internal/workspace/transfer"
)

// Marker is what the file at the root of a workspace says.
type Marker struct {
	Service   string `json:"service"`
	Project   string `json:"project"`
	Workspace string `json:"workspace"`
}

// Workspace is an open workspace. Not safe for concurrent use, but several processes may have it open: see Work.
type Workspace struct {
	// former are the versions that the folder had, by path, before its service was restored; see Adopt.
	former   map[string]int
	Root     string
	Marker   Marker
	Client   *client.Client
	Handle   string // whose it is, where that is known
	Progress transfer.Progress
	folder   *placing.Folder
	wanted   []chunk.Digest // content that the service said it lost
	// stale says that the service has refused something since: what is kept of it is old.
	stale atomic.Bool
	// looked counts how often the whole folder was looked through.
	looked atomic.Int64
}

type silent struct{}

func (silent) Start(string, int64) {}

func (silent) Add(int64) {}

func (silent) Done() {}

// Find looks for the workspace that dir lies in, and returns its root, or "" where there is none.
func Find(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	for {
		info, err := os.Lstat(filepath.Join(dir, assetpath.Marker))
		if err == nil && info.Mode().IsRegular() {
			return dir, nil
		}
		up := filepath.Dir(dir)
		if up == dir {
			return "", nil
		}
		dir = up
	}
}

// ReadMarker reads the marker of the workspace at root.
func ReadMarker(root string) (m Marker, err error) {
	text, err := disk.ReadSmall(filepath.Join(root, assetpath.Marker), 64<<10)
	if err == nil && len(text) > 64<<10 {
		err = errors.New("it is too large")
	}
	if err == nil {
		err = json.Unmarshal(text, &m)
	}
	if err == nil && (m.Project == "" || len(m.Workspace) != 36 || strings.ContainsAny(m.Workspace, `/\.`)) {
		err = errors.New("it lacks what it should say")
	}
	if err != nil {
		return m, fmt.Errorf("the workspace's marker %s can't be read (%v); tie the folder to its project again with tarn join KEY --here",
			filepath.Join(root, assetpath.Marker), err)
	}
	return m, nil
}

// Open opens the workspace at root. Where this machine has no index of it (the folder was copied from somebody's, or the state folder
// is lost), everything in it would look new: that is refused.
func Open(root string, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	m, err := ReadMarker(root)
	if err != nil {
		return nil, err
	}
	if !index.In(stateFolder(m), m.Project).There() {
		return nil, model.NewProblem(model.NotFound, "tie it to the project again with tarn join "+m.Project+" --here; that overwrites nothing",
			"%s is marked as a workspace of %s, and this machine knows nothing of it: it was copied from elsewhere, or your state folder is lost",
			root, m.Project)
	}
	return openAnyhow(root, c, progress)
}

func stateFolder(m Marker) string {
	return filepath.Join(xdg.StateHome, "kettle-tarn", "workspaces", m.Workspace)
}

// openAnyhow opens a workspace and makes its index where it is missing.
func openAnyhow(root string, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	m, err := ReadMarker(root)
	if err != nil {
		return nil, err
	}
	w := &Workspace{Root: root, Marker: m, Client: c, Progress: progress, folder: &placing.Folder{Root: root, State: stateFolder(m)}}
	if c != nil {
		w.Client = c.In(m.Workspace, func() { w.stale.Store(true) })
	}
	if progress == nil {
		w.Progress = silent{}
	}
	if err := os.MkdirAll(w.folder.State, 0o700); err != nil {
		return nil, err
	}
	w.folder.Index = index.In(w.folder.State, m.Project)
	if err := w.folder.Index.Ready(); err != nil {
		return nil, err
	}
	if err := w.settlePlace(); err != nil {
		return nil, err
	}
	if c != nil {
		view, err := w.view()
		if err != nil {
			return nil, err
		}
		w.Client.Knows(view.Life)
	}
	w.folder.Disk, err = disk.Open(root)
	return w, err
}

// create ties root to a project: a workspace is made at the service, and the marker is written. With fenced, git is to take neither that
// nor assets.
func create(ctx context.Context, root, project string, fenced bool, c *client.Client, progress transfer.Progress) (*Workspace, error) {
	if fenced && besideCode(root) {
		// Before anything else is here, so that neither marker nor assets are ever there for git to take.
		if err := FenceMarker(ctx, root); err != nil {
			return nil, err
		}
	}
	made, err := c.AddWorkspace(ctx, project, assetpath.Printable(Machine()+": "+filepath.Base(root)))
	if err != nil {
		return nil, err
	}
	text, err := json.MarshalIndent(Marker{Service: c.URL(), Project: project, Workspace: made.ID}, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(root, assetpath.Marker), append(text, '\n'), 0o644); err != nil {
		return nil, err
	}
	w, err := openAnyhow(root, c, progress)
	if err == nil {
		w.Describe(ctx)
	}
	return w, err
}

// Machine is the name under which others see this machine: TARN_MACHINE, or else its host name.
func Machine() string {
	if name := strings.TrimSpace(os.Getenv("TARN_MACHINE")); name != "" {
		return name
	}
	if name, err := os.Hostname(); err == nil && name != "" {
		return name
	}
	return "a machine without a name"
}

// Away is a project without a folder on this machine, for what is asked of the service alone.
func Away(c *client.Client, project string) *Workspace {
	return &Workspace{Client: c, Marker: Marker{Service: c.URL(), Project: project, Workspace: model.KindConsole},
		folder: &placing.Folder{}, Progress: silent{}}
}

// Looks is how often the whole folder was looked through since it was opened.
func (w *Workspace) Looks() int64 { return w.looked.Load() }

// Again opens the same workspace once more, for what goes on beside.
func (w *Workspace) Again() (*Workspace, error) { return openAnyhow(w.Root, w.Client, nil) }

// State is the folder in the person's state folder that is the workspace's own.
func (w *Workspace) State() string { return w.folder.State }

// Writes counts what others have written into the index: see Unobtrusive.
func (w *Workspace) Writes() int { return w.folder.Index.Writes() }

// Unobtrusive leaves what this one writes out of that count.
func (w *Workspace) Unobtrusive() { w.folder.Index.Uncounted(true) }

// IsAway tells whether there is no folder.
func (w *Workspace) IsAway() bool { return w.folder.Disk == nil }

// Close lets go of the folder.
func (w *Workspace) Close() error {
	if w.IsAway() {
		return nil
	}
	return w.folder.Disk.Close()
}

// Spelled turns paths into those of assets and folders that the workspace knows under another spelling: upper and lower case are one on
// some systems, and people type either. What it does not know stays as it is.
func (w *Workspace) Spelled(paths []string) ([]string, error) {
	out := slices.Clone(paths)
	unknown := map[string][]int{}
	err := w.look(func(t index.Tx) error {
		known := func(p string) bool {
			if p == "" || t.Knows(p) {
				return true
			}
			_, err := w.folder.Disk.Lstat(filepath.FromSlash(p))
			return err == nil && !folds
		}
		for i, p := range out {
			if !known(p) {
				unknown[assetpath.Fold(p)] = append(unknown[assetpath.Fold(p)], i)
			}
		}
		if len(unknown) == 0 {
			return nil
		}
		spell := func(path string) error {
			for _, p := range scan.Places(path) {
				for _, i := range unknown[assetpath.Fold(p)] {
					out[i] = p
				}
			}
			return nil
		}
		if err := t.EachNewest(spell); err != nil {
			return err
		}
		return t.EachBase(func(path string, _ index.Base) error { return spell(path) })
	})
	return out, err
}

// folds says that the system's own file systems take upper and lower case for one.
const folds = runtime.GOOS == "windows" || runtime.GOOS == "darwin"

// Work takes the workspace for a command that changes it, and finishes what an interrupted one had begun; the function given back lets
// it go. Looking needs no such thing.
func (w *Workspace) Work() (release func(), err error) {
	lock := flock.New(filepath.Join(w.folder.State, "at-work"))
	ok, err := lock.TryLock()
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, model.NewProblem(model.Taken, "wait until it is done", "another tarn command is at work in this workspace")
	}
	release = func() {
		w.Relearn()
		_ = lock.Unlock()
	}
	if err := w.folder.Recover(context.Background()); err != nil {
		release()
		return nil, fmt.Errorf("an interrupted command could not be finished: %w", err)
	}
	return release, nil
}

// Relearn asks the service how things stand, where it has refused something: a refusal says that what is known here is not true any more.
func (w *Workspace) Relearn() {
	if w.Client == nil || !w.stale.Swap(false) {
		return
	}
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	_ = w.Refresh(ctx) // where that fails, the age of what is shown says so
}

// FinishInterrupted finishes what an interrupted command had begun, unless a command is at work just now.
func (w *Workspace) FinishInterrupted() error {
	open := false
	if err := w.look(func(t index.Tx) error {
		open = t.InJournal()
		return nil
	}); err != nil || !open {
		return err
	}
	release, err := w.Work()
	var taken *model.Problem
	if errors.As(err, &taken) && taken.Type == model.Taken {
		return nil
	}
	if err == nil {
		release()
	}
	return err
}

func (w *Workspace) update(work func(index.Tx) error) error { return w.folder.Index.Update(work) }

func (w *Workspace) look(work func(index.Tx) error) error { return w.folder.Index.Look(work) }

// way is what content goes between this folder and the service by.
func (w *Workspace) way() *transfer.Way {
	return &transfer.Way{Client: w.Client, Project: w.Marker.Project, Folder: w.folder, Progress: w.Progress}
}

// read cuts and hashes one file of the workspace. The chunks of its base are tried first.
func (w *Workspace) read(ctx context.Context, name string, base index.Refs) (index.Cut, scan.File, error) {
	return scan.Read(ctx, w.folder.Disk, name, base, func(p chunk.Piece, _ []byte) error {
		w.Progress.Add(int64(p.Size))
		return nil
	})
}

func (w *Workspace) view() (v index.View, err error) {
	err = w.look(func(t index.Tx) error {
		v, err = t.View()
		return err
	})
	return v, err
}

// What the service was told last is kept of its unsent changes, and of the workspace itself.
const (
	aboutHeadsUps = "heads-ups"
	aboutItself   = "itself"
)

// Path turns what a person typed in dir into a path within the workspace. A folder ends in a slash; "" is the root.
func (w *Workspace) Path(dir, typed string) (string, error) {
	full := typed
	if !filepath.IsAbs(full) {
		full = filepath.Join(dir, typed)
	}
	rel, err := filepath.Rel(w.Root, filepath.Clean(full))
	if err == nil && filepath.IsAbs(typed) && strings.HasPrefix(rel, "..") {
		// The root may have been reached through a link.
		if real, err2 := filepath.EvalSymlinks(filepath.Dir(full)); err2 == nil {
			rel, err = filepath.Rel(w.Root, filepath.Join(real, filepath.Base(full)))
		}
	}
	if err != nil || rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return "", model.NewProblem(model.BadRequest, "name files below "+w.Root, "%s is not in this workspace", assetpath.Printable(typed))
	}
	if rel == "." {
		return "", nil
	}
	return filepath.ToSlash(rel), nil
}

// now is truncated to what the index keeps.
func now() time.Time { return time.Now().UTC() }

// Progress is told how long work goes on.
type Progress = transfer.Progress

// Pace is how fast files came from a service the last time, in bytes a second; 0 where that is not known.
func Pace(service string) int64 { return transfer.Pace(service) }
