// Package service holds the use cases: who may do what, in which order, in which transaction. It knows no HTTP and no SQL. What it
// refuses is a *model.Refused (reasons by path) or a *model.Problem (the whole request); any other error is a fault of ours.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"
	lru "github.com/hashicorp/golang-lru/v2"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/store"
)

// Service is safe for concurrent use. It keeps no state of its own: several may share one database and one store.
type Service struct {
	db     *records.DB
	store  store.Store
	log    *slog.Logger
	nodes  *lru.Cache[nodeKey, *tree.Node]
	rules  *lru.Cache[nodeKey, rulesFile]
	covers *lru.Cache[coverKey, coverage]
	stored atomic.Int64 // when content last came, in nanoseconds of the Unix epoch
	// handedOff wakes the keeper of the history.
	handedOff chan struct{}
	news      hub
	feed      feed
	signins   chan struct{}
	comparing atomic.Int64 // passphrases that are being compared, or wait for that
	looks     looks
	ended     chan struct{}
	courier   Courier // nil where nothing leaves the house
	// heard is when each workspace was last noted as heard of, so that it is not written with every request.
	heard *lru.Cache[string, time.Time]
}

// Actor is the signed-in person in whose name something is done. Where Within is not empty, it is the key of the only project that their
// credential is for, and AtMost the most that it may do there.
type Actor struct {
	ID      int64
	Handle  string
	Steward bool
	Within  string
	AtMost  string
	// Credential is the digest of the token that this is done with; zero where the program itself does it.
	Credential chunk.Digest
}

// whole refuses what takes a person, to whom a token for one project is no match.
func (a Actor) whole() error {
	if a.Within == "" {
		return nil
	}
	return model.NewProblem(model.NotAllowed, "sign in as a person with tarn sign-in", "this credential is for the project %s alone", a.Within)
}

// role is what the actor may do in a project where the person has a role.
func (a Actor) role(key, role string) string {
	switch {
	case a.Within == "":
		return role
	case a.Within != key || role == "":
		return ""
	case model.AtLeast(role, a.AtMost):
		return a.AtMost
	}
	return role
}

// New makes a service. cache is a folder for what can be made again; it may be emptied at any time.
func New(db *records.DB, store store.Store, cache string, log *slog.Logger) *Service {
	nodes, err := lru.New[nodeKey, *tree.Node](cachedNodes)
	if err != nil {
		panic(err) // only for a size below 1
	}
	read, err := lru.New[nodeKey, rulesFile](cachedRules)
	if err != nil {
		panic(err)
	}
	covers, err := lru.New[coverKey, coverage](cachedRules)
	if err != nil {
		panic(err)
	}
	heard, err := lru.New[string, time.Time](10_000)
	if err != nil {
		panic(err)
	}
	return &Service{heard: heard, db: db, store: store, log: log, nodes: nodes, rules: read, covers: covers, signins: make(chan struct{}, 2),
		looks: newLooks(cache), ended: make(chan struct{}), handedOff: make(chan struct{}, 1)}
}

// Run carries news from the database to the readers until ctx ends, then ends their streams; beside that it keeps the history in packs,
// seals contents, and does to locks what time does to them. It is called once.
func (s *Service) Run(ctx context.Context) {
	defer close(s.ended)
	var wait sync.WaitGroup
	defer wait.Wait()
	wait.Go(func() { s.keepingHistory(ctx) })
	wait.Go(func() { s.sealing(ctx) })
	wait.Go(func() { s.feeding(ctx) })
	wait.Go(func() { s.keepingTime(ctx) })
	wait.Go(func() { s.lookingAhead(ctx) })
	wait.Go(func() { s.watchingRoom(ctx) })
	if s.courier != nil {
		wait.Go(func() { s.delivering(ctx) })
		wait.Go(func() { s.carrying(ctx, true) })
		wait.Go(func() { s.carrying(ctx, false) })
	}
	s.db.Listen(ctx, s.news.wake)
}

// Ready tells whether the service can work: nil, or what is away, or full.
func (s *Service) Ready(ctx context.Context) error {
	if err := s.db.Ping(ctx); err != nil {
		return unavailable
	}
	free, err := s.store.Free(ctx)
	if err != nil {
		return model.NewProblem(model.Unavailable, "", "the store can't be reached")
	}
	if free >= 0 && free < spare {
		return model.NewProblem(model.DiskFull, "make room: reading works, nothing can be sent", "the store has %s left",
			humanize.IBytes(uint64(free)))
	}
	return nil
}

