package workspace

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/outbox"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/scan"
)

// Job is a send that goes on in the background.
type Job = outbox.Job

func (w *Workspace) outbox() outbox.Box { return outbox.In(w.folder.State) }

// Jobs lists the sends in the background, the oldest first.
func (w *Workspace) Jobs() ([]Job, error) { return w.outbox().Jobs() }

// ForgetRefused takes the refused jobs out of the outbox. Their files are put away.
func (w *Workspace) ForgetRefused() error { return w.outbox().ForgetRefused() }

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
	if !o.Away {
		if err := w.askFirst(ctx, s, o, changed); err != nil {
			return nil, err
		}
	}
	j := &Job{ID: uuid.NewString(), Branch: s.View.On(), About: o.About, KeepLocks: o.KeepLocks, Older: o.Older, Since: now(),
		Size: sizeOf(s, changed)}
	if err := w.outbox().Begin(j.ID); err != nil {
		return nil, err
	}
	w.Progress.Start("Setting aside", j.Size)
	defer w.Progress.Done()
	for _, a := range changed {
		f := outbox.File{Asset: a, Gone: !here(s, a.Path)}
		f.Base, f.Had = s.base(a.Path)
		if !f.Gone {
			file, _ := s.file(a.Path)
			f.Stamp = file.Stamp
			if err := w.outbox().Freeze(w.folder, j.ID, a.Path, file.Stamp); err != nil {
				_ = w.outbox().Drop(j.ID)
				if full := placing.NoRoom(err); full != err {
					return nil, full
				}
				return nil, &model.Refused{Refusals: []model.Refusal{scan.Unreadable(a.Path, err)}}
			}
		}
		j.Files = append(j.Files, f)
		w.Progress.Add(a.Size)
	}
	return j, w.outbox().Keep(j)
}

// askFirst asks the service whether it would take a send, where it can be reached: what somebody else holds is refused now and not later.
func (w *Workspace) askFirst(ctx context.Context, s *Status, o SendOptions, changed []model.Asset) error {
	outline := model.SendRequest{Workspace: w.Marker.Workspace, Branch: s.View.On(), About: o.About, KeepLocks: o.KeepLocks,
		Older: o.Older}
	for _, a := range changed {
		outline.Changes = append(outline.Changes, w.outline(s, a))
	}
	_, err := w.Client.CheckSend(ctx, w.Marker.Project, model.SendQuestion{Send: outline})
	if err == nil || !Answered(err) {
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
	if err := w.outbox().PutAway(w.folder, j, func(f outbox.File) bool {
		info, err := w.folder.Disk.Lstat(filepath.FromSlash(f.Asset.Path))
		return len(j.Refusals) == 0 && (err != nil || !f.Stamp.Is(scan.StampOf(info)))
	}); err != nil {
		return nil, err
	}
	return nil, w.outbox().Drop(j.ID)
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
	root, err := os.OpenRoot(w.outbox().Files(j.ID))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	s, changed := statusOf(j)
	request := model.SendRequest{Workspace: w.Marker.Workspace, Branch: j.Branch, About: j.About, KeepLocks: j.KeepLocks,
		Older: j.Older}
	up := w.uploading(root, s, changed, request)
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
	if err := w.outbox().Keep(j); err != nil {
		return nil, err
	}
	receipt, err := w.post(ctx, *j.Pending, records, cuts)
	if err != nil {
		return nil, w.refusedJob(j, err)
	}
	return &receipt.Handoff, w.endJob(j, receipt.Handoff, receipt.Locks, cuts)
}

// statusOf is how the workspace stood when the job was frozen, as far as sending needs it.
func statusOf(j *Job) (*Status, []model.Asset) {
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
	return w.outbox().Drop(j.ID)
}

// refusedJob ends a job that will never go; other errors leave it for another try.
func (w *Workspace) refusedJob(j *Job, err error) error {
	if !Answered(err) {
		w.outbox().NoteTrouble(j.ID, err)
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
	if kept := w.outbox().PutAway(w.folder, j, func(outbox.File) bool { return true }); kept != nil {
		return kept
	}
	return errors.Join(err, w.outbox().Keep(j))
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

// ProgressOf keeps how far a job is where others see it.
func (w *Workspace) ProgressOf(j *Job) Progress { return &percent{w: w, job: j.ID} }

type percent struct {
	w     *Workspace
	job   string
	mu    sync.Mutex
	total int64
	done  int64
	last  int
}

func (p *percent) Start(_ string, total int64) { p.total = total }
func (p *percent) Done()                       {}
func (p *percent) Add(n int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done += n
	if p.total <= 0 {
		return
	}
	if now := int(min(100, p.done*100/p.total)); now != p.last {
		p.last = now
		p.w.outbox().NotePercent(p.job, now)
	}
}
