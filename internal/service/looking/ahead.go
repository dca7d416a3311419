package looking

import (
	"context"
	"time"

	"kettletarn/internal/apart"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
)

// LookAhead notes what a handoff brought, to be looked at before anybody asks. Nobody waits for it; what does not fit is looked at when it
// is asked for.
func (s *Room) LookAhead(p records.Project, changes []change.Change) {
	for _, c := range changes {
		if c.Gone {
			continue
		}
		if !s.lookAhead(preview{p.ID, c.Path, c.Content.String(), c.Size}) {
			return
		}
	}
}

// lookAhead puts a content in the line of what is looked at in advance; false where the line is long already.
func (s *Room) lookAhead(next preview) bool {
	if next.size == 0 || next.size > media.Limit(next.name) || media.KindOf(next.name) == media.Other {
		return true
	}
	select {
	case s.looks.ahead <- next:
		return true
	default:
		s.looks.missed.Store(true)
		return false
	}
}

// lookForMore puts in the line what was left out of it: what came while it was long, or while the service was away, and what was looked at
// before something was looked for that is now. Where there is nothing more, nothing is missed. skip is how many can't be looked at.
func (s *Room) lookForMore(ctx context.Context, skip int) error {
	endings, _ := media.EndingsOf(media.Other)
	var list []records.Unread
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		list, err = tx.Unlooked(ctx, endings, skip, cap(s.looks.ahead)/2)
		return err
	}); err != nil {
		return err
	}
	s.looks.missed.Store(len(list) > 0)
	for _, u := range list {
		if u.Size > media.Limit(u.Path) {
			r := media.Unread(u.Path, u.Size, "it is larger than what is looked into")
			if err := s.say(ctx, u.Project, u.Content, &r); err != nil {
				return err
			}
			continue
		}
		s.lookAhead(preview{u.Project, u.Path, u.Content, u.Size})
	}
	return nil
}

// LookingAhead does that while nothing comes in or goes out and nobody waits for another picture. One process reads what comes after
// another, of one project: what it may have kept of a content stays within that.
func (s *Room) LookingAhead(ctx context.Context) {
	s.looks.sweep()
	s.looks.missed.Store(true)
	var reader apart.Reader
	defer reader.Close()
	project, failed := int64(0), 0
	for {
		var next preview
		select {
		case next = <-s.looks.ahead:
		default:
			reader.Close() // nothing is left for now
			if s.looks.missed.Load() {
				if err := s.lookForMore(ctx, failed); err != nil && ctx.Err() == nil {
					s.Log.Error("what nobody looked at yet can't be listed", "error", err)
				}
			}
			select {
			case <-ctx.Done():
				return
			case next = <-s.looks.ahead:
			}
		}
		for !s.Quiet() || s.looks.waitedFor() {
			select {
			case <-ctx.Done():
				return
			case <-time.After(500 * time.Millisecond):
			}
		}
		if next.project != project {
			reader.Close()
			project = next.project
		}
		v := model.Version{Path: next.name, Content: next.content, Size: next.size}
		dir, err := s.looked(ctx, records.Project{ID: next.project}, v, false, &reader)
		var r media.Report
		if err == nil {
			if err = readReport(dir, &r); err == nil {
				err = s.say(ctx, next.project, next.content, &r)
			}
		}
		if err != nil && ctx.Err() == nil {
			failed++
			s.Log.Debug("nothing was found out in advance", "path", next.name, "error", err)
		}
	}
}
