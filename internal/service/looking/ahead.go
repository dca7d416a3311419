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
		return false
	}
}

// LookingAhead does that while nothing comes in or goes out and nobody waits for another picture. One process reads what comes after
// another, of one project: what it may have kept of a content stays within that.
func (s *Room) LookingAhead(ctx context.Context) {
	s.looks.sweep()
	var reader apart.Reader
	defer reader.Close()
	project := int64(0)
	for {
		var next preview
		select {
		case next = <-s.looks.ahead:
		default:
			reader.Close() // nothing is left for now
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
		dir, err := s.looked(ctx, records.Project{ID: next.project}, v, &reader)
		var r media.Report
		if err == nil {
			if err = readReport(dir, &r); err == nil {
				err = s.say(ctx, next.project, next.content, &r)
			}
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Debug("nothing was found out in advance", "path", next.name, "error", err)
		}
	}
}
