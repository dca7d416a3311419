// Package outbox keeps the sends that go on in the background: what each is to send, frozen copies of its files, how far it is, and why it
// does not go on. It sends nothing itself. A job lies in the state folder of its workspace until it has become a handoff or was forgotten.
package outbox

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/scan"
)

// Job is a send that goes on in the background, from frozen copies of its files. It lies in the state folder until it has become a
// handoff, or was refused.
type Job struct {
	ID string `json:"id"`
	model.About
	// Branch is the one that it is for; "" for a job of an earlier release.
	Branch    string          `json:"branch,omitempty"`
	KeepLocks bool            `json:"keep_locks,omitempty"`
	Older     bool            `json:"older,omitempty"`
	Since     time.Time       `json:"since"`
	Size      int64           `json:"size"`
	Files     []File          `json:"files"`
	Pending   *index.Pending  `json:"pending,omitempty"`
	Refusals  []model.Refusal `json:"refusals,omitempty"`
	Percent   int             `json:"percent"`
	// Trouble is why it does not go on, where somebody has to see to something first.
	Trouble string `json:"trouble,omitempty"`
}

// File is one change of a job: the asset as it was listed, the base that it follows, and how the file looked when it was frozen.
type File struct {
	Asset model.Asset `json:"asset"`
	Base  index.Base  `json:"base"`
	Had   bool        `json:"had"`
	Stamp index.Stamp `json:"stamp"`
	Gone  bool        `json:"gone,omitempty"`
}

// Box is the outbox of one workspace. Safe for several processes: a job is there once it is whole, and one of them sends it.
type Box struct{ dir string }

// In is the outbox in the state folder of a workspace.
func In(state string) Box { return Box{filepath.Join(state, "outbox")} }

func (b Box) name(id, what string) string { return filepath.Join(b.dir, id, what) }

// Files is the folder in which the frozen copies of a job lie, by the paths of their assets.
func (b Box) Files(id string) string { return b.name(id, "files") }

// Jobs lists the sends in the background, the oldest first.
func (b Box) Jobs() ([]Job, error) {
	entries, err := os.ReadDir(b.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var list []Job
	for _, e := range entries {
		text, readErr := os.ReadFile(b.name(e.Name(), "job.json"))
		var j Job
		if readErr != nil || json.Unmarshal(text, &j) != nil || j.ID != e.Name() {
			continue // one that is being frozen
		}
		if text, err := os.ReadFile(b.name(j.ID, "percent")); err == nil {
			j.Percent, _ = strconv.Atoi(string(text))
		}
		if text, err := os.ReadFile(b.name(j.ID, "trouble")); err == nil {
			j.Trouble = string(text)
		}
		list = append(list, j)
	}
	sort.Slice(list, func(i, k int) bool { return list[i].Since.Before(list[k].Since) })
	return list, err
}

// Begin makes room for a job that is being frozen. [Box.Keep] makes it one.
func (b Box) Begin(id string) error { return os.MkdirAll(b.Files(id), 0o700) }

// Keep writes a job down; it is there once it is whole.
func (b Box) Keep(j *Job) error {
	text, err := json.MarshalIndent(j, "", "  ")
	if err != nil {
		return err
	}
	return disk.WriteSynced(b.name(j.ID, "job.json"), text)
}

// Drop takes a job out.
func (b Box) Drop(id string) error { return os.RemoveAll(filepath.Join(b.dir, id)) }

// ForgetRefused takes out the jobs that were refused.
func (b Box) ForgetRefused() error {
	jobs, err := b.Jobs()
	for _, j := range jobs {
		if len(j.Refusals) > 0 {
			err = errors.Join(err, b.Drop(j.ID))
		}
	}
	return err
}

// NotePercent keeps how far a job is, for others to see.
func (b Box) NotePercent(id string, percent int) {
	_ = os.WriteFile(b.name(id, "percent"), []byte(strconv.Itoa(percent)), 0o600)
}

// NoteTrouble keeps why a job does not go on for now.
func (b Box) NoteTrouble(id string, err error) {
	_ = os.WriteFile(b.name(id, "trouble"), []byte(err.Error()), 0o600)
}

// Freeze copies the file at a path of d into a job. The error wraps [scan.ErrMoving] where it did not hold still meanwhile, or looks
// otherwise than looks. The copy is whole, and survives the loss of power.
func (b Box) Freeze(d *placing.Folder, id, path string, looks index.Stamp) error {
	folder := b.Files(id)
	to := filepath.Join(folder, filepath.FromSlash(path))
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	from := filepath.Join(d.Root, filepath.FromSlash(path))
	if err := disk.CloneFile(from, to); err != nil {
		if err := disk.CopyFile(from, to); err != nil {
			return err
		}
	}
	info, err := d.Disk.Lstat(filepath.FromSlash(path))
	if err == nil && !looks.Is(scan.StampOf(info)) {
		err = scan.ErrMoving
	}
	if err != nil {
		return err
	}
	if copied, err := os.Lstat(to); err != nil {
		return err
	} else if copied.Size() != looks.Size {
		return scan.ErrMoving
	}
	return disk.SyncFiles(folder, []string{filepath.FromSlash(path)})
}

// PutAway puts the frozen copies of a job, those that take says, among the put-away files of d.
func (b Box) PutAway(d *placing.Folder, j *Job, take func(File) bool) error {
	for _, f := range j.Files {
		frozen := filepath.Join(b.Files(j.ID), filepath.FromSlash(f.Asset.Path))
		if _, err := os.Lstat(frozen); err != nil || !take(f) {
			continue
		}
		if err := d.Keep(frozen, f.Asset.Path, f.Base.Version, f.Asset.Executable); err != nil {
			return err
		}
	}
	return nil
}
