package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/text"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
)

// Change is what a send does to one asset, which was at MovedFrom where it was moved. Base is the version it was made from (0 for a new asset); Content is the root of its
// manifest; Digest, where it is there, the BLAKE3 that the sender claims; Fence is that of the lock.
type Change struct {
	Path       string
	MovedFrom  string
	Base       int
	Gone       bool
	Content    chunk.Digest
	Digest     *chunk.Digest
	Size       int64
	Executable bool
	Fence      int64

	// leaves says that it stands for the place that a moved asset leaves.
	leaves bool
}

func (send *Send) changesRules() bool {
	for _, c := range send.Changes {
		if assetpath.Fold(c.Path) == rules.File {
			return true
		}
	}
	return false
}

// Send is a handoff that somebody wants to make. Key was written down by the client before; TakeFree takes the locks that nobody
// holds for the length of this send.
type Send struct {
	Key       string
	Workspace string
	Note      string
	Tasks     []string
	Stage     string
	KeepLocks bool
	TakeFree  bool
	Changes   []Change
	// Older says that going back to the content of an older version is meant.
	Older bool `json:",omitempty"`
}

// Receipt is the answer to a send. Locks are those kept, with their present fences.
type Receipt struct {
	Handoff model.Handoff
	Locks   []model.Lock
}

func (send *Send) check() error {
	note := strings.TrimSpace(send.Note)
	switch {
	case len(send.Changes) == 0:
		return model.NewProblem(model.BadRequest, "change something first", "there is nothing to send")
	case len(send.Changes) > MaxPaths:
		return model.NewProblem(model.TooLarge, "send it in parts", "one handoff has at most %d assets", MaxPaths)
	case note == "":
		return model.NewProblem(model.BadRequest, "add one with -m: what was done, and why", "a handoff needs a note")
	case len(note) > MaxNote:
		return model.NewProblem(model.BadRequest, "shorten it; longer texts are better kept in a file of the project", "the note has %d bytes, and the limit is %d", len(note), MaxNote)
	case len(send.Tasks) > 50:
		return model.NewProblem(model.BadRequest, "", "a handoff has at most 50 task ids")
	}
	for _, task := range send.Tasks {
		if task == "" {
			return model.NewProblem(model.BadRequest, "take for example: BRL-112", "the id of a task is not empty")
		}
		if err := written("the id of a task", task, 60, false); err != nil {
			return err
		}
	}
	if err := written("the stage", send.Stage, 40, false); err != nil {
		return err
	}
	return written("the note", note, MaxNote, true)
}

// Send makes a handoff of all changes, or refuses with every reason. The same key again gets the same answer. bring, where not nil,
// gives content that comes with it, until io.EOF.
func (s *Service) Send(ctx context.Context, actor Actor, key string, send Send, bring func() (pack.Record, error)) (receipt Receipt, err error) {
	if err := send.check(); err != nil {
		return receipt, err
	}
	if !validID(send.Key) {
		return receipt, model.NewProblem(model.BadRequest, "", "the key of a send is a UUID")
	}
	fingerprint, err := json.Marshal(send)
	if err != nil {
		return receipt, err
	}
	request := chunk.Sum(fingerprint)
	var p records.Project
	var before records.SendKey
	if err := s.read(ctx, func(tx *records.Tx) (err error) {
		if p, err = project(ctx, tx, actor, key, model.Artist); err != nil {
			return err
		}
		before, err = tx.SendKey(ctx, p.ID, send.Key)
		return err
	}); err != nil {
		return receipt, err
	}
	if before.PersonID == 0 {
		if bring != nil {
			if _, err := s.storePack(ctx, p, checked(bring, make([]byte, 0, chunk.Max))); err != nil {
				return receipt, err
			}
		}
		if err := s.adopt(ctx, actor, p, send.Changes); err != nil {
			// What stands in the way otherwise is said first: all of it at once, as CheckSend does.
			var refused *model.Refused
			if _, checked := s.CheckSend(ctx, actor, key, Question{Send: send}); errors.As(checked, &refused) {
				return receipt, refused
			}
			return receipt, err
		}
	}
	err = s.knowingRules(ctx, func() error {
		return s.write(ctx, func(tx *records.Tx) error { return s.makeHandoff(ctx, tx, p, actor, key, send, request, &receipt) })
	})
	if err == nil {
		s.wakeHistory()
		s.lookAhead(p, send.Changes)
	}
	return receipt, err
}

