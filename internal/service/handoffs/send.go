// Package handoffs makes handoffs: sends and their checks, pasts that are brought in, rollbacks, exceptions to the rules. All of them go
// the way that change.go shows from top to bottom; what is judged is judged in core/change.
package handoffs

import (
	"context"
	"errors"
	"slices"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/service/looking"
)

// Room is where handoffs are made.
type Room struct {
	*locks.Room
	looks *looking.Room
}

// New makes the room. What was handed off is looked at in looks.
func New(locks *locks.Room, looks *looking.Room) *Room { return &Room{locks, looks} }

// Change is what a send does to one asset.
type Change = change.Change

// Send is a handoff that somebody wants to make. Key was written down by the client before; TakeFree takes the locks that nobody
// holds for the length of this send.
type Send struct {
	Key       string
	Workspace string
	model.About
	KeepLocks bool
	TakeFree  bool
	Changes   []Change
	// Older says that going back to the content of an older version is meant.
	Older bool `json:",omitempty"`
	// Branch is the one that the workspace is on; "" for the one that it was last said to be on.
	Branch string `json:",omitempty"`
}

// Receipt is the answer to a send. Locks are those kept, with their present fences.
type Receipt struct {
	Handoff model.Handoff
	Locks   []model.Lock
}

func (send *Send) check() error {
	switch {
	case len(send.Changes) == 0:
		return model.NewProblem(model.BadRequest, "change something first", "there is nothing to send")
	case len(send.Changes) > ground.MaxPaths:
		return model.NewProblem(model.TooLarge, "send it in parts", "one handoff has at most %d assets", ground.MaxPaths)
	}
	return checkAbout(send.About)
}

// Send makes a handoff of all changes, or refuses with every reason. The same key again gets the same answer. bring, where not nil,
// gives content that comes with it, until io.EOF.
func (s *Room) Send(ctx context.Context, actor ground.Actor, key string, send Send,
	bring func() (pack.Record, error)) (receipt Receipt, err error) {
	if err := send.check(); err != nil {
		return receipt, err
	}
	if !ground.ValidID(send.Key) {
		return receipt, model.NewProblem(model.BadRequest, "", "the key of a send is a UUID")
	}
	request, err := send.fingerprint()
	if err != nil {
		return receipt, err
	}
	var p records.Project
	var before records.SendKey
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		if p, err = ground.Project(ctx, tx, actor, key, model.Artist); err != nil {
			return err
		}
		before, err = tx.SendKey(ctx, p.ID, send.Key)
		return err
	}); err != nil {
		return receipt, err
	}
	if before.PersonID == 0 {
		if bring != nil {
			if _, err := s.StorePack(ctx, p, contents.Checked(bring, make([]byte, 0, chunk.Max))); err != nil {
				return receipt, err
			}
		}
		if err := s.Adopt(ctx, actor, p, send.Changes); err != nil {
			// What stands in the way otherwise is said first: all of it at once, as CheckSend does.
			var refused *model.Refused
			if _, checked := s.CheckSend(ctx, actor, key, Question{Send: send}); errors.As(checked, &refused) {
				return receipt, refused
			}
			return receipt, err
		}
	}
	if err := s.readRulesOf(ctx, p, send.Changes); err != nil {
		return receipt, err
	}
	err = s.KnowingRules(ctx, func() error {
		return s.Write(ctx, func(tx *records.Tx) (err error) {
			receipt, err = s.makeHandoff(ctx, tx, p, actor, key, send, request)
			return err
		})
	})
	if err == nil {
		s.WakeHistory()
		s.looks.LookAhead(p, send.Changes)
	}
	return receipt, err
}

func (send *Send) manner() change.Manner {
	return change.Manner{TakeFree: send.TakeFree, KeepLocks: send.KeepLocks, Older: send.Older}
}

