// Package service holds the use cases: who may do what, in which order, in which transaction. It knows no HTTP and no SQL. What it
// refuses is a *model.Refused (reasons by path) or a *model.Problem (the whole request); any other error is a fault of ours.
package service

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/branching"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/service/looking"
	"kettletarn/internal/service/metering"
	"kettletarn/internal/service/people"
	"kettletarn/internal/service/reviewing"
	"kettletarn/internal/service/ruling"
	"kettletarn/internal/service/sharing"
	"kettletarn/internal/service/showing"
	"kettletarn/internal/service/telling"
	"kettletarn/internal/store"
)

// Service is safe for concurrent use. It keeps no state of its own: several may share one database and one store.
type Service struct {
	*ground.Ground
	*contentsRoom
	*rulingRoom
	*locksRoom
	*handoffsRoom
	*peopleRoom
	*historyRoom
	*branchingRoom
	*reviewingRoom
	*lookingRoom
	*tellingRoom
	*keepingRoom
	*showingRoom
	*meteringRoom
	*sharingRoom
}

// The rooms, under names of their own: what they can do is what the service can do.
type (
	contentsRoom  = contents.Room
	rulingRoom    = ruling.Room
	locksRoom     = locks.Room
	handoffsRoom  = handoffs.Room
	peopleRoom    = people.Room
	historyRoom   = history.Room
	branchingRoom = branching.Room
	reviewingRoom = reviewing.Room
	lookingRoom   = looking.Room
	tellingRoom   = telling.Room
	keepingRoom   = keeping.Room
	showingRoom   = showing.Room
	meteringRoom  = metering.Room
	sharingRoom   = sharing.Room
)

// New makes a service. cache is a folder for what can be made again; it may be emptied at any time.
func New(db *records.DB, store store.Store, folder string, log *slog.Logger) *Service {
	ground := ground.New(db, store, log)
	contents := contents.New(ground)
	rules, looks := ruling.New(contents), looking.New(contents, folder)
	locks := locks.New(rules)
	handoffs, branches, reviews := handoffs.New(locks, looks), branching.New(ground), reviewing.New(looks)
	return &Service{ground, contents, rules, locks, handoffs, people.New(locks), history.New(contents),
		branches, reviews, looks,
		telling.New(ground), keeping.New(rules, looks), showing.New(contents), metering.New(ground), sharing.New(handoffs, branches, reviews)}
}

// Run carries news from the database to the readers until ctx ends, then ends their streams; beside that it keeps the history in packs,
// seals contents, and does to locks what time does to them. It is called once.
func (s *Service) Run(ctx context.Context) {
	defer close(s.Ended)
	var wait sync.WaitGroup
	defer wait.Wait()
	wait.Go(func() { s.Listing(ctx) })
	wait.Go(func() { s.Gathering(ctx, s.Bell.Rung) })
	wait.Go(func() { s.KeepingHistory(ctx) })
	wait.Go(func() { s.Sealing(ctx, s.Bell.Rung) })
	wait.Go(func() { s.Feeding(ctx) })
	wait.Go(func() { s.KeepingTime(ctx, s.Bell.Rung) })
	wait.Go(func() { s.LookingAhead(ctx) })
	wait.Go(func() { s.Merging(ctx) })
	wait.Go(func() { s.watchingRoom(ctx) })
	wait.Go(func() { s.Metering(ctx, s.Bell.Rung) })
	if s.House != nil {
		wait.Go(func() { s.KeepingGroups(ctx) })
	}
	if s.Courier != nil {
		wait.Go(func() { s.Delivering(ctx) })
		wait.Go(func() { s.Carrying(ctx, true) })
		wait.Go(func() { s.Carrying(ctx, false) })
	}
	s.DB.Listen(ctx, s.Bell.Wake)
}

// Ready tells whether the service can work: nil, or what is away, or full.
func (s *Service) Ready(ctx context.Context) error {
	if err := s.DB.Ping(ctx); err != nil {
		return ground.Unavailable
	}
	free, err := s.Store.Free(ctx)
	if err != nil {
		return model.NewProblem(model.Unavailable, "", "the store can't be reached")
	}
	if free >= 0 && free < ground.Spare {
		return model.NewProblem(model.DiskFull, "make room: reading works, nothing can be sent", "the store has %s left",
			humanize.IBytes(uint64(free)))
	}
	return nil
}

// Room is how much the store has left, in words, and in bytes; -1 where that is not known.
func (s *Service) Room(ctx context.Context) (string, int64) {
	free, err := s.Store.Free(ctx)
	if err != nil || free < 0 {
		return "not known", -1
	}
	return humanize.IBytes(uint64(free)), free
}

// Room is looked at so often, and below so many bytes it is warned of, again and again.
const (
	roomPoll  = time.Minute
	roomWarn  = 15 * time.Minute
	roomShort = 2 << 30
)

// watchingRoom warns in the log while there is still time to do something.
func (s *Service) watchingRoom(ctx context.Context) {
	warned := time.Time{}
	for {
		if words, free := s.Room(ctx); free >= 0 && free < roomShort && time.Since(warned) > roomWarn {
			warned = time.Now()
			s.Log.Warn("the store is nearly full", "free", words)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(roomPoll):
		}
	}
}
