package workspace

import (
	"context"
	"errors"
	"path/filepath"
	"sort"
	"strings"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
)

// SendOptions say what to send and how.
type SendOptions struct {
	Note      string
	Tasks     []string
	Stage     string
	KeepLocks bool
	WithGone  bool
	Paths     []string
}

// Sent is what a send did. Earlier is a handoff that an interrupted send had made already. Left are deletions that were not sent.
type Sent struct {
	Handoff *model.Handoff  `json:"handoff,omitempty"`
	Earlier *model.Handoff  `json:"earlier,omitempty"`
	Left    []model.Asset   `json:"left"`
	Odd     []model.Refusal `json:"odd"`
	Sent    int64           `json:"sent"`
}

// Send hands off the changes at or below the paths, all of them or none. Interrupted anywhere, the same command goes on.
func (w *Workspace) Send(ctx context.Context, o SendOptions) (*Sent, error) {
	out := &Sent{Left: []model.Asset{}, Odd: []model.Refusal{}}
	earlier, err := w.settlePending(ctx)
	if err != nil {
		return nil, err
	}
	out.Earlier = earlier
	s, err := w.Status(ctx)
	if err != nil {
		return nil, err
	}
	if s.Rules != nil {
		return nil, s.Rules
	}
	assets, missing := Within(s.Assets, o.Paths)
	var refusals []model.Refusal
	for _, odd := range s.Odd {
		if len(o.Paths) == 0 {
			out.Odd = append(out.Odd, odd)
			continue
		}
		for _, p := range o.Paths {
			if odd.Path == p {
				refusals = append(refusals, odd)
			}
		}
	}
	for _, p := range missing {
		if !named(refusals, p) {
			refusals = append(refusals, model.Refusal{Path: p, Reason: "unknown", Message: p + ": there is nothing of that name to send", Remedy: "check the spelling; tarn status lists what has changed, and what the rules leave out is not sent"})
		}
	}
	var changed []model.Asset
	for _, a := range assets {
		switch a.State {
		case model.New, model.Edited, model.Clash:
			if a.State == model.Clash && !here(s, a.Path) && !o.WithGone {
				out.Left = append(out.Left, a)
				continue
			}
			changed = append(changed, a)
		case model.Gone:
			if o.WithGone {
				changed = append(changed, a)
			} else {
				out.Left = append(out.Left, a)
			}
		}
	}
	if len(changed) == 0 && len(refusals) == 0 {
		return out, nil
	}
	request := model.SendRequest{Workspace: w.Marker.Workspace, Note: o.Note, Tasks: o.Tasks, Stage: o.Stage, KeepLocks: o.KeepLocks}
	if sizeOf(s, changed) > askFirst {
		outline := request
		for _, a := range changed {
			outline.Changes = append(outline.Changes, w.outline(s, a))
		}
		if _, err := w.Client.CheckSend(ctx, w.Marker.Project, outline); err != nil {
			return nil, joinRefusals(refusals, err, false)
		}
	}
	cuts, unread, err := w.cutAll(ctx, s, changed, &request)
	if err != nil {
		return nil, err
	}
	refusals = append(refusals, unread...)
	check, err := w.Client.CheckSend(ctx, w.Marker.Project, request)
	if err := joinRefusals(refusals, err, len(request.Changes) == 0); err != nil {
		return nil, err
	}
	if out.Sent, err = w.upload(ctx, cuts, check.Missing); err != nil {
		return nil, err
	}
	if refusals = w.stillSame(cuts); len(refusals) > 0 {
		return nil, &model.Refused{Refusals: refusals}
	}
	pending := Pending{Key: uuid.NewString(), Note: o.Note, Cuts: stamps(cuts), Send: request, Since: now()}
	if err := w.update(func(t indexTx) error { return t.setPending(pending) }); err != nil {
		return nil, err
	}
	receipt, err := w.Client.Send(ctx, w.Marker.Project, pending.Key, request)
	if err != nil {
		if answered(err) {
			return nil, errors.Join(err, w.update(func(t indexTx) error { return t.dropPending() }))
		}
		return nil, err
	}
	out.Handoff = &receipt.Handoff
	if err := w.landed(pending, receipt.Handoff, receipt.Locks); err != nil {
		return out, err
	}
	// The handoff stands; news of the others is a bonus, and its failing is not this command's.
	_ = w.Refresh(ctx)
	return out, nil
}

// askFirst is how many bytes of changes make it worth a round trip to ask before they are read: reading them takes longer.
const askFirst = 64 << 20

func sizeOf(s *Status, changed []model.Asset) (n int64) {
	for _, a := range changed {
		n += s.found.Files[a.Path].Stamp.Size
	}
	return n
}

