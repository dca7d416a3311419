// Package lock decides what may happen to the lock of an asset: state and request in, new state and events, or a refusal, out. It is
// pure: time comes in as an argument, and whoever stores the state does so in the transaction in which it was read.
//
// A lock is one per asset over all branches. It is free, held by a person in one of their workspaces, or, being free, offered to the one
// whose turn it is in its line. Fence grows with every grant and every loss, so that what a former holder still does is told apart from
// what the present one does.
package lock

import (
	"slices"
	"time"

	"kettletarn/internal/core/model"
)

// Place is a person together with one of their workspaces.
type Place struct {
	Handle      string
	WorkspaceID string
	Workspace   string
}

// State is the lock of one asset. Holder is the zero Place when it is free. Diverged is the version that the holder works from, where they
// took it knowingly though a newer one was there, and else 0. Line has those who wait, the next one first; Asks are the open ones to the
// present holder.
type State struct {
	Path     string
	Holder   Place
	Since    time.Time
	Note     string
	Fence    int64
	Newest   int
	Diverged int
	Line     []Waiter
	Asks     []Ask
}

// Waiter is somebody who waits. Until, where it is set, is how long the lock stands offered to them: at most one of a line has it, the
// first, while the lock is free. Passed says that they let an offer lapse since the lock came free.
type Waiter struct {
	Place
	Since  time.Time
	Note   string
	Passed bool
	Until  time.Time
}

// Ask is somebody's request to the holder to let go. Late says that the asker was told that no answer came.
type Ask struct {
	From   string
	Reason string
	At     time.Time
	Late   bool
}

// Terms are the time of a request, and what a project's rules say of its locks: how long an offer stands, when an ask counts as
// unanswered, and whether having an old version only warns.
type Terms struct {
	Now          time.Time
	OfferFor     time.Duration
	AnswerWithin time.Duration
	BehindWarns  bool
}

// Kinds of event.
const (
	Taken      = "lock.taken"      // Person has it
	Brought    = "lock.brought"    // Person has it in another workspace; Other was the one before
	GivenBack  = "lock.given-back" // by Person
	Overridden = "lock.overridden" // taken away from Person by Other; Word says why
	Waits      = "lock.waits"      // Person joined the line; Other holds it, or has it offered
	Left       = "lock.left"       // Person left the line
	Offered    = "lock.offered"    // to Person, until Until
	PassedOver = "lock.passed-over"
	Asked      = "lock.asked"      // Person asks Other, the holder; Word says why
	Given      = "lock.given"      // by Person; it is offered to Other
	Skipped    = "lock.skipped"    // Person stood before Other in the line, who got it
	NotYet     = "lock.not-yet"    // Person answers Other; Word says why, Until when
	Unanswered = "lock.unanswered" // Person asked Other, and got no answer
	Reminded   = "lock.forgotten"  // Person holds it, and seems to have forgotten it
)

// Event is one thing that happened to a lock. Which field means what stands beside the kinds.
type Event struct {
	Kind   string
	Person string
	Other  string
	Word   string
	Until  time.Time
}

// Free reports whether nobody holds it.
func (s State) Free() bool { return s.Holder == Place{} }

// OfferedTo is who may take it next, while it is free, and until when; "" for anybody.
func (s State) OfferedTo() (handle string, until time.Time) {
	if s.Free() && len(s.Line) > 0 && !s.Line[0].Until.IsZero() {
		return s.Line[0].Handle, s.Line[0].Until
	}
	return "", time.Time{}
}

// InLine is a person's place in the line, from 1; 0 where they are not in it.
func (s State) InLine(handle string) int {
	return 1 + slices.IndexFunc(s.Line, func(w Waiter) bool { return w.Handle == handle })
}

// Request asks for a lock. Have is the version in the workspace, 0 for none; it has to be the newest of its branch, unless WillUpdate says
// that the newest is brought next, and it has to descend from the newest of every other live branch: Lacks has those that it does not
// descend from, and which it would not with that update either. Diverge says that the person knows all this. Wait joins the line where
// somebody else has it; Bring moves one's own lock here from another workspace.
type Request struct {
	Who        Place
	Have       int
	WillUpdate bool
	Diverge    bool
	Wait       bool
	Bring      bool
	Note       string
	Lacks      []Newest
}

// Newest is what a branch has of an asset.
type Newest struct {
	Branch  string
	Version int
	// Gone says that it was deleted there.
	Gone bool
}

// from is the version that the person goes on from.
func (q Request) from(s State) int {
	if q.WillUpdate {
		return s.Newest
	}
	return q.Have
}

// strays reports whether somebody has something newer that the person does not go on from.
func (q Request) strays(s State) bool { return q.from(s) != s.Newest || len(q.Lacks) > 0 }

