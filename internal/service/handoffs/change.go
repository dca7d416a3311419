package handoffs

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/text"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/service/ruling"
)

// Every change of a project goes one way, from top to bottom of this file: load what it can touch, judge it (package change), write what
// comes of it. A check ends before the third step.

// loaded is what was loaded for a change: the state that it is judged against, and the rows behind that.
type loaded struct {
	project  records.Project
	branch   records.Branch
	laid     *change.Laid
	state    *change.State
	manner   change.Manner
	rows     map[int64]*records.Asset
	contents map[chunk.Digest]records.Content
}

// load reads what changes can touch, in few statements whatever their number. With claim, paths that nobody has are claimed and the rows
// of assets are locked, by id, behind the gate that the caller has passed; what is decided on is read after that.
func (s *Room) load(ctx context.Context, tx *records.Tx, p records.Project, from records.Workspace, changes []change.Change,
	w change.Manner,
	claim bool) (*loaded, error) {
	l := &loaded{project: p, laid: change.Lay(changes), manner: w, rows: map[int64]*records.Asset{}}
	places := l.laid.Places()
	assets := tx.Assets
	if claim {
		paths := make([]string, len(places))
		for i, f := range places {
			paths[i] = l.laid.Path(f)
		}
		if err := tx.ClaimPaths(ctx, p.ID, paths, places); err != nil {
			return nil, err
		}
		assets = tx.LockAssets
	}
	rows, err := assets(ctx, p.ID, from.Branch, places)
	if err != nil {
		return nil, err
	}
	if claim {
		if err := claimAnew(ctx, tx, p, from.Branch, l.laid, rows); err != nil {
			return nil, err
		}
	}
	now, err := tx.Now(ctx)
	if err != nil {
		return nil, err
	}
	if l.branch, err = tx.Branch(ctx, p.ID, from.Branch, false); err != nil {
		return nil, err
	}
	if err := open(l.branch); err != nil {
		return nil, err
	}
	if l.contents, err = tx.Contents(ctx, p.ID, l.laid.Contents(), false); err != nil {
		return nil, err
	}
	forest := s.Forest(tx, p.ID)
	held, err := forest.Get(ctx, l.branch.Root, places)
	if err != nil {
		return nil, err
	}
	l.state = &change.State{Terms: locks.Terms(p, now), Who: seat(from), Lead: model.AtLeast(p.Role, model.Lead),
		Assets: make(map[string]*change.Asset, len(places)),
		Sizes:  make(map[chunk.Digest]int64, len(l.contents))}
	for d, c := range l.contents {
		l.state.Sizes[d] = c.Size
	}
	for _, f := range places {
		row, there := rows[f]
		switch {
		case there:
			l.rows[row.ID], l.state.Assets[f] = row, &row.Asset
		case !claim:
			l.state.Assets[f] = &change.Asset{Path: l.laid.Path(f), Folded: f}
		default:
			continue // somebody moved it in this moment
		}
		if e, ok := held[f]; ok && (!there || e.Asset == row.ID) {
			l.state.Assets[f].Held = &e
		}
	}
	if err := s.loadRules(ctx, tx, l); err != nil {
		return nil, err
	}
	if err := s.mayHandOff(ctx, tx, l); err != nil {
		return nil, err
	}
	switch {
	case w.Past:
		l.laid.Fit(l.state)
		err = l.loadLast(ctx, tx)
	case !w.Older:
		err = l.loadEarlier(ctx, tx)
	}
	if err != nil {
		return nil, err
	}
	return l, l.around(ctx, forest)
}

// claimAnew makes assets for those places whose claims are all of assets that stand elsewhere on the branch: they were there once, or are
// there on another branch.
func claimAnew(ctx context.Context, tx *records.Tx, p records.Project, branch string, laid *change.Laid,
	rows map[string]*records.Asset) error {
	var paths, places []string
	for _, f := range laid.Places() {
		if rows[f] == nil {
			paths, places = append(paths, laid.Path(f)), append(places, f)
		}
	}
	if len(places) == 0 {
		return nil
	}
	if err := tx.ClaimAnew(ctx, p.ID, paths, places); err != nil {
		return err
	}
	fresh, err := tx.LockAssets(ctx, p.ID, branch, places)
	maps.Copy(rows, fresh)
	return err
}