// makeHandoff is the transaction of a send.
func (s *Service) makeHandoff(ctx context.Context, tx *records.Tx, p records.Project, actor Actor, key string, send Send, request chunk.Digest, receipt *Receipt) error {
	before, fresh, err := tx.ClaimSendKey(ctx, p.ID, send.Key, actor.ID, request[:])
	if err != nil {
		return err
	}
	if !fresh {
		return s.repeat(ctx, tx, p, actor, before, request, receipt)
	}
	st, err := s.stage(ctx, tx, actor, key, send)
	if err != nil {
		return err
	}
	if len(st.missing) > 0 {
		return model.NewProblem(model.ChunksMissing, "send the content first", "the service does not have the content %s that is named", st.missing[0])
	}
	*receipt, err = s.commit(ctx, tx, st, actor, send, origin{author: actor.ID, handle: actor.Handle, at: st.now})
	if err != nil {
		return err
	}
	h := receipt.Handoff
	return tx.AddEvent(ctx, st.project.ID, actor.ID, "handoff.sent", map[string]any{"note": firstLine(h.Note), "count": len(st.changes), "paths": somePaths(st.assets), "unlocked": st.unlocked, "handoff": h.Number})
}

// origin is whose handoff it is, and when it was made; commit and signed are those of one that is brought in from a git history.
type origin struct {
	author int64
	handle string
	at     time.Time
	commit string
	signed string
}

func (s *Service) repeat(ctx context.Context, tx *records.Tx, p records.Project, actor Actor, before records.SendKey, request chunk.Digest, receipt *Receipt) (err error) {
	switch {
	case before.PersonID != actor.ID || before.Handoff > 0 && string(before.Request) != string(request[:]):
		return model.NewProblem(model.KeyReused, "run the command again", "the key of this send was used for another one")
	case before.Handoff == 0:
		return model.NewProblem(model.KeyClosed, "run the command again", "this send was given up before it arrived")
	}
	receipt.Handoff, err = tx.Handoff(ctx, p.ID, before.Handoff)
	return err
}

// CloseSend finds out for good what became of a send: the handoff, or nothing, now and later.
func (s *Service) CloseSend(ctx context.Context, actor Actor, key, sendKey string) (h *model.Handoff, err error) {
	if !validID(sendKey) {
		return nil, model.NewProblem(model.BadRequest, "", "the key of a send is a UUID")
	}
	err = s.write(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		before, fresh, err := tx.ClaimSendKey(ctx, p.ID, sendKey, actor.ID, nil)
		if err != nil || fresh || before.Handoff == 0 {
			return err
		}
		if before.PersonID != actor.ID {
			return model.NewProblem(model.NotAllowed, "", "this send was made by somebody else")
		}
		found, err := tx.Handoff(ctx, p.ID, before.Handoff)
		h = &found
		return err
	})
	return h, err
}

// staged is a send whose rows are locked and whose every condition was looked at.
type staged struct {
	project  records.Project
	branch   records.Branch
	place    lock.Place
	now      time.Time
	rules    *rules.Rules
	changes  []Change
	assets   []*records.Asset
	fresh    []Change
	byFolded map[string]Change // what the send leaves at each folded path; what is moved away is gone
	contents map[chunk.Digest]records.Content
	missing  []chunk.Digest
	unread   bool // new rules come with it and are not here yet: what only they can decide is not refused before
	unlocked int  // how many locks the commit gave back
	// taken are the rows whose names assets get that are moved there, by those assets' ids, where somebody holds or waits for the name.
	taken map[int64]*records.Asset
}

