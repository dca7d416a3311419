package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
)

// Job is a send that goes on in the background, from frozen copies of its files. It lies in the state folder until it has become a
// handoff, or was refused.
type Job struct {
	ID string `json:"id"`
	model.About
	KeepLocks bool            `json:"keep_locks,omitempty"`
	Older     bool            `json:"older,omitempty"`
	Since     time.Time       `json:"since"`
	Size      int64           `json:"size"`
	Files     []JobFile       `json:"files"`
	Pending   *index.Pending  `json:"pending,omitempty"`
	Refusals  []model.Refusal `json:"refusals,omitempty"`
	Percent   int             `json:"percent"`
	// Trouble is why it does not go on, where somebody has to see to something first.
	Trouble string `json:"trouble,omitempty"`
}

// JobFile is one change of a job: the asset as it was listed, the base that it follows, and how the file looked when it was frozen.
type JobFile struct {
	Asset model.Asset `json:"asset"`
	Base  index.Base  `json:"base"`
	Had   bool        `json:"had"`
	Stamp index.Stamp `json:"stamp"`
	Gone  bool        `json:"gone,omitempty"`
}

func (w *Workspace) outbox() string                 { return filepath.Join(w.state, "outbox") }
func (w *Workspace) jobFolder(id string) string     { return filepath.Join(w.outbox(), id) }
func (w *Workspace) jobFile(id, name string) string { return filepath.Join(w.jobFolder(id), name) }

// Jobs lists the sends in the background, the oldest first.
func (w *Workspace) Jobs() ([]Job, error) {
	entries, err := os.ReadDir(w.outbox())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var list []Job
	for _, e := range entries {
		text, readErr := os.ReadFile(w.jobFile(e.Name(), "job.json"))
		var j Job
		if readErr != nil || json.Unmarshal(text, &j) != nil || j.ID != e.Name() {
			continue // one that is being frozen
		}
		if text, err := os.ReadFile(w.jobFile(j.ID, "percent")); err == nil {
			j.Percent, _ = strconv.Atoi(string(text))
		}
		if text, err := os.ReadFile(w.jobFile(j.ID, "trouble")); err == nil {
			j.Trouble = string(text)
		}
		list = append(list, j)
	}
	sort.Slice(list, func(i, k int) bool { return list[i].Since.Before(list[k].Since) })
	return list, err
}

// notSending refuses what is on its way in the background.
func (w *Workspace) notSending(assets []model.Asset) (refusals []model.Refusal) {
	jobs, err := w.Jobs()
	if err != nil || len(jobs) == 0 {
		return nil
	}
	busy := map[string]Job{}
	for _, j := range jobs {
		for _, f := range j.Files {
			if len(j.Refusals) == 0 {
				busy[f.Asset.Path] = j
			}
		}
	}
	for _, a := range assets {
		if j, ok := busy[a.Path]; ok && Changed(a) {
			refusals = append(refusals, model.Refusal{Path: a.Path, Reason: "sending",
				Message: fmt.Sprintf("%s: it is being sent in the background (%d%%)", a.Path, j.Percent),
				Remedy:  "wait until it has arrived; tarn watch sends it"})
		}
	}
	return refusals
}

// SendLater freezes the changes that Send would send, for tarn watch to send.
func (w *Workspace) SendLater(ctx context.Context, o SendOptions) (*Job, error) {
	s, err := w.Status(ctx, Question{All: len(o.Paths) > 0})
	if err != nil {
		return nil, err
	}
	changed, refusals, err := w.chosen(s, o, &Sent{})
	if err != nil {
		return nil, err
	}
	if len(refusals) > 0 {
		return nil, &model.Refused{Refusals: refusals}
	}
	if len(changed) == 0 {
		return nil, nil
	}
	if err := w.askFirst(ctx, s, o, changed); err != nil {
		return nil, err
	}
	j := &Job{ID: uuid.NewString(), About: o.About, KeepLocks: o.KeepLocks, Older: o.Older, Since: now(),
		Size: sizeOf(s, changed)}
	if err := os.MkdirAll(w.jobFile(j.ID, "files"), 0o700); err != nil {
		return nil, err
	}
	w.Progress.Start("Setting aside", j.Size)
	defer w.Progress.Done()
	for _, a := range changed {
		f := JobFile{Asset: a, Gone: !here(s, a.Path)}
		f.Base, f.Had = s.base(a.Path)
		if !f.Gone {
			file, _ := s.file(a.Path)
			f.Stamp = file.Stamp
			if err := w.freeze(a.Path, file.Stamp, w.jobFile(j.ID, "files")); err != nil {
				_ = os.RemoveAll(w.jobFolder(j.ID))
				if full := noRoom(err); full != err {
					return nil, full
				}
				return nil, &model.Refused{Refusals: []model.Refusal{unreadable(a.Path, err)}}
			}
		}
		j.Files = append(j.Files, f)
		w.Progress.Add(a.Size)
	}
	return j, w.writeJob(j)
}