// outline is a change without its content.
func (w *Workspace) outline(s *Status, a model.Asset) model.SendChange {
	change := model.SendChange{Path: a.Path, Base: s.bases[a.Path].Version, Gone: !here(s, a.Path)}
	if a.Lock != nil && a.Lock.WorkspaceID == w.Marker.Workspace {
		change.Fence = a.Lock.Fence
	}
	return change
}

// answered tells whether the service has said no for good: nothing of the send will come any more.
func answered(err error) bool {
	var refused *model.Refused
	var problem *model.Problem
	return errors.As(err, &refused) || errors.As(err, &problem) && problem.Type != model.Unavailable && problem.Type != model.Internal
}

func here(s *Status, path string) bool {
	_, ok := s.found.Files[path]
	return ok
}

func named(refusals []model.Refusal, path string) bool {
	for _, r := range refusals {
		if r.Path == path {
			return true
		}
	}
	return false
}

// joinRefusals makes one refusal of what was found here and what the service says.
func joinRefusals(own []model.Refusal, err error, nothing bool) error {
	var refused *model.Refused
	if errors.As(err, &refused) {
		own, err = append(own, refused.Refusals...), nil
	}
	var problem *model.Problem
	if nothing && len(own) > 0 && errors.As(err, &problem) && problem.Type == model.BadRequest {
		err = nil
	}
	if err == nil && len(own) > 0 {
		return &model.Refused{Refusals: own}
	}
	return err
}

// settlePending finds out what became of a send whose answer was lost.
func (w *Workspace) settlePending(ctx context.Context) (*model.Handoff, error) {
	var p Pending
	var found bool
	if err := w.look(func(t indexTx) (err error) {
		p, found, err = t.pending()
		return err
	}); err != nil || !found {
		return nil, err
	}
	closed, err := w.Client.CloseSend(ctx, w.Marker.Project, p.Key)
	if err != nil {
		return nil, err
	}
	if closed.Handoff == nil {
		return nil, w.update(func(t indexTx) error { return t.dropPending() })
	}
	return closed.Handoff, w.landed(p, *closed.Handoff, nil)
}

// landed notes that a send has become a handoff.
func (w *Workspace) landed(p Pending, h model.Handoff, kept []model.Lock) error {
	versions := map[string]int{}
	for _, a := range h.Assets {
		versions[a.Path] = a.Version
	}
	locks := map[string]*model.Lock{}
	for i := range kept {
		locks[kept[i].Path] = &kept[i]
	}
	return w.update(func(t indexTx) error {
		for _, c := range p.Send.Changes {
			a := model.Asset{Path: c.Path, Newest: versions[c.Path], Gone: c.Gone, Size: c.Size, Executable: c.Executable, Author: h.Author, At: &h.At, Handoff: h.Number, Note: h.Note}
			if l := locks[c.Path]; l != nil {
				a.Lock, a.Holder = l, l.Holder
			}
			if !c.Gone {
				a.Digest = c.Digest.String()
			}
			if err := t.setNewest(a); err != nil {
				return err
			}
			if err := t.dropCut(c.Path); err != nil {
				return err
			}
			if c.Gone {
				if err := t.dropBase(c.Path); err != nil {
					return err
				}
			} else if err := t.setBase(c.Path, baseOf(a, p.Cuts[c.Path])); err != nil {
				return err
			}
		}
		return t.dropPending()
	})
}

func stamps(cuts map[string]Cut) map[string]Stamp {
	out := map[string]Stamp{}
	for p, c := range cuts {
		out[p] = c.Stamp
	}
	return out
}

// cutAll reads every changed file and fills the request. What can't be read comes back as refusals.
func (w *Workspace) cutAll(ctx context.Context, s *Status, changed []model.Asset, request *model.SendRequest) (map[string]Cut, []model.Refusal, error) {
	cuts, refusals := map[string]Cut{}, []model.Refusal(nil)
	w.Progress.Start("Reading", sizeOf(s, changed))
	defer w.Progress.Done()
	known, err := w.cutsOf(changed)
	if err != nil {
		return nil, nil, err
	}
	keep := &cutKeeper{w: w}
	cutter := chunk.NewCutter(nil)
	for _, a := range changed {
		change := w.outline(s, a)
		f := s.found.Files[a.Path]
		if change.Gone {
			request.Changes = append(request.Changes, change)
			continue
		}
		cut, ok := known[a.Path]
		if ok && cut.Stamp.fits(f.Stamp) {
			w.Progress.Add(a.Size)
		} else {
			if cut, f, err = w.read(ctx, cutter, a.Path); ctx.Err() != nil {
				return nil, nil, errors.Join(ctx.Err(), keep.flush())
			} else if err != nil {
				refusals = append(refusals, unreadable(a.Path, err))
				continue
			}
			if err := keep.add(a.Path, cut); err != nil {
				return nil, nil, err
			}
		}
		cuts[a.Path] = cut
		change.Digest, change.Size, change.Executable = cut.Manifest.Digest, cut.Manifest.Size, f.Executable
		if !keepsExecutable {
			change.Executable = s.bases[a.Path].Executable
		}
		request.Changes = append(request.Changes, change)
	}
	return cuts, refusals, keep.flush()
}

