package workspace

import (
	"context"
	"errors"
	"path/filepath"
	"sort"

	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/scan"
)

// SendOptions say what to send and how.
type SendOptions struct {
	model.About
	KeepLocks bool
	Older     bool // going back to the content of an older version is meant
	WithGone  bool
	Paths     []string
	// Set takes the rest of each set along.
	Set bool
	// Away says that the service is known to be away: SendLater does not ask it first.
	Away bool
	// Stay, where not nil, is told of the assets that changed rules would leave out, before they are sent.
	Stay func([]model.Asset)
	// Apart, where not nil, is told of changed files that the ones to be sent refer to and that are left behind; false stops the send.
	Apart func([]Reference) bool
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
	s, err := w.Status(ctx, Question{All: len(o.Paths) > 0})
	if err != nil {
		return nil, err
	}
	changed, refusals, err := w.chosen(s, o, out)
	if err != nil || len(changed) == 0 && len(refusals) == 0 {
		return out, err
	}
	if err := w.ForgetRefused(); err != nil {
		return nil, err
	}
	request := model.SendRequest{Workspace: w.Marker.Workspace, Branch: s.View.On(), About: o.About, KeepLocks: o.KeepLocks,
		Older: o.Older}
	up := w.uploading(w.folder.Disk, s, changed, request)
	w.Progress.Start("Sending", sizeOf(s, changed))
	cuts, unread, err := up.readAll(ctx, &request)
	var records [][]byte
	if err == nil {
		records, err = up.finish(ctx, request, append(refusals, unread...))
	} else {
		err = joinRefusals(refusals, err, false)
	}
	w.Progress.Done()
	if err != nil {
		return nil, err
	}
	out.Sent = up.carry.Sent()
	if refusals = w.stillSame(cuts); len(refusals) > 0 {
		return nil, &model.Refused{Refusals: refusals}
	}
	pending := index.Pending{Key: uuid.NewString(), Note: o.Note, Cuts: stamps(cuts), Send: request, Since: now()}
	if err := w.update(func(t index.Tx) error { return t.SetPending(pending) }); err != nil {
		return nil, err
	}
	receipt, err := w.post(ctx, pending, records, cuts)
	if err != nil {
		if Answered(err) {
			return nil, errors.Join(err, w.update(func(t index.Tx) error { return t.DropPending() }))
		}
		return nil, err
	}
	out.Handoff = &receipt.Handoff
	if err := w.landed(pending, receipt.Handoff, receipt.Locks, cuts); err != nil {
		return out, err
	}
	return out, w.guardAll(changed)
}

// chosen are the changes that a send takes, and what stands in the way that can be seen here.
func (w *Workspace) chosen(s *Status, o SendOptions, out *Sent) (changed []model.Asset, refusals []model.Refusal, err error) {
	if o.Set && len(o.Paths) > 0 {
		o.Paths = s.Together(o.Paths)
	}
	assets, missing := Within(s.Assets, o.Paths)
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
			refusals = append(refusals, model.Refusal{Path: p, Reason: "unknown", Message: p + ": there is nothing of that name to send",
				Remedy: "check the spelling; tarn status lists what has changed, and what the rules leave out is not sent"})
		}
	}
	for _, a := range assets {
		switch {
		case a.State == model.Outside && len(o.Paths) > 0:
			refusals = append(refusals, model.Refusal{Path: a.Path, Reason: model.Outside, Message: a.Path +
				": it is outside this workspace's scope", Remedy: "tarn scope add brings its folder in"})
		case !Changed(a):
		case !o.WithGone && !here(s, a.Path):
			out.Left = append(out.Left, a)
		default:
			changed = append(changed, a)
		}
	}
	refusals = append(refusals, w.notSending(changed)...)
	for _, a := range changed {
		// Which files are new is not known without rules; what was there before may go.
		if s.Rules != nil && (a.Path == rules.File || a.State == model.New || len(o.Paths) == 0) {
			return nil, nil, s.Rules
		}
		if a.Path == rules.File && o.Stay != nil {
			o.Stay(s.stay())
		}
	}
	if o.Apart != nil && len(o.Paths) > 0 {
		if apart := s.apart(w, changed); len(apart) > 0 && !o.Apart(apart) {
			return nil, nil, model.NewProblem(model.BadRequest, "name them too, or take the whole folder", "nothing was sent")
		}
	}
	return changed, refusals, nil
}