// stage locks in the order of docs/architecture: gate, assets by id. It collects every refusal.
func (s *Service) stage(ctx context.Context, tx *records.Tx, actor Actor, key string, send Send) (*staged, error) {
	p, err := project(ctx, tx, actor, key, model.Artist)
	if err != nil {
		return nil, err
	}
	if err := tx.Gate(ctx, p.ID, send.changesRules()); err != nil {
		return nil, err
	}
	if p, err = project(ctx, tx, actor, key, model.Artist); err != nil {
		return nil, err
	}
	w, err := workspace(ctx, tx, actor, p, send.Workspace)
	if err != nil {
		return nil, err
	}
	st := &staged{taken: map[int64]*records.Asset{}, project: p, place: lock.Place{Handle: w.Handle, WorkspaceID: w.ID, Workspace: w.Name}}
	refusals, byFolded := checkPaths(send.Changes)
	order := sortedKeys(byFolded)
	paths := make([]string, len(order))
	for i, f := range order {
		paths[i] = byFolded[f].Path
	}
	if err := tx.ClaimPaths(ctx, p.ID, paths, order); err != nil {
		return nil, err
	}
	found, err := tx.LockAssets(ctx, p.ID, order)
	if err != nil {
		return nil, err
	}
	if st.now, err = tx.Now(ctx); err != nil {
		return nil, err
	}
	var digests []chunk.Digest
	for _, f := range order {
		if c := byFolded[f]; !c.Gone {
			digests = append(digests, c.Content)
		}
	}
	if st.contents, err = tx.Contents(ctx, p.ID, digests, false); err != nil {
		return nil, err
	}
	broken, err := s.rulesOf(ctx, tx, st, byFolded[rules.File])
	if err != nil {
		return nil, err
	}
	refusals = append(refusals, broken...)
	leaving := map[string]bool{}
	for _, c := range send.Changes {
		if c.MovedFrom != "" {
			leaving[assetpath.Fold(c.MovedFrom)] = true
		}
	}
	for _, f := range order {
		c := byFolded[f]
		if c.leaves {
			continue
		}
		a := found[f]
		if c.MovedFrom != "" {
			if a = found[assetpath.Fold(c.MovedFrom)]; a == nil || a.Gone {
				refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "unknown", Message: c.Path + ": there is no asset at " + printable(c.MovedFrom) + ", where it is said to come from", Remedy: "run tarn update first"})
				continue
			}
			if r := st.judgePlace(c, a, found[f], leaving); r != nil {
				refusals = append(refusals, *r)
				continue
			}
		}
		if a == nil {
			refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "behind", Message: c.Path + ": somebody else moved it just now", Remedy: "run tarn update first"})
			continue
		}
		if r := st.judge(c, a, send.TakeFree); r != nil {
			if r.Reason == "lock-lost" {
				if err := sayWhoTook(ctx, tx, a, c.Fence, r); err != nil {
					return nil, err
				}
			}
			refusals = append(refusals, *r)
			continue
		}
		if !c.Gone {
			content, known := st.contents[c.Content]
			if !known {
				st.missing = append(st.missing, c.Content)
			} else if content.Size != c.Size {
				refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "size", Message: c.Path + ": its size does not agree with its content", Remedy: "send it again"})
			}
		}
		if a.Gone && !c.Gone || a.Folded != f {
			if r := st.judgeKind(c, a); r != nil {
				refusals = append(refusals, *r)
				continue
			}
			st.fresh = append(st.fresh, c)
		}
		if f == rules.File && !model.AtLeast(p.Role, model.Lead) {
			refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "role", Message: c.Path + ": only a lead changes the rules", Remedy: "tarn rules include PATH puts an exception to the leads"})
		}
		st.changes, st.assets = append(st.changes, c), append(st.assets, a)
	}
	st.byFolded = byFolded
	older, err := st.older(ctx, tx, send)
	if err != nil {
		return nil, err
	}
	refusals = append(refusals, older...)
	if st.branch, err = tx.MainBranch(ctx, p.ID, false); err != nil {
		return nil, err
	}
	more, err := st.neighbours(ctx, s.forest(tx, p.ID), st.branch.Root)
	if err != nil {
		return nil, err
	}
	if refusals = append(refusals, more...); len(refusals) > 0 {
		return nil, &model.Refused{Refusals: refusals}
	}
	return st, nil
}

