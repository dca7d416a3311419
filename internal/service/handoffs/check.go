package handoffs

import (
	"context"
	"errors"

	"github.com/dustin/go-humanize"
	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/ground"
)

// Question is a send to be looked at before its content goes: the chunks that it may bring, and how many bytes that may be. Rules is the
// text of the rules that it brings; where that is nil, what only they decide is not looked at as long as their content is not here.
type Question struct {
	Send   Send
	Chunks []chunk.Digest
	Coming int64
	Rules  []byte
}

// Check is what the project lacks of it, and what content the service lost and would like back.
type Check struct {
	Missing []chunk.Digest
	Chunks  []chunk.Digest
	Wanted  []chunk.Digest
}

// CheckSend tells what would be refused, before a byte of content goes, and else what the project lacks.
func (s *Room) CheckSend(ctx context.Context, actor ground.Actor, key string, q Question) (c Check, err error) {
	send := q.Send
	if send.Note == "" {
		send.Note = "checked before its note was written"
	}
	if err := send.check(); err != nil {
		return c, err
	}
	if len(q.Chunks) > contents.MaxDigests {
		return c, model.NewProblem(model.TooLarge, "", "ask about at most %d chunks at once", contents.MaxDigests)
	}
	err = s.KnowingRules(ctx, func() error {
		return s.Use(ctx, func(tx *records.Tx) error {
			p, err := ground.Project(ctx, tx, actor, key, model.Artist)
			if err != nil {
				return err
			}
			w, err := seatOf(ctx, tx, actor, p, send.Workspace)
			if err != nil {
				return err
			}
			l, err := s.load(ctx, tx, p, ground.On(w, send.Branch), send.Changes, send.manner(), false)
			if err != nil {
				return err
			}
			if l.state.Unread && q.Rules != nil {
				l.state.Unread = false
				l.state.Rules, l.state.Broken = rules.Parse(q.Rules)
				if l.state.Broken != nil {
					l.state.Rules = rules.Default()
				}
			}
			plan, err := l.judge(ctx, tx)
			if err != nil {
				return err
			}
			c.Missing = plan.Missing
			if c.Chunks, err = contents.Lacking(ctx, tx, p.ID, q.Chunks); err != nil {
				return err
			}
			if c.Wanted, err = tx.Damaged(ctx, p.ID, ground.MaxWanted); err != nil {
				return err
			}
			return s.room(ctx, tx, p, q.Coming)
		})
	})
	return c, err
}

// seatOf is workspace for what is only looked at: a seat at the console that was never taken is not made.
func seatOf(ctx context.Context, tx *records.Tx, actor ground.Actor, p records.Project, id string) (records.Workspace, error) {
	if id == model.KindConsole {
		found, err := tx.FindConsoleSeat(ctx, p.ID, actor.ID)
		if errors.Is(err, records.ErrNotFound) {
			return records.Workspace{Handle: actor.Handle, ID: uuid.Nil.String(), Branch: model.FirstBranch}, nil
		}
		if err != nil {
			return records.Workspace{}, err
		}
		id = found
	}
	return ground.Workspace(ctx, tx, actor, p, id)
}

// room compares what is coming with what there is room for.
func (s *Room) room(ctx context.Context, tx *records.Tx, p records.Project, coming int64) error {
	if coming <= 0 {
		return nil
	}
	size := humanize.IBytes(uint64(coming))
	if p.Limit > 0 {
		stored, err := tx.Stored(ctx, p.ID)
		if err != nil {
			return err
		}
		if stored+coming > p.Limit {
			return model.NewProblem(model.LimitReached, "ask whoever runs the service, a steward, to raise the limit, or send less",
				"this send brings up to %s, and %s has %s left of its limit of %s", size, p.Key,
				humanize.IBytes(uint64(max(p.Limit-stored, 0))), humanize.IBytes(uint64(p.Limit)))
		}
	}
	free, err := s.Store.Free(ctx)
	if err == nil && free >= 0 && coming > free-ground.Spare {
		s.Log.Warn("a send was refused for want of room", "project", p.Key, "coming", size, "free", humanize.IBytes(uint64(free)))
		return model.NewProblem(model.DiskFull, "ask whoever runs it to make room, then run the same command again",
			"this send brings up to %s, and the service has room for %s", size, humanize.IBytes(uint64(max(free-ground.Spare, 0))))
	}
	return err
}