// makeHandoff is the transaction of a send. It locks in the order of docs/architecture.md: gate, assets by id, branch, counter.
func (s *Room) makeHandoff(ctx context.Context, tx *records.Tx, p records.Project, actor ground.Actor, key string, send Send,
	request chunk.Digest) (receipt Receipt, err error) {
	before, fresh, err := tx.ClaimSendKey(ctx, p.ID, send.Key, actor.ID, request[:])
	if err != nil {
		return receipt, err
	}
	if !fresh {
		return s.repeat(ctx, tx, p, actor, before, request)
	}
	if err := tx.Gate(ctx, p.ID, changesRules(send.Changes)); err != nil {
		return receipt, err
	}
	// Looked at behind the gate: the person may have been removed while this waited.
	if p, err = ground.Project(ctx, tx, actor, key, model.Artist); err != nil {
		return receipt, err
	}
	w, err := ground.Workspace(ctx, tx, actor, p, send.Workspace)
	if err != nil {
		return receipt, err
	}
	l, err := s.load(ctx, tx, p, ground.On(w, send.Branch), send.Changes, send.manner(), true)
	if err != nil {
		return receipt, err
	}
	plan, err := l.judge(ctx, tx)
	if err != nil {
		return receipt, err
	}
	receipt, unlocked, err := s.writePlan(ctx, tx, l, plan, actor, send, origin{author: actor.ID, handle: actor.Handle, at: l.state.Terms.Now})
	if err != nil {
		return receipt, err
	}
	return receipt, tx.AddEvent(ctx, p.ID, actor.ID, news.HandoffSent,
		map[string]any{"note": ground.FirstLine(receipt.Handoff.Note), "count": len(plan.Versions),
			"paths": plan.Paths(100), "unlocked": unlocked, "handoff": receipt.Handoff.Number, "branch": receipt.Handoff.Branch,
			"edits": plan.Edits()})
}

// readRulesOf reads the rules that changes bring, so that the transaction has them.
func (s *Room) readRulesOf(ctx context.Context, p records.Project, changes []Change) error {
	for _, c := range changes {
		if c.Gone || assetpath.Fold(c.Path) != rules.File {
			continue
		}
		var found map[chunk.Digest]records.Content
		if err := s.Use(ctx, func(tx *records.Tx) (err error) {
			found, err = tx.Contents(ctx, p.ID, []chunk.Digest{c.Content}, false)
			return err
		}); err != nil {
			return err
		}
		if content, known := found[c.Content]; known {
			return s.ReadRules(ctx, content)
		}
	}
	return nil
}

func changesRules(changes []Change) bool {
	return slices.ContainsFunc(changes, func(c Change) bool { return assetpath.Fold(c.Path) == rules.File })
}

// seat is a person in one of their workspaces.
func seat(w records.Workspace) lock.Place {
	return lock.Place{Handle: w.Handle, WorkspaceID: w.ID, Workspace: w.Name}
}

func (s *Room) repeat(ctx context.Context, tx *records.Tx, p records.Project, actor ground.Actor, before records.SendKey,
	request chunk.Digest) (receipt Receipt, err error) {
	switch {
	case before.PersonID != actor.ID || before.Handoff > 0 && string(before.Request) != string(request[:]):
		return receipt, model.NewProblem(model.KeyReused, "run the command again", "the key of this send was used for another one")
	case before.Handoff == 0:
		return receipt, model.NewProblem(model.KeyClosed, "run the command again", "this send was given up before it arrived")
	}
	receipt.Handoff, err = tx.Handoff(ctx, p.ID, before.Handoff)
	return receipt, err
}

// CloseSend finds out for good what became of a send: the handoff, or nothing, now and later.
func (s *Room) CloseSend(ctx context.Context, actor ground.Actor, key, sendKey string) (h *model.Handoff, err error) {
	if !ground.ValidID(sendKey) {
		return nil, model.NewProblem(model.BadRequest, "", "the key of a send is a UUID")
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
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
