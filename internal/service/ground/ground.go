// Package ground is what every room of the service stands on: who may do something, transactions and what becomes of their errors, the
// trees and states of a project, and the words that all rooms share. It decides nothing about assets.
package ground

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/store"
)

// Ground is what every room of the service stands on: the records, the store, and what is kept of them in memory.
type Ground struct {
	DB    *records.DB
	Store store.Store
	Log   *slog.Logger
	// Courier takes news out of the house; nil where nobody does.
	Courier Courier
	// Settings are those in force, to be shown to stewards, and Began when the service began. They are set before the service is used.
	Settings []model.Setting
	Began    time.Time
	// LimitOfAll is the most bytes that all projects together may have in the store, 0 for no limit. It is set before the service is used.
	LimitOfAll int64
	// Grace is how long a deleted project can be brought back. It is set before the service is used.
	Grace time.Duration
	nodes *lru.Cache[nodeKey, *tree.Node]
	// moved is when content last came or went, in nanoseconds of the Unix epoch.
	moved   atomic.Int64
	traffic traffic
	life    atomic.Pointer[string]
	// handedOff wakes the keeper of the history.
	HandedOff chan struct{}
	// heard is when each workspace was last noted as heard of, so that it is not written with every request.
	heard *lru.Cache[string, time.Time]
}

// DefaultGrace is how long a deleted project can be brought back where nobody said otherwise.
const DefaultGrace = 10 * 24 * time.Hour

// NewGround makes the ground of a service.
func New(db *records.DB, store store.Store, log *slog.Logger) *Ground {
	return &Ground{DB: db, Store: store, Log: log, Grace: DefaultGrace, Began: time.Now().UTC(), nodes: Cache[nodeKey,
		*tree.Node](cachedNodes), heard: Cache[string,
		time.Time](10_000),
		HandedOff: make(chan struct{}, 1)}
}

// Cache keeps what was used last.
func Cache[K comparable, V any](size int) *lru.Cache[K, V] {
	c, err := lru.New[K, V](size)
	if err != nil {
		panic(err) // only for a size below 1
	}
	return c
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
	// Outside is what the link of a showing shows to whoever has it, who is no person here; nil for people.
	Outside *Outside
}

// Whole refuses what takes a person, to whom a token for one project is no match.
func (a Actor) Whole() error {
	if a.Within == "" {
		return nil
	}
	return model.NewProblem(model.NotAllowed, "sign in as a person with tarn sign-in", "this credential is for the project %s alone", a.Within)
}

// RunsTheService refuses whoever is no steward.
func (a Actor) RunsTheService() error {
	if a.Steward {
		return nil
	}
	return model.NewProblem(model.NotAllowed, "ask whoever runs the service", "only a steward does that")
}

// Role is what the actor may do in a project where the person has a role.
func (a Actor) Role(key, role string) string {
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

// Unavailable is what people hear while the database is away.
var Unavailable = model.NewProblem(model.Unavailable, "try again in a moment; nothing was lost",
	"the service can't reach its database right now")

// Write runs work in a transaction, again where PostgreSQL ends that for a deadlock; see [records.DB.Write].
func (s *Ground) Write(ctx context.Context, work func(*records.Tx) error) error {
	return s.Explain(s.DB.Write(ctx, work))
}

// Use runs work on one connection, each statement by itself; see [records.DB.Use].
func (s *Ground) Use(ctx context.Context, work func(*records.Tx) error) error {
	return s.Explain(s.DB.Use(ctx, work))
}

// Explain turns what the layers below report into problems that people can act on.
func (s *Ground) Explain(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, records.ErrTooLong):
		s.Log.Warn("a statement took too long and was given up", "error", err)
		return model.NewProblem(model.TooLarge, "ask for less at once", "that takes the service too long")
	case errors.Is(err, records.ErrNoText):
		return model.NewProblem(model.BadRequest, "take plain text", "there is a zero byte or broken UTF-8 in it")
	case errors.Is(err, records.ErrUnavailable):
		s.Log.Error("the database is away", "error", err)
		return Unavailable
	case errors.Is(err, store.ErrFull):
		s.Log.Error("the store is full", "error", err)
		return model.NewProblem(model.DiskFull, "ask whoever runs it to make room, then run the same command again: what has arrived stays",
			"the service's disk is full")
	}
	return err
}