// askFirst asks the service whether it would take a send, where it can be reached: what somebody else holds is refused now and not later.
func (w *Workspace) askFirst(ctx context.Context, s *Status, o SendOptions, changed []model.Asset) error {
	outline := model.SendRequest{Workspace: w.Marker.Workspace, About: o.About, KeepLocks: o.KeepLocks,
		Older: o.Older}
	for _, a := range changed {
		outline.Changes = append(outline.Changes, w.outline(s, a))
	}
	_, err := w.Client.CheckSend(ctx, w.Marker.Project, model.SendQuestion{Send: outline})
	if err == nil || !answered(err) {
		return nil // a service that is away, or full just now, is what sending in the background is for
	}
	return err
}

// CancelJob takes a send out of the background. What has become a handoff already stays one, and is given back. A frozen copy that is not
// the file any more is put away.
func (w *Workspace) CancelJob(ctx context.Context, j *Job) (*model.Handoff, error) {
	if j.Pending != nil {
		closed, err := w.Client.CloseSend(ctx, w.Marker.Project, j.Pending.Key)
		if err != nil {
			return nil, err
		}
		if closed.Handoff != nil {
			return closed.Handoff, w.endJob(j, *closed.Handoff, nil, nil)
		}
	}
	for _, f := range j.Files {
		frozen := filepath.Join(w.jobFile(j.ID, "files"), filepath.FromSlash(f.Asset.Path))
		if _, err := os.Lstat(frozen); err != nil || len(j.Refusals) > 0 {
			continue
		}
		if info, err := w.root.Lstat(filepath.FromSlash(f.Asset.Path)); err == nil && f.Stamp.Is(scan.StampOf(info)) {
			continue
		}
		if err := w.keepFrozen(frozen, f); err != nil {
			return nil, err
		}
	}
	return nil, os.RemoveAll(w.jobFolder(j.ID))
}

// freeze copies a file that holds still meanwhile.
func (w *Workspace) freeze(path string, looks index.Stamp, folder string) error {
	to := filepath.Join(folder, filepath.FromSlash(path))
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	from := filepath.Join(w.Root, filepath.FromSlash(path))
	if err := disk.CloneFile(from, to); err != nil {
		if err := copyFile(from, to); err != nil {
			return err
		}
	}
	info, err := w.root.Lstat(filepath.FromSlash(path))
	if err == nil && !looks.Is(scan.StampOf(info)) {
		err = errMoving
	}
	if err != nil {
		return err
	}
	// What is said to be set aside is whole, and survives the loss of power.
	if copied, err := os.Lstat(to); err != nil {
		return err
	} else if copied.Size() != looks.Size {
		return errMoving
	}
	return syncEach(folder, []string{filepath.FromSlash(path)})
}

// writeJob keeps a job; it is there once it is whole.
func (w *Workspace) writeJob(j *Job) error {
	text, err := json.MarshalIndent(j, "", "  ")
	if err != nil {
		return err
	}
	return writeSynced(w.jobFile(j.ID, "job.json"), text)
}

// SendJob sends a job, or goes on with it, and takes it out of the outbox once it has become a handoff. What is refused for good stays
// there with the reasons, and its files go to the put-away ones.
func (w *Workspace) SendJob(ctx context.Context, j *Job) (*model.Handoff, error) {
	if j.Pending != nil {
		closed, err := w.Client.CloseSend(ctx, w.Marker.Project, j.Pending.Key)
		if err != nil {
			return nil, err
		}
		if closed.Handoff != nil {
			return closed.Handoff, w.endJob(j, *closed.Handoff, nil, nil)
		}
		j.Pending = nil
	}
	root, err := os.OpenRoot(w.jobFile(j.ID, "files"))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	s, changed := j.status()
	request := model.SendRequest{Workspace: w.Marker.Workspace, About: j.About, KeepLocks: j.KeepLocks,
		Older: j.Older}
	up := &upload{w: w, root: root, status: s, changed: changed, request: request, seen: map[chunk.Digest]bool{}, batch: &batch{}}
	w.Progress.Start("Sending", j.Size)
	cuts, unread, err := up.readAll(ctx, &request)
	var records [][]byte
	if err == nil {
		records, err = up.finish(ctx, request, unread)
	}
	w.Progress.Done()
	if err != nil {
		return nil, w.refusedJob(j, err)
	}
	j.Pending = &index.Pending{Key: uuid.NewString(), Note: j.Note, Cuts: stamps(cuts), Send: request, Since: now()}
	if err := w.writeJob(j); err != nil {
		return nil, err
	}
	receipt, err := w.post(ctx, *j.Pending, records, cuts)
	if err != nil {
		return nil, w.refusedJob(j, err)
	}
	return &receipt.Handoff, w.endJob(j, receipt.Handoff, receipt.Locks, cuts)
}