// Room is how much the store has left, in words, and in bytes; -1 where that is not known.
func (s *Service) Room(ctx context.Context) (string, int64) {
	free, err := s.store.Free(ctx)
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
			s.log.Warn("the store is nearly full", "free", words)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(roomPoll):
		}
	}
}

var unavailable = model.NewProblem(model.Unavailable, "try again in a moment; nothing was lost",
	"the service can't reach its database right now")

func (s *Service) write(ctx context.Context, work func(*records.Tx) error) error {
	return s.explain(s.db.Write(ctx, work))
}

func (s *Service) read(ctx context.Context, work func(*records.Tx) error) error {
	return s.explain(s.db.Read(ctx, work))
}

// explain turns what the layers below report into problems that people can act on.
func (s *Service) explain(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, records.ErrTooLong):
		s.log.Warn("a statement took too long and was given up", "error", err)
		return model.NewProblem(model.TooLarge, "ask for less at once", "that takes the service too long")
	case errors.Is(err, records.ErrNoText):
		return model.NewProblem(model.BadRequest, "take plain text", "there is a zero byte or broken UTF-8 in it")
	case errors.Is(err, records.ErrUnavailable):
		s.log.Error("the database is away", "error", err)
		return unavailable
	case errors.Is(err, store.ErrFull):
		s.log.Error("the store is full", "error", err)
		return model.NewProblem(model.DiskFull, "ask whoever runs it to make room, then run the same command again: what has arrived stays",
			"the service's disk is full")
	}
	return err
}

// project finds a project for the actor and checks their role. To somebody who is not in it, it looks as if it were not there.
func project(ctx context.Context, tx *records.Tx, actor Actor, key, role string) (records.Project, error) {
	p, err := tx.ProjectFor(ctx, key, actor.ID)
	p.Role = actor.role(key, p.Role)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return p, err
	}
	return p, mayWork(p, actor, key, role)
}

// mayWork says whether the actor may do what takes a role in a project. One that is not there has id 0.
func mayWork(p records.Project, actor Actor, key, role string) error {
	if p.ID == 0 || p.Role == "" && !(actor.Steward && role == stewards) {
		return model.NewProblem(model.NotFound, "see tarn project list for yours, or ask its owner to add you",
			"there is no project %q that you belong to", printable(key))
	}
	if role != stewards && !model.AtLeast(p.Role, role) || role == stewards && !actor.Steward && !model.AtLeast(p.Role, model.Lead) {
		need := role
		if role == stewards {
			need = model.Lead
		}
		return model.NewProblem(model.NotAllowed, "ask a lead or an owner of the project", "you are %s in %s, and this takes %s", article(p.Role),
			key, article(need))
	}
	return nil
}

// stewards stands for "a lead of the project or a steward of the service".
const stewards = "steward"

func article(role string) string {
	if strings.ContainsAny(role[:1], "ao") {
		return "an " + role
	}
	return "a " + role
}

// Heard notes that one of the actor's workspaces was heard of, at most once a minute. It is no reason for anything to fail.
func (s *Service) Heard(ctx context.Context, actor Actor, workspace string) {
	if !validID(workspace) {
		return
	}
	key := fmt.Sprintf("%d %s", actor.ID, workspace) // whoever else names it
	if last, ok := s.heard.Get(key); ok && time.Since(last) < time.Minute {
		return
	}
	s.heard.Add(key, time.Now())
	if err := s.read(ctx, func(tx *records.Tx) error { return tx.Heard(ctx, workspace, actor.ID) }); err != nil {
		s.log.Debug("a workspace could not be noted as heard of", "error", err)
	}
}

// workspace finds one of the actor's workspaces in a project. "console" stands for their seat at the console.
func workspace(ctx context.Context, tx *records.Tx, actor Actor, p records.Project, id string) (records.Workspace, error) {
	if id == model.KindConsole {
		seat, err := tx.ConsoleSeat(ctx, newID(), p.ID, actor.ID)
		if err != nil {
			return records.Workspace{}, err
		}
		id = seat
	}
	if !validID(id) {
		return records.Workspace{}, unknownWorkspace
	}
	w, err := tx.WorkspaceByID(ctx, id)
	if errors.Is(err, records.ErrNotFound) || err == nil && (w.Project != p.ID || w.PersonID != actor.ID) {
		return w, unknownWorkspace
	}
	return w, err
}

var unknownWorkspace = model.NewProblem(model.NotFound, "join the project again with tarn join --here",
	"the service does not know this workspace as yours")
