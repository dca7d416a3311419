package handoffs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Rollback makes a handoff that brings an old state back, all of it or nothing, or, as a preview, says what that would do. It takes the
// locks that it needs where they are free, and deletes nothing: what was not there in the old state goes in a new version, and stays in
// the history.
func (s *Room) Rollback(ctx context.Context, actor ground.Actor, key string, q model.RollbackRequest,
	sendKey string) (out model.RollbackAnswer, err error) {
	ways := 0
	for _, set := range []bool{q.Version != 0, q.To != "", q.Without != 0} {
		if set {
			ways++
		}
	}
	switch {
	case ways != 1 || q.Version < 0 || q.Without < 0:
		return out, model.NewProblem(model.BadRequest, "", "a rollback goes to a version, or to a state, or does without a handoff: one of them")
	case q.Version != 0 && (len(q.Paths) != 1 || q.All):
		return out, model.NewProblem(model.BadRequest, "name one asset", "a version is that of one asset")
	case q.To != "" && q.All == (len(q.Paths) > 0):
		return out, model.NewProblem(model.BadRequest, "name assets or folders, or say that all of it is meant",
			"it is not clear what is to go back")
	case q.Without != 0 && (q.All || len(q.Paths) > 0):
		return out, model.NewProblem(model.BadRequest, "leave the paths out", "a handoff is undone as a whole")
	case len(q.Paths) > ground.MaxPaths:
		return out, model.NewProblem(model.TooLarge, "name folders", "one rollback has at most %d assets", ground.MaxPaths)
	}
	if !q.Preview && ground.ValidID(sendKey) {
		// What was carried out is not planned again: the plan would be another one by now.
		if closed, err := s.SentBefore(ctx, actor, key, sendKey); err != nil || closed != nil {
			out = model.RollbackAnswer{Changes: []model.RollbackChange{}, Refusals: []model.Refusal{}, HeadsUps: []model.HeadsUp{}, Handoff: closed}
			return out, err
		}
	}
	plan := &rollback{actor: actor, q: q}
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		plan.tx = tx
		if plan.p, err = ground.Project(ctx, tx, actor, key, model.Artist); err != nil {
			return err
		}
		w, err := seatOf(ctx, tx, actor, plan.p, q.Workspace)
		if err != nil {
			return err
		}
		w = ground.On(w, q.Branch)
		if plan.branch, err = tx.Branch(ctx, plan.p.ID, w.Branch, false); err != nil {
			return err
		}
		return plan.make(ctx, s)
	}); err != nil {
		return out, err
	}
	out = model.RollbackAnswer{Seen: plan.branch.Head, Note: plan.send.Note, Changes: append([]model.RollbackChange{}, plan.changes...),
		Refusals: append([]model.Refusal{}, plan.refusals...), HeadsUps: append([]model.HeadsUp{}, plan.heads...)}
	if len(plan.send.Changes) == 0 && len(plan.refusals) == 0 {
		return out, model.NewProblem(model.BadRequest, "choose another state", "nothing of it is different from how it is now")
	}
	plan.send.Branch = q.Branch
	plan.send.Workspace, plan.send.Key, plan.send.TakeFree, plan.send.Older = q.Workspace, sendKey, true, true
	if q.Preview || len(plan.refusals) > 0 {
		if len(plan.send.Changes) > 0 {
			var refused *model.Refused
			if _, err := s.CheckSend(ctx, actor, key, Question{Send: plan.send}); errors.As(err, &refused) {
				out.Refusals = append(out.Refusals, refused.Refusals...)
			} else if err != nil {
				return out, err
			}
		}
		if !q.Preview {
			return out, &model.Refused{Refusals: out.Refusals}
		}
		return out, nil
	}
	receipt, err := s.Send(ctx, actor, key, plan.send, nil)
	if err == nil {
		out.Handoff = &receipt.Handoff
	}
	return out, err
}

// SentBefore is the handoff that an actor's key led to already, or nil.
func (s *Room) SentBefore(ctx context.Context, actor ground.Actor, key, sendKey string) (h *model.Handoff, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		before, err := tx.SendKey(ctx, p.ID, sendKey)
		if err != nil || before.Handoff == 0 || before.PersonID != actor.ID {
			return err
		}
		found, err := tx.Handoff(ctx, p.ID, before.Handoff)
		h = &found
		return err
	})
	return h, err
}

// rollback is the plan of one.
type rollback struct {
	tx       *records.Tx
	actor    ground.Actor
	p        records.Project
	branch   records.Branch
	q        model.RollbackRequest
	send     Send
	changes  []model.RollbackChange
	refusals []model.Refusal
	heads    []model.HeadsUp
}

// maxSaid is how many bytes a rollback's own words take at most.
const maxSaid = 600

