package locks

import (
	"context"
	"strings"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// MaxRecord is how many entries of the record are given at once.
const MaxRecord = 10_000

// RecordQuery asks for a part of the record: of one person, at or below a path, ended in one way ("held" for not ended), from a time on,
// up to another. What is empty asks for all.
type RecordQuery struct {
	Person, Path, Ending string
	Since, Until         time.Time
	Skip, Limit          int
}

// Record lists who held what, the latest taken first; total is how many fit.
func (s *Room) Record(ctx context.Context, actor ground.Actor, key string, q RecordQuery) (list []model.Hold, total int, err error) {
	limit := q.Limit
	if limit <= 0 || limit > MaxRecord {
		limit = MaxRecord
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		if strings.ContainsRune(q.Person+q.Path+q.Ending, 0) {
			return nil
		}
		list, total, err = tx.Record(ctx, p.ID, records.RecordQuery{Person: q.Person, Below: assetpath.Fold(q.Path), Ending: q.Ending,
			Since: q.Since, Until: q.Until, Skip: max(q.Skip, 0), Limit: limit})
		return err
	})
	return list, total, err
}

// MaxWeeks is over how many weeks waiting is looked at; mostContested for how many assets.
const (
	MaxWeeks      = 104
	mostContested = 20
)

// Contested says for which assets people waited longest in the last weeks (the present one among them), week by week.
func (s *Room) Contested(ctx context.Context, actor ground.Actor, key string, weeks int) (list []model.Contested, err error) {
	if weeks < 1 || weeks > MaxWeeks {
		return nil, model.NewProblem(model.BadRequest, "take for example: 12", "the number of weeks is 1 to %d", MaxWeeks)
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		now, err := tx.Now(ctx)
		if err != nil {
			return err
		}
		list, err = tx.Contested(ctx, p.ID, monday(now).AddDate(0, 0, -7*(weeks-1)), mostContested)
		return err
	})
	return list, err
}

// monday is the beginning of the week of a time, in UTC.
func monday(t time.Time) time.Time {
	t = t.UTC()
	return time.Date(t.Year(), t.Month(), t.Day()-(int(t.Weekday())+6)%7, 0, 0, 0, 0, time.UTC)
}