// status is how the workspace stood when the job was frozen, as far as sending needs it.
func (j *Job) status() (*Status, []model.Asset) {
	s := &Status{scan: &scan.Scan{}, fresh: map[string]*scan.Entry{}, moves: map[string]string{}}
	var changed []model.Asset
	for _, f := range j.Files {
		t := &scan.Entry{Entry: index.Entry{Path: f.Asset.Path}, File: scan.File{Stamp: f.Stamp, Executable: f.Asset.Executable}, Here: !f.Gone}
		if f.Asset.MovedFrom != "" {
			s.moves[t.Path] = f.Asset.MovedFrom
			s.fresh[f.Asset.MovedFrom] = &scan.Entry{Entry: index.Entry{Path: f.Asset.MovedFrom, Base: f.Base, Had: f.Had}}
		} else {
			t.Base, t.Had = f.Base, f.Had
		}
		s.fresh[t.Path] = t
		changed = append(changed, f.Asset)
	}
	return s, changed
}

func (w *Workspace) endJob(j *Job, h model.Handoff, kept []model.Lock, cuts map[string]index.Cut) error {
	if err := w.landed(*j.Pending, h, kept, cuts); err != nil {
		return err
	}
	return os.RemoveAll(w.jobFolder(j.ID))
}

// refusedJob ends a job that will never go; other errors leave it for another try.
func (w *Workspace) refusedJob(j *Job, err error) error {
	if !answered(err) {
		_ = os.WriteFile(w.jobFile(j.ID, "trouble"), []byte(err.Error()), 0o600)
		return err
	}
	var refused *model.Refused
	var problem *model.Problem
	switch {
	case errors.As(err, &refused):
		j.Refusals = refused.Refusals
	case errors.As(err, &problem):
		j.Refusals = []model.Refusal{{Reason: problem.Type, Message: problem.Detail, Remedy: problem.Remedy}}
	}
	j.Pending = nil
	for _, f := range j.Files {
		frozen := filepath.Join(w.jobFile(j.ID, "files"), filepath.FromSlash(f.Asset.Path))
		if _, err := os.Lstat(frozen); err == nil {
			if err := w.keepFrozen(frozen, f); err != nil {
				return err
			}
		}
	}
	return errors.Join(err, w.writeJob(j))
}

// keepFrozen puts the frozen copy of a job's file away.
func (w *Workspace) keepFrozen(frozen string, f JobFile) error {
	p, err := w.putAwayPlace(frozen, f.Asset.Path, f.Base.Version, f.Asset.Executable)
	if err != nil {
		return err
	}
	return move(frozen, filepath.Join(w.putAwayFolder(), p.ID, "file"))
}

// ForgetRefused takes the refused jobs out of the outbox. Their files are put away.
func (w *Workspace) ForgetRefused() error {
	jobs, err := w.Jobs()
	for _, j := range jobs {
		if len(j.Refusals) > 0 {
			err = errors.Join(err, os.RemoveAll(w.jobFolder(j.ID)))
		}
	}
	return err
}

// notePercent keeps how far a job is, for others to see.
func (w *Workspace) notePercent(id string, percent int) {
	_ = os.WriteFile(w.jobFile(id, "percent"), []byte(strconv.Itoa(percent)), 0o600)
}

// sending marks the assets that are on their way in the background.
func (w *Workspace) sending(s *Status) []Job {
	jobs, err := w.Jobs()
	if err != nil {
		return nil
	}
	percent := map[string]int{}
	for _, j := range jobs {
		for _, f := range j.Files {
			if len(j.Refusals) == 0 {
				percent[f.Asset.Path] = max(j.Percent, 1)
			}
		}
	}
	for i := range s.Assets {
		s.Assets[i].Sending = percent[s.Assets[i].Path]
	}
	return jobs
}
