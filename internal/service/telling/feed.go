package telling

import (
	"context"
	"strings"
	"sync"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// feed reads the events once for all streams of this service, and hands them to those of their project. A stream that comes reads what lies
// behind it from the records by itself, and is handed what comes after.
type feed struct {
	mu      sync.Mutex
	streams map[int64]map[*stream]bool // by project
}

// maxBehind is how many events wait for one stream. One that is slower loses them here, and reads them from the records when it gets there.
const maxBehind = 1000

// stream is somebody who hears of a project. What is below mu is between the feed and them.
type stream struct {
	project    int64
	credential chunk.Digest
	wake       chan struct{} // holds one

	mu     sync.Mutex
	events []*happening
	// behind says that there are events that are not among those; again, that it is to be looked at once more whether they may hear any.
	behind, again bool
}

func (f *feed) join(project int64, credential chunk.Digest) *stream {
	st := &stream{project: project, credential: credential, wake: make(chan struct{}, 1), behind: true}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.streams == nil {
		f.streams = map[int64]map[*stream]bool{}
	}
	if f.streams[project] == nil {
		f.streams[project] = map[*stream]bool{}
	}
	f.streams[project][st] = true
	return st
}

func (f *feed) leave(st *stream) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if delete(f.streams[st.project], st); len(f.streams[st.project]) == 0 {
		delete(f.streams, st.project)
	}
}

// each calls do for the streams of a project, or, with 0, for all, and wakes those for which it returns true.
func (f *feed) each(project int64, do func(*stream) bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for p, streams := range f.streams {
		if project != 0 && p != project {
			continue
		}
		for st := range streams {
			st.mu.Lock()
			if do(st) {
				select {
				case st.wake <- struct{}{}:
				default:
				}
			}
			st.mu.Unlock()
		}
	}
}

// hand gives events, in order, to whom they are for. Some change who may hear of a project, and those of no project may.
func (f *feed) hand(list []records.ProjectEvent) {
	of := map[int64][]*happening{}
	turns := map[int64]bool{}
	for _, event := range list {
		about, _, _ := strings.Cut(event.Kind, ".")
		turn := about == "member" || about == "project" || about == "person" || about == "token"
		turns[event.Project] = turns[event.Project] || turn
		of[event.Project] = append(of[event.Project], &happening{ProjectEvent: event})
	}
	for project, events := range of {
		if project == 0 && !turns[0] {
			continue
		}
		f.each(project, func(st *stream) bool {
			st.again = st.again || turns[project]
			switch {
			case project == 0 || st.behind:
			case len(st.events)+len(events) <= maxBehind:
				st.events = append(st.events, events...)
			default:
				st.events, st.behind = nil, true
			}
			return true
		})
	}
}

// credentials are those that streams were opened with.
func (f *feed) credentials() (list [][]byte) {
	known := map[chunk.Digest]bool{{}: true}
	f.each(0, func(st *stream) bool {
		if !known[st.credential] {
			known[st.credential] = true
			list = append(list, st.credential[:])
		}
		return false
	})
	return list
}

// take is what came for the stream since it was asked last.
func (st *stream) take() (events []*happening, behind, again bool) {
	st.mu.Lock()
	defer st.mu.Unlock()
	events, behind, again = st.events, st.behind, st.again
	st.events, st.behind, st.again = nil, false, false
	return events, behind, again
}

// Feeding reads the events of all projects until ctx ends, and looks now and then whether the credentials hold that streams were opened
// with.
func (s *Room) Feeding(ctx context.Context) {
	var cursor records.Cursor
	started, looked, next, woke := false, time.Time{}, time.Duration(0), time.Now()
	for ctx.Err() == nil {
		woken := s.Bell.wait()
		var list []records.ProjectEvent
		var ended map[chunk.Digest]bool
		err := s.Use(ctx, func(tx *records.Tx) (err error) {
			if !started {
				if cursor, err = tx.EventsNow(ctx); err != nil {
					return err
				}
				started = true
				s.feed.each(0, func(st *stream) bool { // what was before that, each reads by itself
					st.events, st.behind = nil, true
					return true
				})
			}
			if list, cursor, err = tx.EventsOfAll(ctx, cursor, maxBehind/2); err != nil || time.Since(looked) < newsPoll {
				return err
			}
			looked = time.Now()
			ended, next, err = tx.EndedTokens(ctx, s.feed.credentials())
			return err
		})
		s.feed.hand(list)
		if len(ended) > 0 {
			s.feed.each(0, func(st *stream) bool {
				st.again = st.again || ended[st.credential]
				return st.again
			})
		}
		if err == nil && len(list) == maxBehind/2 {
			continue
		}
		wait := newsPoll
		if err == nil && time.Since(woke) > newsAfter {
			wait = min(max(next, newsPoll), newsRest)
		}
		select {
		case <-ctx.Done():
		case <-woken:
			woke = time.Now()
		case <-time.After(wait):
		}
	}
}

// mayHear looks whether somebody may hear of a project: as a member, and as long as their sign-in lasts.
func mayHear(ctx context.Context, tx *records.Tx, actor ground.Actor, key string) (records.Project, error) {
	p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
	if err != nil || actor.Credential == (chunk.Digest{}) {
		return p, err
	}
	holds, err := tx.TokenHolds(ctx, actor.Credential)
	if err == nil && !holds {
		err = model.NewProblem(model.SignInExpired, ground.Again, "this sign-in has ended")
	}
	return p, err
}