// open refuses a branch that takes nothing more.
func open(b records.Branch) error {
	if !b.Closed {
		return nil
	}
	return model.NewProblem(model.Taken, "open it again with tarn branch reopen "+b.Name+", or go to another branch with tarn switch",
		"the branch %s is closed: it keeps what it has, and takes nothing more", b.Name)
}

// around looks at what is near the places of new assets.
func (l *loaded) around(ctx context.Context, forest *tree.Forest) (err error) {
	l.state.Around, err = l.laid.Look(ctx, forest, l.branch.Root, l.state.Assets)
	return err
}

// loadRules finds the rules that govern a change: those that it brings, or else the newest. Those of a past stay as they are.
func (s *Room) loadRules(ctx context.Context, tx *records.Tx, l *loaded) error {
	st := l.state
	st.Rules = rules.Default()
	if l.manner.Past {
		return nil
	}
	if digest, brings := l.laid.Rules(); brings {
		c, known := l.contents[digest]
		if known {
			found, err := s.Known(l.project, c)
			st.Rules, st.Broken = found.Rules, found.Broken
			return err
		}
		st.Unread = true
	}
	found, err := s.PresentRules(ctx, tx, l.project, l.branch.Root)
	st.Rules = found
	return err
}

// ofBranches are the rules that say what may come onto a branch: those of the first one, which all branches go by.
func (s *Room) ofBranches(ctx context.Context, tx *records.Tx, p records.Project) (*rules.Rules, error) {
	first, err := ground.Head(ctx, tx, p, "")
	if err != nil {
		return nil, err
	}
	return s.PresentRules(ctx, tx, p, first.Root)
}

// mayHandOff refuses who may not hand off on a branch directly.
func (s *Room) mayHandOff(ctx context.Context, tx *records.Tx, l *loaded) error {
	r := l.state.Rules
	if _, brings := l.laid.Rules(); brings || l.manner.Past || l.branch.Name != model.FirstBranch {
		var err error
		if r, err = s.ofBranches(ctx, tx, l.project); err != nil {
			return err
		}
	}
	why := r.ForBranch(l.branch.Name).MayHandOff(l.branch.Name, l.state.Lead)
	if why == "" {
		return nil
	}
	return model.NewProblem(model.NotAllowed,
		"hand it off on a branch (tarn branch add NAME --switch), and have that merged (tarn merge NAME)", "%s",
		why)
}

// loadLast finds where the newest versions came from.
func (l *loaded) loadLast(ctx context.Context, tx *records.Tx) error {
	ids := make([]int64, 0, len(l.rows))
	for id := range l.rows {
		ids = append(ids, id)
	}
	last, err := tx.LastOf(ctx, l.project.ID, l.branch.Head, ids)
	for id, row := range l.rows {
		row.Last = last[id]
	}
	return err
}

// loadEarlier finds the older versions that have what their assets would get.
func (l *loaded) loadEarlier(ctx context.Context, tx *records.Tx) (err error) {
	assets, digests := l.laid.Repeats(l.state.Assets, l.state.Sizes)
	if len(assets) == 0 {
		return nil
	}
	ids, present, contents := make([]int64, len(assets)), make([]int, len(assets)), make([]int64, len(assets))
	for i, a := range assets {
		ids[i], present[i], contents[i] = a.ID, a.Held.Version, l.contents[digests[i]].ID
	}
	l.state.Earlier, err = tx.OlderVersions(ctx, l.project.ID, l.branch.Head, ids, contents, present)
	return err
}

// judge decides about what was loaded. Refusals are the error; contents that are not known are in the plan.
func (l *loaded) judge(ctx context.Context, tx *records.Tx) (change.Plan, error) {
	plan := change.Judge(l.laid, l.state, l.manner)
	if err := sayWhoTook(ctx, tx, &plan); err != nil || len(plan.Refusals) == 0 {
		return plan, err
	}
	return plan, &model.Refused{Refusals: plan.Refusals}
}