// cutsOf reads the kept cuts of assets.
func (w *Workspace) cutsOf(assets []model.Asset) (map[string]Cut, error) {
	found := map[string]Cut{}
	return found, w.look(func(t indexTx) error {
		for _, a := range assets {
			c, ok, err := t.cut(a.Path)
			if err != nil {
				return err
			}
			if ok {
				found[a.Path] = c
			}
		}
		return nil
	})
}

// cutKeeper keeps cuts in the index, many at once: writing the index costs as much as reading a small file.
type cutKeeper struct {
	w     *Workspace
	cuts  map[string]Cut
	bytes int64
}

// keepBytes is how much reading an interrupted command may have to do again.
const keepBytes = 256 << 20

func (k *cutKeeper) add(path string, c Cut) error {
	if k.cuts == nil {
		k.cuts = map[string]Cut{}
	}
	k.cuts[path] = c
	if k.bytes += c.Manifest.Size; k.bytes < keepBytes {
		return nil
	}
	return k.flush()
}

func (k *cutKeeper) flush() error {
	cuts := k.cuts
	k.cuts, k.bytes = nil, 0
	if len(cuts) == 0 {
		return nil
	}
	return k.w.update(func(t indexTx) error {
		for path, c := range cuts {
			if err := t.setCut(path, c); err != nil {
				return err
			}
		}
		return nil
	})
}

// stillSame looks once more, right before the handoff, whether the files are those that were read.
func (w *Workspace) stillSame(cuts map[string]Cut) (refusals []model.Refusal) {
	for p, c := range cuts {
		info, err := w.root.Lstat(filepath.FromSlash(p))
		if err != nil {
			refusals = append(refusals, unreadable(p, err))
			continue
		}
		if s := stampOf(info); s.Size != c.Stamp.Size || s.Time != c.Stamp.Time || s.Inode != c.Stamp.Inode {
			refusals = append(refusals, unreadable(p, errMoving))
		}
	}
	sort.Slice(refusals, func(i, j int) bool { return refusals[i].Path < refusals[j].Path })
	return refusals
}

// piece is one chunk in one file.
type piece struct {
	path  string
	start int64
	ref   chunk.Ref
}

// upload brings the missing contents: only the chunks that the project lacks travel. It returns how many bytes that were.
func (w *Workspace) upload(ctx context.Context, cuts map[string]Cut, missing []chunk.Digest) (sent int64, err error) {
	if len(missing) == 0 {
		return 0, nil
	}
	lacking := map[chunk.Digest]bool{}
	for _, d := range missing {
		lacking[d] = true
	}
	var declare []*chunk.Manifest
	var pieces []piece
	seen := map[chunk.Digest]bool{}
	total := int64(0)
	for _, p := range sorted(cuts) {
		m := cuts[p].Manifest
		if !lacking[m.Digest] {
			continue
		}
		delete(lacking, m.Digest)
		declare = append(declare, &m)
		start := int64(0)
		for _, ref := range m.Chunks {
			if !seen[ref.Digest] {
				seen[ref.Digest] = true
				pieces = append(pieces, piece{p, start, ref})
				total += int64(ref.Size)
			}
			start += int64(ref.Size)
		}
	}
	w.Progress.Start("Sending", total)
	if pieces, err = w.ask(ctx, pieces); err == nil {
		sent, err = w.transfer(ctx, pieces)
	}
	w.Progress.Done()
	if err != nil {
		return sent, err
	}
	return sent, w.declare(ctx, declare)
}

func sorted(cuts map[string]Cut) []string {
	names := make([]string, 0, len(cuts))
	for p := range cuts {
		names = append(names, p)
	}
	sort.Strings(names)
	return names
}