// post makes the handoff. Where the service lost a chunk of it meanwhile, that is brought and it is tried once more.
func (w *Workspace) post(ctx context.Context, p index.Pending, records [][]byte, cuts map[string]index.Cut) (model.SendReceipt, error) {
	receipt, err := w.Client.Send(ctx, w.Marker.Project, p.Key, p.Send, records...)
	var problem *model.Problem
	if !errors.As(err, &problem) || problem.Type != model.ChunksMissing || len(problem.Missing) == 0 {
		return receipt, err
	}
	lacking := map[chunk.Digest]bool{}
	for _, text := range problem.Missing {
		d, err := chunk.ParseDigest(text)
		if err != nil {
			return receipt, err
		}
		lacking[d] = true
	}
	files := map[string]index.Refs{}
	for path, c := range cuts {
		files[path] = c.Refs
	}
	if _, _, err := w.way().Supply(ctx, files, lacking); err != nil {
		return receipt, err
	}
	return w.Client.Send(ctx, w.Marker.Project, p.Key, p.Send, records...)
}

func sizeOf(s *Status, changed []model.Asset) (n int64) {
	for _, a := range changed {
		f, _ := s.file(a.Path)
		n += f.Stamp.Size
	}
	return n
}

// outline is a change without its content.
func (w *Workspace) outline(s *Status, a model.Asset) model.SendChange {
	base, _ := s.base(a.Path)
	change := model.SendChange{Path: a.Path, MovedFrom: a.MovedFrom, Base: base.Version, Gone: !here(s, a.Path)}
	if a.Lock != nil && a.Lock.WorkspaceID == w.Marker.Workspace {
		change.Fence = a.Lock.Fence
	}
	return change
}

// Answered tells whether the service has said no for good: nothing of the send will come any more. A sign-in that has ended, a disk or a
// limit that is full and a service that asks for patience are none of that: somebody sees to them, and the same send goes on.
func Answered(err error) bool {
	var refused *model.Refused
	var problem *model.Problem
	if !errors.As(err, &problem) {
		return errors.As(err, &refused)
	}
	switch problem.Type {
	case model.Unavailable, model.Internal, model.NotSignedIn, model.SignInExpired, model.DiskFull, model.LimitReached, model.TooMany,
		model.Damaged:
		return false
	}
	return true
}

func here(s *Status, path string) bool {
	_, ok := s.file(path)
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
	var p index.Pending
	var found bool
	if err := w.look(func(t index.Tx) (err error) {
		p, found, err = t.Pending()
		return err
	}); err != nil || !found {
		return nil, err
	}
	closed, err := w.Client.CloseSend(ctx, w.Marker.Project, p.Key)
	if err != nil {
		return nil, err
	}
	if closed.Handoff == nil {
		return nil, w.update(func(t index.Tx) error { return t.DropPending() })
	}
	return closed.Handoff, w.landed(p, *closed.Handoff, nil, nil)
}