// sayWhoTook adds to refusals who took the lock away that the sender had, when, and why.
func sayWhoTook(ctx context.Context, tx *records.Tx, plan *change.Plan) error {
	if len(plan.Lost) == 0 {
		return nil
	}
	assets, fences := make([]int64, len(plan.Lost)), make([]int64, len(plan.Lost))
	for i, lost := range plan.Lost {
		assets[i], fences[i] = lost.Asset, lost.Fence
	}
	took, err := tx.TakenAway(ctx, assets, fences)
	for _, lost := range plan.Lost {
		if o, ok := took[lost.Asset]; ok {
			r := &plan.Refusals[lost.Refusal]
			r.Message = fmt.Sprintf("%s: you no longer hold it: %s took it away from you on %s: %s", r.Path, o.By,
				o.At.UTC().Format("2 January 15:04"), text.Line(o.Word))
		}
	}
	return err
}

// origin is whose handoff it is, and when it was made; commit and signed are those of one that is brought in from a git history.
type origin struct {
	author int64
	handle string
	at     time.Time
	commit string
	signed string
}

// writePlan writes a plan: the nodes of the tree first, then, with the branch locked, locks and handoff. unlocked is how
// many assets' locks changed.
func (s *Room) writePlan(ctx context.Context, tx *records.Tx, l *loaded, plan change.Plan, actor ground.Actor, send Send,
	by origin) (out Receipt, unlocked int, err error) {
	if len(plan.Missing) > 0 {
		return out, 0, lacking(plan)
	}
	p := l.project
	h, ids, moved := l.handoff(plan, send, by)
	if err := tx.MovePaths(ctx, p.ID, moved); err != nil {
		return out, 0, err
	}
	if err := tx.DropHeadsUps(ctx, l.state.Who.WorkspaceID, ids); err != nil {
		return out, 0, err
	}
	root, err := s.growTree(ctx, tx, l, plan, &h)
	if err != nil {
		return out, 0, err
	}
	number, err := tx.NextNumber(ctx, p.ID)
	if err != nil {
		return out, 0, err
	}
	l.seal(&h, number, root, send, by)
	if unlocked, err = l.writeLocks(ctx, tx, plan, actor, number); err != nil {
		return out, 0, err
	}
	if l.laid.ChangesRules() {
		if err := tx.SetLockTerms(ctx, p.ID, ruling.TermsOf(l.state.Rules), l.state.Rules.Tasks); err != nil {
			return out, 0, err
		}
	}
	if err := tx.AddHandoffs(ctx, p.ID, h); err != nil {
		return out, 0, err
	}
	for _, kept := range plan.Kept {
		out.Locks = append(out.Locks, locks.Shown(kept))
	}
	out.Handoff = l.answer(h, plan)
	return out, unlocked, nil
}

// lacking refuses a plan that names contents which are not here.
func lacking(plan change.Plan) error {
	return model.NewProblem(model.ChunksMissing, "send the content first", "the service does not have the content %s that is named",
		plan.Missing[0])
}

// handoff is what a plan comes to, but for its number, its tree, and what follows from those: with the ids of its assets, and those that
// move.
func (l *loaded) handoff(plan change.Plan, send Send, by origin) (h records.NewHandoff, ids []int64, moved records.Moves) {
	h = records.NewHandoff{Author: by.author, Workspace: l.state.Who.WorkspaceID, Branch: l.branch.ID, Key: send.Key}
	ids = make([]int64, len(plan.Versions))
	for i, v := range plan.Versions {
		row := records.NewVersion{Asset: v.Asset.ID, Number: v.Number, Parents: [2]int{v.Asset.Newest}, Path: v.Path, Folded: v.Folded,
			Executable: v.Executable, Renames: v.Path != v.Asset.Path}
		if !v.Gone {
			row.Content, row.Size = l.contents[v.Content].ID, v.Size
		}
		if v.Moves() {
			moved.Add(row.Asset, row.Folded)
		}
		ids[i], h.Versions = v.Asset.ID, append(h.Versions, row)
	}
	return h, ids, moved
}