// ask keeps the pieces that the project lacks.
func (w *Workspace) ask(ctx context.Context, pieces []piece) (lacking []piece, err error) {
	for len(pieces) > 0 {
		page := pieces[:min(len(pieces), 4096)]
		pieces = pieces[len(page):]
		digests := make([]chunk.Digest, len(page))
		for i, p := range page {
			digests[i] = p.ref.Digest
		}
		missing, err := w.Client.MissingChunks(ctx, w.Marker.Project, digests)
		if err != nil {
			return nil, err
		}
		want := map[chunk.Digest]bool{}
		for _, d := range missing {
			want[d] = true
		}
		for _, p := range page {
			if want[p.ref.Digest] {
				lacking = append(lacking, p)
			} else {
				w.Progress.Add(int64(p.ref.Size))
			}
		}
	}
	return lacking, nil
}

// transfer sends pieces, several requests at once, each with a bounded number of bytes.
func (w *Workspace) transfer(ctx context.Context, pieces []piece) (sent int64, err error) {
	group, running := errgroup.WithContext(ctx)
	group.SetLimit(inFlight)
	for len(pieces) > 0 && running.Err() == nil {
		n, size := 0, 0
		for n < len(pieces) && n < batchChunks && (n == 0 || size+pieces[n].ref.Size <= batchBytes) {
			size += pieces[n].ref.Size
			n++
		}
		batch := pieces[:n]
		pieces = pieces[n:]
		sent += int64(size)
		group.Go(func() error {
			records, err := w.pack(batch)
			if err != nil {
				return err
			}
			if err := w.Client.StoreChunks(running, w.Marker.Project, records); err != nil {
				return err
			}
			w.Progress.Add(int64(size))
			return nil
		})
	}
	err = group.Wait()
	if err == nil {
		err = ctx.Err()
	}
	return sent, err
}

// pack reads pieces again and compresses them. One that is no longer what it was refuses the send.
func (w *Workspace) pack(batch []piece) (records []pack.Record, err error) {
	for i := 0; i < len(batch); {
		f, err := w.root.Open(filepath.FromSlash(batch[i].path))
		if err != nil {
			return nil, &model.Refused{Refusals: []model.Refusal{unreadable(batch[i].path, err)}}
		}
		first := batch[i].path
		for ; i < len(batch) && batch[i].path == first; i++ {
			data := make([]byte, batch[i].ref.Size)
			if _, err := f.ReadAt(data, batch[i].start); err != nil || chunk.Sum(data) != batch[i].ref.Digest {
				_ = f.Close()
				return nil, &model.Refused{Refusals: []model.Refusal{unreadable(first, errMoving)}}
			}
			records = append(records, pack.Encode(batch[i].ref.Digest, data))
		}
		if err := f.Close(); err != nil {
			return nil, err
		}
	}
	return records, nil
}

// declare makes the contents known, some at a time: the service reads each through before it answers.
func (w *Workspace) declare(ctx context.Context, list []*chunk.Manifest) error {
	total := int64(0)
	for _, m := range list {
		total += m.Size
	}
	w.Progress.Start("Checking at the service", total)
	defer w.Progress.Done()
	for len(list) > 0 {
		n, size, chunks := 0, int64(0), 0
		for n < len(list) && n < 512 && (n == 0 || size+list[n].Size <= 256<<20 && chunks+len(list[n].Chunks) <= 100_000) {
			size += list[n].Size
			chunks += len(list[n].Chunks)
			n++
		}
		if err := w.Client.DeclareContents(ctx, w.Marker.Project, list[:n]); err != nil {
			return err
		}
		w.Progress.Add(size)
		list = list[n:]
	}
	return nil
}

// Rollback sends an old version of an asset as a new one and brings it here. to is a version number.
func (w *Workspace) Rollback(ctx context.Context, path string, to int, note string) (*model.Handoff, *Updated, error) {
	if err := w.Refresh(ctx); err != nil {
		return nil, nil, err
	}
	s, err := w.Status(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, a := range s.Assets {
		if a.Path == path && (a.State == model.Edited || a.State == model.Clash || a.State == model.New) {
			return nil, nil, &model.Refused{Refusals: []model.Refusal{{Path: path, Reason: "edited", Message: path + ": it has changes here that were not sent", Remedy: "send them, or put them away with tarn discard, then roll back"}}}
		}
	}
	base := s.newest[path].Newest
	if s.newest[path].Gone {
		base = 0
	}
	receipt, err := w.Client.Rollback(ctx, w.Marker.Project, uuid.NewString(), model.RollbackRequest{Workspace: w.Marker.Workspace, Path: path, To: to, Base: base, Note: strings.TrimSpace(note)})
	if err != nil {
		return nil, nil, err
	}
	u, err := w.Update(ctx, []string{path}, false)
	return &receipt.Handoff, u, err
}
