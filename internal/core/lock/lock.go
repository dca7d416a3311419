// Package lock decides what may happen to the lock of an asset: state and request in, new state or a refusal out. It is pure:
// time comes in as an argument, and whoever stores the state does so in the transaction in which it was read.
package lock

import (
	"fmt"
	"time"

	"kettletarn/internal/core/model"
)

// Place is a person together with one of their workspaces.
type Place struct {
	Handle      string
	WorkspaceID string
	Workspace   string
}

// State is the lock of one asset. Holder is the zero Place when it is free. Fence grows with every change of holder, so that a
// request made by a former holder is told apart from one made by the present one.
type State struct {
	Path   string
	Holder Place
	Since  time.Time
	Note   string
	Fence  int64
	Newest int
}

// Free reports whether nobody holds it.
func (s State) Free() bool { return s.Holder == Place{} }

func refuse(s State, reason, remedy, format string, args ...any) *model.Refusal {
	return &model.Refusal{Path: s.Path, Reason: reason, Remedy: remedy, Message: s.Path + ": " + fmt.Sprintf(format, args...)}
}

// held is the refusal that everyone but the holder gets.
func held(s State, now time.Time) *model.Refusal {
	about := ""
	if s.Note != "" {
		about = fmt.Sprintf(", for %q", s.Note)
	}
	return refuse(s, "held", fmt.Sprintf("wait until %s gives it back, or talk to them", s.Holder.Handle),
		"%s holds it, taken %s in %s%s", s.Holder.Handle, ago(s.Since, now), s.Holder.Workspace, about)
}

func elsewhere(s State) *model.Refusal {
	return refuse(s, "held-elsewhere", "send or unlock it there first", "you hold it in another workspace, %s", s.Holder.Workspace)
}

func ago(t, now time.Time) string {
	d := now.Sub(t)
	switch {
	case d < time.Minute:
		return "a moment ago"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d hours ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

// Take grants a free lock to who. have is the version in their workspace (0 for none); it has to be the newest unless willUpdate
// says that the newest is fetched next. Taking what one holds already changes nothing.
func Take(s State, who Place, have int, willUpdate bool, note string, now time.Time) (State, *model.Refusal) {
	switch {
	case !s.Free() && s.Holder.Handle != who.Handle:
		return s, held(s, now)
	case !s.Free() && s.Holder.WorkspaceID != who.WorkspaceID:
		return s, elsewhere(s)
	case have != s.Newest && !willUpdate:
		return s, Behind(s.Path, have, s.Newest)
	case !s.Free():
		return s, nil
	}
	s.Holder, s.Since, s.Note = who, now, note
	s.Fence++
	return s, nil
}

// Behind is the refusal for a version that is not the newest.
func Behind(path string, have, newest int) *model.Refusal {
	if have == 0 {
		return &model.Refusal{Path: path, Reason: "behind", Remedy: "run tarn update to bring it here first",
			Message: fmt.Sprintf("%s: it is not in your workspace yet; version %d is the newest", path, newest)}
	}
	return &model.Refusal{Path: path, Reason: "behind", Remedy: "run tarn update first",
		Message: fmt.Sprintf("%s: version %d is newer than yours (%d)", path, newest, have)}
}

// GiveBack frees the lock. Freeing what is free changes nothing.
func GiveBack(s State, who Place, now time.Time) (State, *model.Refusal) {
	switch {
	case s.Free():
		return s, nil
	case s.Holder.Handle != who.Handle:
		r := held(s, now)
		r.Remedy = "only they can give it back; a lead can take it away with tarn unlock --override --reason"
		return s, r
	case s.Holder.WorkspaceID != who.WorkspaceID:
		return s, elsewhere(s)
	}
	return freed(s), nil
}

// Override frees the lock whoever holds it. The caller has checked that a lead asks, and has a reason.
func Override(s State) State {
	if s.Free() {
		return s
	}
	return freed(s)
}

func freed(s State) State {
	s.Holder, s.Since, s.Note = Place{}, time.Time{}, ""
	s.Fence++
	return s
}

// MaySend decides whether who may send a new version with the fence that they were given with the lock (0 for none). take says
// that a free lock may be taken for the length of this send.
func MaySend(s State, who Place, fence int64, take bool, now time.Time) *model.Refusal {
	switch {
	case s.Free() && take:
		return nil
	case s.Free() && fence == 0:
		return refuse(s, "not-locked", "lock it with tarn lock, then send", "nobody holds it, and it needs its lock to be sent")
	case s.Free():
		return refuse(s, "lock-lost", "lock it again, then send", "you no longer hold it: it was taken away from you or given back since")
	case s.Holder.Handle != who.Handle:
		return held(s, now)
	case s.Holder.WorkspaceID != who.WorkspaceID:
		return elsewhere(s)
	case fence != 0 && s.Fence != fence:
		return refuse(s, "lock-lost", "run tarn status --fetch, look at it, then send again", "your lock is not the one you had: it was taken away and given out again since")
	}
	return nil
}