// Take grants a lock that is free, or offered to who asks. Taking what one holds already changes nothing.
func (t Terms) Take(s State, q Request) (State, []Event, *model.Refusal) {
	s, events := t.Tick(s)
	offered, _ := s.OfferedTo()
	mine := !s.Free() && s.Holder.Handle == q.Who.Handle
	switch {
	case !s.Free() && !mine, offered != "" && offered != q.Who.Handle:
		if !q.Wait {
			return s, events, t.taken(s, q.Who.Handle)
		}
		s, more := t.join(s, q.Who, q.Note)
		return s, append(events, more...), nil
	case mine && s.Holder.WorkspaceID != q.Who.WorkspaceID && !q.Bring:
		return s, events, elsewhere(s)
	case q.strays(s) && !q.Diverge && !t.BehindWarns && !(mine && s.Diverged == q.from(s) && s.Diverged > 0):
		if q.from(s) == s.Newest {
			return s, events, apart(s.Path, s.Newest, q.Lacks)
		}
		r := Behind(s.Path, q.Have, s.Newest)
		if q.Have > 0 {
			r.Remedy = "run tarn update first, or lock it with --diverge to go on from yours knowingly"
		}
		return s, events, r
	case mine && s.Holder.WorkspaceID == q.Who.WorkspaceID:
		return s, events, nil
	}
	s.Diverged = 0
	if q.strays(s) {
		s.Diverged = q.from(s)
	}
	if mine {
		before := s.Holder.Workspace
		s.Holder = q.Who
		s.Fence++
		return s, append(events, Event{Kind: Brought, Person: q.Who.Handle, Other: before}), nil
	}
	s.Holder, s.Since, s.Note = q.Who, t.Now, q.Note
	s.Fence++
	s.Line = slices.DeleteFunc(slices.Clone(s.Line), func(w Waiter) bool { return w.Handle == q.Who.Handle })
	for i := range s.Line {
		s.Line[i].Passed, s.Line[i].Until = false, time.Time{}
	}
	return s, append(events, Event{Kind: Taken, Person: q.Who.Handle}), nil
}

// GiveBack frees the lock, and offers it to the next in line. Freeing what is free changes nothing.
func (t Terms) GiveBack(s State, who Place) (State, []Event, *model.Refusal) {
	s, events := t.Tick(s)
	switch {
	case s.Free():
		return s, events, nil
	case s.Holder.Handle != who.Handle:
		r := t.taken(s, who.Handle)
		r.Remedy = "only they can give it back; a lead can take it away with tarn unlock --override --reason"
		return s, events, r
	case s.Holder.WorkspaceID != who.WorkspaceID:
		return s, events, elsewhere(s)
	}
	s, more := t.Release(s)
	return s, append(events, more...), nil
}

// Release frees a held lock without asking whether one may: the caller knows (a send gives back what it sent).
func (t Terms) Release(s State) (State, []Event) {
	if s.Free() {
		return s, nil
	}
	events := []Event{{Kind: GivenBack, Person: s.Holder.Handle}}
	s, more := t.offer(freed(s))
	return s, append(events, more...)
}

// Override frees the lock whoever holds it, or takes an offer to the next in line. The caller has checked that a lead asks.
func (t Terms) Override(s State, by, reason string) (State, []Event) {
	s, events := t.Tick(s)
	if s.Free() {
		if offered, _ := s.OfferedTo(); offered != "" {
			s, more := t.pass(s)
			events = append(events, more...)
			return s, events
		}
		return s, events
	}
	events = append(events, Event{Kind: Overridden, Person: s.Holder.Handle, Other: by, Word: reason})
	s, more := t.offer(freed(s))
	return s, append(events, more...)
}

// Forget takes a person out who leaves the project: their lock, their place in line, what they asked.
func (t Terms) Forget(s State, handle string) (State, []Event) {
	s, events := t.Leave(s, handle)
	if s.Holder.Handle != handle {
		return s, events
	}
	s, more := t.Release(s)
	return s, append(events, more...)
}

// Carry is the lock of an asset that was moved: it goes along, with all who wait.
func Carry(s State, path string) State {
	s.Path = path
	return s
}

// Join puts people behind those who wait already: they waited for something that this lock stands for now. Where it is free, it is offered.
func (t Terms) Join(s State, line []Waiter) (State, []Event) {
	s.Line = slices.Clone(s.Line)
	for _, w := range line {
		if s.InLine(w.Handle) == 0 && s.Holder.Handle != w.Handle {
			w.Passed, w.Until = false, time.Time{}
			s.Line = append(s.Line, w)
		}
	}
	if !s.Free() {
		return s, nil
	}
	if offered, _ := s.OfferedTo(); offered != "" {
		return s, nil
	}
	return t.offer(s)
}

func freed(s State) State {
	s.Holder, s.Since, s.Note, s.Diverged, s.Asks = Place{}, time.Time{}, "", 0, nil
	s.Fence++
	return s
}

// MaySend decides whether who may send a new version with the fence that they were given with the lock (0 for none). take says
// that a free lock may be taken for the length of this send.
func (t Terms) MaySend(s State, who Place, fence int64, take bool) *model.Refusal {
	s, _ = t.Tick(s)
	offered, _ := s.OfferedTo()
	switch {
	case s.Free() && offered != "" && offered != who.Handle:
		return t.taken(s, who.Handle)
	case s.Free() && take:
		return nil
	case s.Free() && fence == 0:
		return refuse(s, "not-locked", "lock it with tarn lock, then send", "nobody holds it, and it needs its lock to be sent")
	case s.Free():
		return refuse(s, "lock-lost", "lock it again, then send; or make a new file of yours with tarn settle --use copy",
			"you no longer hold it: it was taken away from you or given back since")
	case s.Holder.Handle != who.Handle && fence != 0:
		r := t.taken(s, who.Handle)
		r.Reason, r.Remedy = "lock-lost", "your file is as you left it: tarn settle --use copy makes a new file of it that can be sent; or "+
			r.Remedy
		return r
	case s.Holder.Handle != who.Handle:
		return t.taken(s, who.Handle)
	case s.Holder.WorkspaceID != who.WorkspaceID:
		return elsewhere(s)
	case fence != 0 && s.Fence != fence:
		return refuse(s, "lock-lost", "run tarn status --fetch, look at it, then send again",
			"your lock is not the one you had: it was taken away and given out again since")
	}
	return nil
}