func (r *rollback) make(ctx context.Context, s *Room) (err error) {
	if r.send.Note = strings.TrimSpace(r.q.Note); r.send.Note != "" && len(r.send.Note) > ground.MaxNote-maxSaid {
		return model.NewProblem(model.BadRequest, "shorten it", "the note has %d bytes, and the limit is %d", len(r.send.Note),
			ground.MaxNote-maxSaid)
	}
	switch {
	case r.q.Version != 0:
		err = r.toVersion(ctx)
	case r.q.Without != 0:
		err = r.without(ctx, s)
	default:
		err = r.toState(ctx, s)
	}
	if err != nil || len(r.changes) == 0 {
		return err
	}
	folded := make([]string, 0, len(r.changes))
	for _, c := range r.changes {
		folded = append(folded, assetpath.Fold(c.Path))
		if c.MovedFrom != "" {
			folded = append(folded, assetpath.Fold(c.MovedFrom))
		}
	}
	assets, heads, err := r.tx.Shown(ctx, r.p.ID, r.branch.Head, folded)
	if err != nil {
		return err
	}
	r.heads = heads
	for _, h := range heads {
		if h.Handle == r.actor.Handle {
			r.refuse(h.Path, "edited", fmt.Sprintf("%s: you have changes to it in %s that were not sent", h.Path, h.Workspace),
				"send them, or put them away with tarn discard, then roll back")
		}
	}
	for _, a := range assets {
		if r.q.Seen > 0 && a.Handoff > r.q.Seen {
			r.refuse(a.Path, "behind", fmt.Sprintf("%s: %s has sent a newer version of it meanwhile (version %d, h%d)", a.Path, a.Author, a.Newest,
				a.Handoff), "look at it, then roll back again")
		}
	}
	return nil
}

func (r *rollback) refuse(path, reason, message, remedy string) {
	r.refusals = append(r.refusals, model.Refusal{Path: path, Reason: reason, Message: message, Remedy: remedy})
}

// say is the note, below what the person wrote: so the handoff says what it is.
func (r *rollback) say(format string, args ...any) {
	r.send.Note = strings.TrimSpace(r.send.Note + "\n\n" + fmt.Sprintf(format, args...))
}

// set makes an asset as it was: what it has now, and what it had then; nil where it was, or is, not there.
func (r *rollback) set(now, then *model.Asset) error {
	c := Change{}
	show := model.RollbackChange{}
	if now != nil {
		c.Path, c.Base = now.Path, now.Newest
		show.Version = now.Newest
	}
	if then == nil {
		if now == nil {
			return nil
		}
		c.Gone = true
		show.Path, show.Change = c.Path, "goes"
	} else {
		content, err := chunk.ParseDigest(then.Content)
		if err != nil {
			return err
		}
		if now != nil && now.Content == then.Content && now.Executable == then.Executable && now.Path == then.Path {
			return nil
		}
		if now != nil && now.Path != then.Path {
			c.MovedFrom = now.Path
		}
		c.Path, c.Content, c.Size, c.Executable = then.Path, content, then.Size, then.Executable
		show.Path, show.MovedFrom, show.To, show.Size, show.Change = c.Path, c.MovedFrom, then.Newest, then.Size, "back"
		switch {
		case now == nil:
			show.Change = "returns"
		case c.MovedFrom != "" && now.Content == then.Content:
			show.Change = "moves"
		}
	}
	r.send.Changes, r.changes = append(r.send.Changes, c), append(r.changes, show)
	return nil
}

// toVersion brings one version of one asset back, at the place where the asset is now.
func (r *rollback) toVersion(ctx context.Context) error {
	path := r.q.Paths[0]
	folded := assetpath.Fold(path)
	found, err := r.tx.AssetsAt(ctx, r.p.ID, r.branch.Head, []string{folded})
	if err != nil {
		return err
	}
	if len(found) == 0 {
		return model.NewProblem(model.NotFound, "check the spelling", "there is no asset %s in %s", ground.Printable(path), r.p.Key)
	}
	now := found[0]
	asset, err := r.tx.AssetAt(ctx, r.p.ID, r.branch.Head, folded)
	if err != nil {
		return err
	}
	versions, err := r.tx.Versions(ctx, r.p.ID, asset)
	if err != nil {
		return err
	}
	for _, v := range versions {
		if v.Version != r.q.Version {
			continue
		}
		if v.Gone {
			return model.NewProblem(model.BadRequest, "choose another version", "%s was gone in version %d", now.Path, v.Version)
		}
		if v.Version == now.Newest {
			return model.NewProblem(model.BadRequest, "choose an older one", "version %d of %s is the newest already", v.Version, now.Path)
		}
		r.say("Back to version %d (h%d): %s", v.Version, v.Handoff, ground.FirstLine(v.Note))
		then := model.Asset{Path: now.Path, Newest: v.Version, Content: v.Content, Size: v.Size, Executable: v.Executable}
		if now.Gone {
			return r.set(nil, &then)
		}
		if err := r.set(&now, &then); err != nil || len(r.changes) > 0 {
			return err
		}
		return model.NewProblem(model.BadRequest, "choose another version", "version %d of %s has what the newest has", v.Version, now.Path)
	}
	return model.NewProblem(model.NotFound, "see tarn history "+ground.Printable(path), "%s has no version %d", ground.Printable(path),
		r.q.Version)
}