// seal makes a handoff the next link of the chain of its branch.
func (l *loaded) seal(h *records.NewHandoff, number int, root chunk.Digest, send Send, by origin) {
	h.Record = chain.Handoff{Project: l.project.Key, Number: number, Branch: l.branch.Name, Root: root, Author: by.handle,
		At: by.at.UnixMicro(), Commit: by.commit, Signed: by.signed}
	record(send.About, &h.Record)
	if l.branch.Head > 0 {
		h.Record.Parents = []chain.Parent{{Number: l.branch.Head, Digest: l.branch.HeadDigest}}
	}
	_, h.Digest = h.Record.Encode()
}

// answer is a handoff that was just written, as the records would tell of it.
func (l *loaded) answer(h records.NewHandoff, plan change.Plan) model.Handoff {
	r := h.Record
	out := model.Handoff{Number: r.Number, Branch: r.Branch, Author: r.Author, About: aboutOf(&r), At: r.Time(), Commit: r.Commit,
		Milestones: []string{}, Parents: []int{}, Root: r.Root.String(), Digest: h.Digest.String(), Count: len(plan.Versions),
		Assets: make([]model.HandoffAsset, len(plan.Versions))}
	if r.Signed != "" {
		out.Author = r.Signed
	}
	for _, parent := range r.Parents {
		out.Parents = append(out.Parents, parent.Number)
	}
	for i, v := range plan.Versions {
		a := model.HandoffAsset{Path: v.Path, Change: v.Does(), Version: v.Number, Before: v.Asset.Newest}
		if !v.Gone {
			c := l.contents[v.Content]
			a.Size, a.Content = v.Size, v.Content.String()
			if c.Whole != nil {
				a.Digest = c.Whole.String()
			}
		}
		if was := v.Asset.Held; was != nil {
			if a.SizeBefore = was.Size; was.Spelling() != v.Path {
				a.MovedFrom = was.Spelling()
			}
		}
		out.Size, out.Assets[i] = out.Size+a.Size, a
	}
	slices.SortFunc(out.Assets, func(a, b model.HandoffAsset) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// growTree makes the tree that comes of a plan and locks the branch. The nodes are made and written before that; where the branch has moved
// meanwhile, they are made again on top of what it holds now.
func (s *Room) growTree(ctx context.Context, tx *records.Tx, l *loaded, plan change.Plan,
	h *records.NewHandoff) (root chunk.Digest, err error) {
	for {
		forest := s.Forest(tx, l.project.ID)
		if root, err = forest.Apply(ctx, l.branch.Root, plan.Tree); err != nil {
			return root, err
		}
		if err := tx.AddNodes(ctx, l.project.ID, forest.Fresh); err != nil {
			return root, err
		}
		seen := l.branch.Root
		if l.branch, err = tx.Branch(ctx, l.project.ID, l.branch.Name, true); err != nil {
			return root, err
		}
		if err := open(l.branch); err != nil {
			return root, err
		}
		if l.branch.Root == seen {
			h.Assets, h.Size, err = forest.Sum(ctx, root, "", "")
			return root, err
		}
		if err := l.around(ctx, s.Forest(tx, l.project.ID)); err != nil {
			return root, err
		}
		if more := l.laid.Neighbours(l.state.Around, plan.Fresh); len(more) > 0 {
			return root, &model.Refused{Refusals: more}
		}
	}
}

// writeLocks writes the locks of a plan, and says how many assets that is. That a handoff gives back its own locks goes without saying.
func (l *loaded) writeLocks(ctx context.Context, tx *records.Tx, plan change.Plan, actor ground.Actor, number int) (int, error) {
	c := &locks.Change{Tx: tx, Actor: actor, Project: l.project, Place: l.state.Who, Terms: l.state.Terms}
	for _, x := range plan.Locks {
		c.Set(l.rows[x.Asset.ID], x.Next, x.Events, nil)
	}
	if len(c.Changed) == 0 {
		return 0, nil
	}
	c.Events = slices.DeleteFunc(c.Events, func(e locks.Event) bool { return e.Kind == lock.GivenBack })
	outcome := records.Outcome{By: actor.ID, Ending: lock.EndSent, Handoff: number, Terms: l.project.Terms}
	return len(c.Changed), tx.SetLocks(ctx, l.project.ID, outcome, c.Changed, c.Told(map[string]any{"handoff": number})...)
}
