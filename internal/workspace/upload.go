package workspace

import (
	"context"
	"errors"
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
	"kettletarn/internal/workspace/transfer"
)

// upload reads what a send takes, and brings the content.
type upload struct {
	w       *Workspace
	root    scan.Files // where the files are: the workspace, or frozen copies of them
	status  *Status
	changed []model.Asset
	carry   *transfer.Carry
}

// uploading begins an upload. request is what is known of it before anything was read: before content goes, the service is asked whether it
// would take that.
func (w *Workspace) uploading(root scan.Files, s *Status, changed []model.Asset, request model.SendRequest) *upload {
	u := &upload{w: w, root: root, status: s, changed: changed}
	u.carry = w.way().Carry(func(ctx context.Context) error {
		coming := int64(0)
		for _, a := range changed {
			request.Changes = append(request.Changes, w.outline(s, a))
			file, _ := s.file(a.Path)
			base, _ := s.base(a.Path)
			coming += max(file.Stamp.Size-base.Size, 0)
		}
		check, err := w.Client.CheckSend(ctx, w.Marker.Project, model.SendQuestion{Send: request, Coming: coming})
		if err != nil {
			return err
		}
		w.wanted = check.Wanted
		return nil
	})
	return u
}

// finish waits until everything has arrived, or, where little is to be brought, asks about the whole send and returns what has to
// travel with it. refusals are those that were found here.
func (u *upload) finish(ctx context.Context, request model.SendRequest, refusals []model.Refusal) (records [][]byte, err error) {
	if u.carry.Begun() {
		if err := u.carry.End(ctx); err != nil {
			return nil, err
		}
		if len(refusals) == 0 {
			u.w.offer(ctx)
			return nil, nil
		}
	}
	waiting, size := u.carry.Waiting()
	question := model.SendQuestion{Send: request, Chunks: waiting, Coming: size}
	check, err := u.w.Client.CheckSend(ctx, u.w.Marker.Project, question)
	if err := joinRefusals(refusals, err, len(request.Changes) == 0); err != nil {
		return nil, err
	}
	u.w.wanted = check.Wanted
	records = u.carry.Records(check.Chunks)
	u.w.offer(ctx)
	return records, nil
}

// readAll reads every changed file and fills the request. What can't be read comes back as refusals.
func (u *upload) readAll(ctx context.Context, request *model.SendRequest) (map[string]index.Cut, []model.Refusal, error) {
	w, s := u.w, u.status
	cuts, refusals := map[string]index.Cut{}, []model.Refusal(nil)
	known, bases, err := w.cutsOf(s, u.changed)
	if err != nil {
		return nil, nil, err
	}
	keep := &cutKeeper{w: w}
	var mu sync.Mutex
	changes := make([]*model.SendChange, len(u.changed))
	one := func(i int) error {
		a := u.changed[i]
		change := w.outline(s, a)
		if change.Gone {
			changes[i] = &change
			return nil
		}
		file, _ := s.file(a.Path)
		cut, f, err := u.carry.File(ctx, u.root, a.Path, file, known[a.Path], bases[a.Path])
		mu.Lock()
		defer mu.Unlock()
		if unread := (*transfer.UnreadFile)(nil); errors.As(err, &unread) {
			refusals = append(refusals, scan.Unreadable(a.Path, unread.Err))
			return nil
		}
		if err != nil {
			return err
		}
		if u.root != scan.Files(w.folder.Disk) {
			// The looks that count are those that the file in the workspace had.
			cut.Stamp = file.Stamp
		} else if err := keep.add(a.Path, cut); err != nil {
			return err
		}
		cuts[a.Path] = cut
		change.Content, change.Size, change.Executable = cut.Content, cut.Size, f.Executable
		if !scan.KeepsExecutable {
			base, _ := s.base(a.Path)
			change.Executable = base.Executable
		}
		changes[i] = &change
		return nil
	}
	// Small files are read by all cores, one each; a large one by all of them together.
	group := errgroup.Group{}
	group.SetLimit(runtime.NumCPU())
	for i, a := range u.changed {
		if err = u.carry.Stopped(ctx); err != nil {
			break
		}
		if file, _ := s.file(a.Path); file.Stamp.Size <= chunk.SegmentSize {
			group.Go(func() error { return one(i) })
			continue
		}
		if err = group.Wait(); err == nil {
			err = one(i)
		}
		if err != nil {
			break
		}
	}
	if waited := group.Wait(); err == nil {
		err = waited
	}
	if kept := keep.flush(); err == nil {
		err = kept
	}
	if err != nil {
		if first := u.carry.GiveUp(); first != nil {
			err = first
		}
		return nil, nil, err
	}
	for _, c := range changes {
		if c != nil {
			request.Changes = append(request.Changes, *c)
		}
	}
	return cuts, refusals, nil
}