// Project finds a project for the actor and checks their role. To somebody who is not in it, it looks as if it were not there.
func Project(ctx context.Context, tx *records.Tx, actor Actor, key, role string) (records.Project, error) {
	p, err := tx.ProjectFor(ctx, key, actor.ID)
	p.Role = actor.Role(key, p.Role)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return p, err
	}
	return p, MayWork(p, actor, key, role)
}

// MayWork says whether the actor may do what takes a role in a project. One that is not there has id 0.
func MayWork(p records.Project, actor Actor, key, role string) error {
	if p.ID == 0 || p.Role == "" && !(actor.Steward && role == LeadOrSteward) {
		return model.NewProblem(model.NotFound, "see tarn project list for yours, or ask its owner to add you",
			"there is no project %q that you belong to", Printable(key))
	}
	if role != LeadOrSteward && !model.AtLeast(p.Role, role) || role == LeadOrSteward && !actor.Steward && !model.AtLeast(p.Role, model.Lead) {
		need := role
		if role == LeadOrSteward {
			need = model.Lead
		}
		return model.NewProblem(model.NotAllowed, "ask a lead or an owner of the project", "you are %s in %s, and this takes %s", article(p.Role),
			key, article(need))
	}
	if p.Archived && role != model.Viewer && role != LeadOrSteward {
		return model.NewProblem(model.Archived, "an owner brings it back with tarn project archive "+key+" --back",
			"%s is archived, and only looked at", key)
	}
	return nil
}

// LeadOrSteward stands for "a lead of the project or a steward of the service".
const LeadOrSteward = "steward"

func article(role string) string {
	if strings.ContainsAny(role[:1], "ao") {
		return "an " + role
	}
	return "a " + role
}

// Heard notes that one of the actor's workspaces was heard of, at most once a minute. It is no reason for anything to fail.
func (s *Ground) Heard(ctx context.Context, actor Actor, workspace string) {
	if !ValidID(workspace) {
		return
	}
	key := fmt.Sprintf("%d %s", actor.ID, workspace) // whoever else names it
	if last, ok := s.heard.Get(key); ok && time.Since(last) < time.Minute {
		return
	}
	s.heard.Add(key, time.Now())
	if err := s.Use(ctx, func(tx *records.Tx) error { return tx.Heard(ctx, workspace, actor.ID) }); err != nil {
		s.Log.Debug("a workspace could not be noted as heard of", "error", err)
	}
}

// Workspace finds one of the actor's workspaces in a project. "console" stands for their seat at the console.
func Workspace(ctx context.Context, tx *records.Tx, actor Actor, p records.Project, id string) (records.Workspace, error) {
	if id == model.KindConsole {
		seat, err := tx.ConsoleSeat(ctx, NewID(), p.ID, actor.ID)
		if err != nil {
			return records.Workspace{}, err
		}
		id = seat
	}
	if !ValidID(id) {
		return records.Workspace{}, UnknownWorkspace
	}
	w, err := tx.WorkspaceByID(ctx, id)
	if errors.Is(err, records.ErrNotFound) || err == nil && (w.Project != p.ID || w.PersonID != actor.ID) {
		return w, UnknownWorkspace
	}
	return w, err
}

// On is a workspace as a request says that it is: on that branch, unless it says none.
func On(w records.Workspace, branch string) records.Workspace {
	if branch != "" {
		w.Branch = branch
	}
	return w
}

// UnknownWorkspace is for a workspace that is not there, or is somebody else's.
var UnknownWorkspace = model.NewProblem(model.NotFound, "join the project again with tarn join --here",
	"the service does not know this workspace as yours")

// restBehind is how long nobody brought or fetched content before the service does work of its own: reading everything through would slow
// a send.
const restBehind = 2 * time.Second

// Busy notes that somebody brings or fetches content.
func (s *Ground) Busy() { s.moved.Store(time.Now().UnixNano()) }

// Rested is how long nobody has done so.
func (s *Ground) Rested() time.Duration { return time.Since(time.Unix(0, s.moved.Load())) }

// Page is a part of a list: so many rows from a position on, or all of them.
type Page = records.Page

// Quiet reports whether that is long enough for work that a send would wait for.
func (s *Ground) Quiet() bool { return s.Rested() > restBehind }

// WakeHistory tells the keeper of the history that something was handed off.
func (s *Ground) WakeHistory() {
	select {
	case s.HandedOff <- struct{}{}:
	default:
	}
}