// sayWhoTook adds to a refusal who took the lock away that the sender had, when, and why.
func sayWhoTook(ctx context.Context, tx *records.Tx, a *records.Asset, fence int64, r *model.Refusal) error {
	by, why, at, err := tx.TakenAway(ctx, a.ID, fence)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err == nil {
		r.Message = fmt.Sprintf("%s: you no longer hold it: %s took it away from you on %s: %s", r.Path, by, at.UTC().Format("2 January 15:04"), text.Line(why))
	}
	return err
}

// commit writes a staged send: its tree nodes first, then, with the branch locked, the handoff.
func (s *Service) commit(ctx context.Context, tx *records.Tx, st *staged, actor Actor, send Send, by origin) (receipt Receipt, err error) {
	h := records.NewHandoff{Author: by.author, Workspace: st.place.WorkspaceID, Branch: st.branch.ID, Key: send.Key}
	released := &lockChange{ctx: ctx, tx: tx, actor: actor, project: st.project, place: st.place, terms: terms(st.project, st.now)}
	edits, ids, moved := map[string]*tree.Entry{}, make([]int64, len(st.changes)), []int{}
	for f, c := range st.byFolded {
		if c.leaves {
			edits[f] = nil
		}
	}
	for i, c := range st.changes {
		a := st.assets[i]
		v := records.NewVersion{Asset: a.ID, Number: a.Newest + 1, Before: a.Newest, Path: c.Path, Folded: assetpath.Fold(c.Path), Executable: c.Executable}
		if ids[i] = a.ID; v.Folded != a.Folded {
			moved = append(moved, i)
		}
		if edits[v.Folded] = nil; !c.Gone {
			v.Content, v.Size = st.contents[c.Content].ID, c.Size
			edits[v.Folded] = entryOf(a, c, v.Folded)
		}
		h.Versions = append(h.Versions, v)
		if there := st.taken[a.ID]; there != nil {
			// Who waited for the name waits for what has it now.
			next, events := released.terms.Join(lock.Carry(a.Lock, c.Path), there.Lock.Line)
			released.set(a, next, events, nil)
			released.set(there, lock.State{Path: there.Lock.Path, Fence: there.Lock.Fence + 1}, nil, nil)
			if !next.Free() && send.KeepLocks {
				receipt.Locks = append(receipt.Locks, shown(next))
			}
			if next.Free() || send.KeepLocks {
				continue
			}
		}
		switch {
		case a.Lock.Free():
		case send.KeepLocks && !c.Gone:
			receipt.Locks = append(receipt.Locks, shown(lock.Carry(a.Lock, c.Path)))
		default:
			next, events := released.terms.Release(lock.Carry(a.Lock, c.Path))
			released.set(a, next, events, nil)
		}
	}
	if err := freePaths(ctx, tx, st.project.ID, h.Versions, moved); err != nil {
		return receipt, err
	}
	if err := tx.DropHeadsUps(ctx, st.place.WorkspaceID, ids); err != nil {
		return receipt, err
	}
	changes := make([]tree.Change, 0, len(edits))
	for _, f := range sortedKeys(edits) {
		changes = append(changes, tree.Change{Key: f, Entry: edits[f]})
	}
	root, err := s.grow(ctx, tx, st, changes, &h)
	if err != nil {
		return receipt, err
	}
	number, err := tx.NextNumber(ctx, st.project.ID)
	if err != nil {
		return receipt, err
	}
	h.Record = chain.Handoff{Project: st.project.Key, Number: number, Branch: st.branch.Name, Root: root, Author: by.handle, At: by.at.UnixMicro(),
		Note: strings.TrimSpace(send.Note), Tasks: send.Tasks, Stage: send.Stage, Commit: by.commit, Signed: by.signed}
	if st.branch.Head > 0 {
		h.Record.Parents = []chain.Parent{{Number: st.branch.Head, Digest: st.branch.HeadDigest}}
	}
	_, h.Digest = h.Record.Encode()
	if len(released.changed) > 0 {
		outcome := records.Outcome{By: actor.ID, Ending: "sent", Handoff: number, Terms: st.project.Terms}
		// That a send gives back its own locks goes without saying.
		released.events = slices.DeleteFunc(released.events, func(e lockEvent) bool { return e.Kind == lock.GivenBack })
		if err := tx.SetLocks(ctx, st.project.ID, outcome, released.changed, released.told(map[string]any{"handoff": number})...); err != nil {
			return receipt, err
		}
	}
	if _, changed := st.byFolded[rules.File]; changed {
		if err := tx.SetTerms(ctx, st.project.ID, termsOf(st.rules), st.rules.Tasks); err != nil {
			return receipt, err
		}
	}
	if err := tx.AddHandoff(ctx, st.project.ID, h); err != nil {
		return receipt, err
	}
	st.unlocked = len(released.changed)
	receipt.Handoff, err = tx.Handoff(ctx, st.project.ID, number)
	return receipt, err
}