// without undoes one handoff, where its assets have not moved on.
func (r *rollback) without(ctx context.Context, s *Room) error {
	h, err := r.tx.Handoff(ctx, r.p.ID, r.q.Without)
	if errors.Is(err, records.ErrNotFound) {
		return model.NewProblem(model.NotFound, "see tarn history", "%s has no handoff h%d; the newest is h%d", r.p.Key, r.q.Without,
			r.p.Handoffs)
	}
	if err != nil {
		return err
	}
	r.say("Without h%d: %s", h.Number, ground.FirstLine(h.Note))
	rows, err := r.tx.VersionsOf(ctx, r.p.ID, h.Number)
	if err != nil {
		return err
	}
	came, err := r.tx.CameOf(ctx, r.p.ID, h.Number)
	if err != nil {
		return err
	}
	for _, c := range came {
		rows = append(rows, records.VersionRow{Asset: c.Asset, Number: c.Number})
	}
	ids := make([]int64, len(rows))
	for i, v := range rows {
		ids[i] = v.Asset
	}
	now, err := r.tx.AssetsByID(ctx, r.p.ID, ids, r.branch.Head)
	if err != nil {
		return err
	}
	before := 0
	if len(h.Parents) > 0 {
		before = h.Parents[0]
	}
	then, err := r.tx.AssetsByID(ctx, r.p.ID, ids, before)
	if err != nil {
		return err
	}
	keep := map[int64]bool{}
	for _, v := range rows {
		if a := now[v.Asset]; a.Newest != v.Number {
			r.refuse(a.Path, "moved-on", fmt.Sprintf("%s: it has moved on since: version %d by %s (h%d) came behind version %d", a.Path, a.Newest,
				a.Author, a.Handoff, v.Number),
				fmt.Sprintf("roll back what came behind it first, or take this one back by itself: tarn rollback %s --to h%d", a.Path, before))
			continue
		}
		keep[v.Asset] = true
	}
	return r.pair(ctx, s, now, then, keep)
}

// toState makes assets and folders, or all of it, as they were as of a handoff.
func (r *rollback) toState(ctx context.Context, s *Room) error {
	number, err := ground.PointAt(ctx, r.tx, r.p, r.branch.Name, r.q.To)
	if err != nil {
		return err
	}
	if label := fmt.Sprintf("h%d", number); label == r.q.To {
		r.say("Back to %s", label)
	} else {
		r.say("Back to %s (%s)", r.q.To, label)
	}
	root := r.branch.Root
	old, err := ground.RootAt(ctx, r.tx, r.p, number)
	if err != nil {
		return err
	}
	forest := s.Forest(r.tx, r.p.ID)
	ids, take := []int64{}, map[int64]bool{}
	add := func(d tree.Difference) {
		for _, e := range []*tree.Entry{d.From, d.To} {
			if e != nil && !take[e.Asset] {
				take[e.Asset] = true
				ids = append(ids, e.Asset)
			}
		}
	}
	if r.q.All {
		err = forest.Diff(ctx, root, old, "", func(d tree.Difference) bool { add(d); return len(ids) <= ground.MaxPaths })
	} else {
		err = r.named(ctx, forest, number, root, old, add)
	}
	if err != nil || len(r.refusals) > 0 {
		return err
	}
	if len(ids) > ground.MaxPaths {
		return model.NewProblem(model.TooLarge, "roll folders back one by one", "more than %d assets would change", ground.MaxPaths)
	}
	now, err := r.tx.AssetsByID(ctx, r.p.ID, ids, r.branch.Head)
	if err != nil {
		return err
	}
	then, err := r.tx.AssetsByID(ctx, r.p.ID, ids, number)
	if err != nil {
		return err
	}
	return r.pair(ctx, s, now, then, take)
}

