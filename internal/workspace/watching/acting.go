package watching

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace"
)

// acting does what follows from a status, at the service: takes locks on edit, tells of unsent changes, says what stands in the way, and
// brings updates.
func (r *watcher) acting(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-r.act:
		}
		r.mu.Lock()
		s := r.status
		if r.retry {
			clear(r.tried)
			r.retry = false
		}
		r.mu.Unlock()
		if s == nil {
			continue
		}
		r.acceptOffers(ctx, s)
		r.fromKits(s)
		r.lockEdited(ctx, s)
		r.comment(s)
		if r.isOnline() {
			r.hand.Report(ctx, s)
		}
		if r.o.AutoUpdate && s.Follows == 0 {
			r.autoUpdate(ctx, s)
		}
	}
}

func (r *watcher) isOnline() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.online
}

// acceptOffers takes the locks that are offered to this workspace, with their newest versions, where nothing clashes.
func (r *watcher) acceptOffers(ctx context.Context, s *workspace.Status) {
	if !r.isOnline() {
		return
	}
	for _, a := range s.Assets {
		if a.Lock != nil || len(a.Waiting) == 0 || a.Waiting[0].OfferedUntil == nil || a.Waiting[0].WorkspaceID != r.w.Marker.Workspace ||
			r.tried[a.Path] != "" {
			continue
		}
		r.tried[a.Path] = "offered"
		release, err := r.hand.Work()
		if err != nil {
			delete(r.tried, a.Path) // another command is at work: later
			time.AfterFunc(retryTime, func() { r.wake(r.act) })
			continue
		}
		out, err := r.hand.Lock(ctx, []string{a.Path}, workspace.LockOptions{Begin: true, Note: a.Waiting[0].Note})
		release()
		r.mark("", true)
		switch {
		case err == nil && len(out.Locks) == 1:
			message := a.Path + " is yours: it was your turn"
			if out.Updated != nil && len(out.Updated.Brought) > 0 {
				message += fmt.Sprintf("; version %d was brought", out.Updated.Brought[0].Newest)
			}
			r.say(Notice{Kind: "locked", Paths: []string{a.Path}, Message: message, News: news.Turn, Yours: true})
		case err != nil:
			r.say(Notice{Kind: "not-locked", Paths: []string{a.Path},
				Message: fmt.Sprintf("%s is offered to you, and could not be taken by itself: %v", a.Path, err), News: news.Turn, Yours: true})
		}
	}
}

// fromKits says once of what is edited that it comes from a kit.
func (r *watcher) fromKits(s *workspace.Status) {
	var edited []string
	for _, a := range s.Assets {
		if a.State == model.Edited {
			edited = append(edited, a.Path)
		}
	}
	for _, line := range r.hand.FromKits(edited) {
		if !r.kits[line] {
			r.kits[line] = true
			r.say(Notice{Kind: "from-kit", Message: line})
		}
	}
}

// lockEdited takes the locks that the rules want taken on the first edit, where they are free; and those of whatever was edited while the
// service was away, when nobody could have locked it.
func (r *watcher) lockEdited(ctx context.Context, s *workspace.Status) {
	r.mu.Lock()
	online, cut := r.online, r.cut
	r.mu.Unlock()
	for _, a := range s.Assets {
		if a.Lock != nil || a.State != model.Edited && (a.State != model.Clash || !r.away[a.Path]) &&
			(a.State != model.Same || a.MovedFrom == "") {
			delete(r.tried, a.Path)
			delete(r.away, a.Path)
			continue
		}
		d := s.Decide(a.Path)
		if !online {
			r.away[a.Path] = cut && d.Lock != rules.Free
			continue
		}
		if d.Lock != rules.OnEdit && !r.away[a.Path] || r.tried[a.Path] != "" {
			continue
		}
		note := "taken on the first edit"
		if r.away[a.Path] {
			note = "edited while the service was away"
		}
		err := r.hand.LockEdited(ctx, s, a, note)
		var refused *model.Refused
		switch {
		case err == nil:
			r.mark(a.Path, false)
			r.say(Notice{Kind: "locked", Paths: []string{a.Path}, Message: a.Path + " is yours, " +
				strings.Replace(note, "the first", "your first", 1)})
		case errors.As(err, &refused) && len(refused.Refusals) > 0:
			r.tried[a.Path] = refused.Refusals[0].Reason
			r.said[a.Path] = "refused"
			r.say(Notice{Kind: "not-locked", Paths: []string{a.Path}, Message: refused.Refusals[0].Message +
				"; your change stays here, and can't be sent before that is cleared"})
			r.refresh(ctx)
		}
	}
}

// comment says, once, of files that were changed just now, that somebody else holds them or that they are not the newest.
func (r *watcher) comment(s *workspace.Status) {
	known := map[string]bool{}
	for _, a := range s.Assets {
		known[a.Path] = true
		what, message := "", ""
		switch {
		case a.State == model.Clash:
			what, message = "clash", fmt.Sprintf("%s: version %d by %s is newer than the one you changed; tarn settle ends that", a.Path, a.Newest,
				a.Author)
		case a.State == model.Edited && a.Lock != nil && a.Lock.WorkspaceID != r.w.Marker.Workspace:
			what = "held by " + a.Lock.Holder
			message = fmt.Sprintf("%s: %s holds it; your change stays here, and can't be sent until it is given back", a.Path, a.Lock.Holder)
		}
		if what != "" && r.said[a.Path] != what && r.said[a.Path] != "refused" {
			r.say(Notice{Kind: strings.Fields(what)[0], Paths: []string{a.Path}, Message: message})
		}
		if what == "" && r.said[a.Path] != "refused" || a.State == model.Same {
			delete(r.said, a.Path)
		} else if what != "" {
			r.said[a.Path] = what
		}
	}
	for p := range r.said {
		if !known[p] {
			delete(r.said, p)
			delete(r.tried, p)
		}
	}
}

// autoUpdate brings what is newer where nothing clashes, unless another command is at work.
func (r *watcher) autoUpdate(ctx context.Context, s *workspace.Status) {
	behind := false
	for _, a := range s.Assets {
		behind = behind || a.State == model.Behind
	}
	if !behind || !r.isOnline() {
		return
	}
	release, err := r.hand.Work()
	if err != nil {
		return
	}
	u, err := r.hand.Update(ctx, workspace.UpdateOptions{})
	release()
	if err != nil {
		return
	}
	r.mark("", true)
	if n := len(u.Brought) + len(u.Removed) + len(u.Moved); n > 0 {
		paths := []string{}
		for _, a := range append(append(u.Brought, u.Removed...), u.Moved...) {
			if len(paths) < 20 {
				paths = append(paths, a.Path)
			}
		}
		r.say(Notice{Kind: "updated", Paths: paths, Handoff: u.At, Message: fmt.Sprintf("%s; this is h%d", broughtWords(u), u.At)})
	}
	for _, f := range u.Refusals {
		r.say(Notice{Kind: "not-updated", Paths: []string{f.Path}, Message: f.Message})
	}
}

func broughtWords(u *workspace.Updated) string {
	words := []string{}
	for _, w := range []struct {
		verb string
		list []model.Asset
	}{{"brought", u.Brought}, {"removed", u.Removed}, {"moved", u.Moved}} {
		if len(w.list) > 0 {
			words = append(words, w.verb+" "+assets(len(w.list)))
		}
	}
	return strings.Join(words, ", ")
}

// assets is a count of assets in words.
func assets(n int) string {
	if n == 1 {
		return "1 asset"
	}
	return fmt.Sprintf("%d assets", n)
}