// freePaths makes way for the assets that are moved: the versions with the indices of moved.
func freePaths(ctx context.Context, tx *records.Tx, project int64, versions []records.NewVersion, moved []int) error {
	if len(moved) == 0 {
		return nil
	}
	ids, folded := make([]int64, len(moved)), make([]string, len(moved))
	for i, at := range moved {
		ids[i], folded[i] = versions[at].Asset, versions[at].Folded
	}
	return tx.FreePaths(ctx, project, ids, folded)
}

func entryOf(a *records.Asset, c Change, folded string) *tree.Entry {
	e := &tree.Entry{Key: folded, Asset: a.ID, Version: a.Newest + 1, Content: c.Content, Size: c.Size}
	if c.Path != folded {
		e.Path = c.Path
	}
	if c.Executable {
		e.Mode = tree.Executable
	}
	return e
}

// grow makes the tree that comes of edits and locks the branch. The nodes are made and written before that; where the branch has moved
// meanwhile, they are made again on top of what it holds now.
func (s *Service) grow(ctx context.Context, tx *records.Tx, st *staged, edits []tree.Change, h *records.NewHandoff) (root chunk.Digest, err error) {
	for {
		forest := s.forest(tx, st.project.ID)
		if root, err = forest.Apply(ctx, st.branch.Root, edits); err != nil {
			return root, err
		}
		if err := tx.AddNodes(ctx, st.project.ID, forest.Fresh); err != nil {
			return root, err
		}
		locked, err := tx.MainBranch(ctx, st.project.ID, true)
		if err != nil {
			return root, err
		}
		same := locked.Root == st.branch.Root
		st.branch = locked
		if same {
			h.Assets, h.Size, err = forest.Sum(ctx, root, "", "")
			return root, err
		}
		more, err := st.neighbours(ctx, s.forest(tx, st.project.ID), locked.Root)
		if err != nil {
			return root, err
		}
		if len(more) > 0 {
			return root, &model.Refused{Refusals: more}
		}
	}
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	if len(line) > 200 {
		line = strings.ToValidUTF8(line[:200], "") + "…"
	}
	return line
}