// landed notes that a send has become a handoff. cuts are those of its files, where they are at hand.
func (w *Workspace) landed(p index.Pending, h model.Handoff, kept []model.Lock, cuts map[string]index.Cut) error {
	versions := map[string]int{}
	for _, a := range h.Assets {
		versions[a.Path] = a.Version
	}
	locks := map[string]*model.Lock{}
	for i := range kept {
		locks[kept[i].Path] = &kept[i]
	}
	digests := map[string]string{}
	for _, a := range h.Assets {
		digests[a.Path] = a.Digest
	}
	return w.update(func(t index.Tx) error {
		for _, c := range p.Send.Changes {
			a := model.Asset{Path: c.Path, Newest: versions[c.Path], Digest: digests[c.Path], Gone: c.Gone, Size: c.Size, Executable: c.Executable,
				Author: h.Author, At: &h.At, Handoff: h.Number, Note: h.Note}
			if l := locks[c.Path]; l != nil {
				a.Lock, a.Holder = l, l.Holder
			}
			if !c.Gone {
				a.Content = c.Content.String()
			}
			if err := t.SetNewest(a); err != nil {
				return err
			}
			refs := index.Refs{}
			if known, ok := cuts[c.Path]; ok {
				refs = known.Refs
			} else if known, ok, err := t.Cut(c.Path); err != nil {
				return err
			} else if ok && known.Stamp.Is(p.Cuts[c.Path]) {
				refs = known.Refs // else it was cut again meanwhile, and holds something else
			}
			if c.MovedFrom != "" {
				if err := t.MovedAway(c.MovedFrom, c.Path); err != nil {
					return err
				}
			}
			if err := t.DropCut(c.Path); err != nil {
				return err
			}
			if c.Gone {
				if err := t.DropBase(c.Path); err != nil {
					return err
				}
			} else if err := t.SetBase(c.Path, placing.BaseOf(a, p.Cuts[c.Path]), refs.OrNone()); err != nil {
				return err
			}
		}
		if err := t.Arrived(h.Number, parentOf(h), now()); err != nil {
			return err
		}
		// The service knows that what was sent is unsent no more.
		if err := t.SetTold(aboutHeadsUps, nil); err != nil {
			return err
		}
		if pending, ok, err := t.Pending(); err != nil || !ok || pending.Key != p.Key {
			return err
		}
		return t.DropPending()
	})
}

// parentOf is what a handoff was made on, 0 for the first of a project.
func parentOf(h model.Handoff) int {
	if len(h.Parents) == 0 {
		return 0
	}
	return h.Parents[0]
}

func stamps(cuts map[string]index.Cut) map[string]index.Stamp {
	out := map[string]index.Stamp{}
	for p, c := range cuts {
		out[p] = c.Stamp
	}
	return out
}

// cutsOf reads the kept cuts of assets, and the chunks of their bases.
func (w *Workspace) cutsOf(s *Status, assets []model.Asset) (map[string]index.Cut, map[string]index.Refs, error) {
	found, bases := map[string]index.Cut{}, map[string]index.Refs{}
	return found, bases, w.look(func(t index.Tx) error {
		for _, a := range assets {
			c, ok, err := t.Cut(a.Path)
			if err != nil {
				return err
			}
			if ok {
				found[a.Path] = c
			}
			if refs := t.Refs(s.source(a.Path)); refs != nil {
				bases[a.Path] = refs
			}
		}
		return nil
	})
}

// cutKeeper keeps cuts in the index, many at once: writing the index costs as much as reading a small file.
type cutKeeper struct {
	w     *Workspace
	cuts  map[string]index.Cut
	bytes int64
}

// keepBytes is how much reading an interrupted command may have to do again.
const keepBytes = 256 << 20

func (k *cutKeeper) add(path string, c index.Cut) error {
	if k.cuts == nil {
		k.cuts = map[string]index.Cut{}
	}
	k.cuts[path] = c
	if k.bytes += c.Size; k.bytes < keepBytes {
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
	return k.w.update(func(t index.Tx) error {
		for path, c := range cuts {
			if err := t.SetCut(path, c); err != nil {
				return err
			}
		}
		return nil
	})
}

// stillSame looks once more, right before the handoff, whether the files are those that were read.
func (w *Workspace) stillSame(cuts map[string]index.Cut) (refusals []model.Refusal) {
	for p, c := range cuts {
		info, err := w.folder.Disk.Lstat(filepath.FromSlash(p))
		if err != nil {
			refusals = append(refusals, scan.Unreadable(p, err))
			continue
		}
		if !c.Stamp.Is(scan.StampOf(info)) {
			refusals = append(refusals, scan.Unreadable(p, scan.ErrMoving))
		}
	}
	sort.Slice(refusals, func(i, j int) bool { return refusals[i].Path < refusals[j].Path })
	return refusals
}