// named adds what is different of the assets and in the folders that the paths name, as they are called now or were then. What came into a
// folder, or left it, goes back to where it was.
func (r *rollback) named(ctx context.Context, forest *tree.Forest, number int, root, old chunk.Digest, add func(tree.Difference)) error {
	for _, path := range r.q.Paths {
		path = strings.Trim(path, "/")
		if bad := assetpath.Check(path); bad != nil {
			return model.NewProblem(model.BadRequest, bad.Remedy, "%s", bad.Message)
		}
		folded := assetpath.Fold(path)
		known := false
		for _, at := range []chunk.Digest{root, old} {
			from, end := tree.Below(folded + "/")
			n, _, err := forest.Sum(ctx, at, from, end)
			if err != nil {
				return err
			}
			one, err := forest.Get(ctx, at, []string{folded})
			if err != nil {
				return err
			}
			if e, ok := one[folded]; ok {
				add(tree.Difference{Key: folded, From: &e})
			}
			known = known || n > 0 || len(one) > 0
		}
		if !known {
			r.refuse(path, "unknown", fmt.Sprintf("%s: there is nothing of that name, now or in h%d", ground.Printable(path), number),
				"check the spelling; tarn history PATH says when something was there")
			continue
		}
		count := 0
		if err := forest.Diff(ctx, root, old, folded+"/", func(d tree.Difference) bool {
			if !strings.HasPrefix(d.Key, folded+"/") {
				return false
			}
			add(d)
			count++
			return count <= ground.MaxPaths
		}); err != nil {
			return err
		}
	}
	return nil
}

// pair makes each asset of take as it was then. One whose old place another one has now, which stays there, gives its content to that one.
func (r *rollback) pair(ctx context.Context, s *Room, now, then map[int64]model.Asset, take map[int64]bool) error {
	var ask []string
	for id := range take {
		if a, ok := then[id]; ok && !a.Gone {
			ask = append(ask, assetpath.Fold(a.Path))
		}
	}
	held, err := s.Forest(r.tx, r.p.ID).Get(ctx, r.branch.Root, ask)
	if err != nil {
		return err
	}
	there := make(map[string]int64, len(held))
	for f, e := range held {
		there[f] = e.Asset
	}
	order := make([]int64, 0, len(take))
	byPath := map[string]int64{}
	for id := range take {
		path := now[id].Path
		if a, ok := then[id]; ok && !a.Gone {
			path = a.Path
		}
		byPath[path+"\x00"+fmt.Sprint(id)] = id
	}
	for _, k := range ground.SortedKeys(byPath) {
		order = append(order, byPath[k])
	}
	replaced := map[int64]bool{} // assets that get another one's content, at its place
	for _, id := range order {
		a, ok := then[id]
		if other, taken := there[assetpath.Fold(a.Path)]; ok && !a.Gone && taken && other != id {
			replaced[other], replaced[id] = true, true
		}
	}
	for _, id := range order {
		var from, to *model.Asset
		if a, ok := now[id]; ok && !a.Gone {
			from = &a
		}
		if a, ok := then[id]; ok && !a.Gone {
			to = &a
		}
		if !replaced[id] {
			if err := r.set(from, to); err != nil {
				return err
			}
			continue
		}
		// By places: what lies at the old place gets the old content, and what is at the present one and was not there goes.
		if to != nil {
			var at *model.Asset
			if other, taken := there[assetpath.Fold(to.Path)]; taken {
				found, ok := now[other]
				if !ok {
					more, err := r.tx.AssetsByID(ctx, r.p.ID, []int64{other}, r.branch.Head)
					if err != nil {
						return err
					}
					found = more[other]
				}
				at = &found
			}
			if at != nil {
				same := *to
				same.Path = at.Path
				to = &same
			}
			if err := r.set(at, to); err != nil {
				return err
			}
		}
		if from != nil && !r.wanted(then, from.Path) {
			if err := r.set(from, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// wanted reports whether something was at a path then.
func (r *rollback) wanted(then map[int64]model.Asset, path string) bool {
	folded := assetpath.Fold(path)
	for _, a := range then {
		if !a.Gone && assetpath.Fold(a.Path) == folded {
			return true
		}
	}
	return false
}

// Drop sends a file that a page has: as a new version of an asset whose lock the console holds, or as a new asset.
func (s *Room) Drop(ctx context.Context, actor ground.Actor, key string, send Send, body io.Reader) (Receipt, error) {
	// Looked at with an empty content first, so that what would be refused is refused before the file travels.
	if _, err := s.CheckSend(ctx, actor, key, Question{Send: send}); err != nil {
		return Receipt{}, err
	}
	var p records.Project
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		p, err = ground.Project(ctx, tx, actor, key, model.Artist)
		return err
	}); err != nil {
		return Receipt{}, err
	}
	content, err := s.Ingest(ctx, p, body)
	if err != nil {
		return Receipt{}, err
	}
	send.Changes[0].Content, send.Changes[0].Size = content.Digest, content.Size
	return s.Send(ctx, actor, key, send, nil)
}
