package locks

import (
	"context"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"maps"
	"slices"
	"strings"
)

// Locks lists what is held or waited for; with a path, that of one asset.
func (s *Room) Locks(ctx context.Context, actor ground.Actor, key, path string) (list []model.Lock, err error) {
	list, _, err = s.LocksPage(ctx, actor, key, LocksWanted{Path: path})
	return list, err
}

// OnlyLocks are the kinds of lock that one may ask for: one's own, those that somebody waits for, those that look forgotten.
var OnlyLocks = []string{"mine", "waited", "forgotten"}

// LocksWanted says which locks are listed; zero values filter nothing. Only is one of OnlyLocks, By a holder. Each is how many there are of
// each holder at most, besides those that the one who asks waits for, asked for, or is asked for.
type LocksWanted struct {
	Path, Only, By string
	Each           int
	records.Page
}

// LocksPage is a page of Locks, and how many there are of each kind, and of each holder.
func (s *Room) LocksPage(ctx context.Context, actor ground.Actor, key string, q LocksWanted) (list []model.Lock, tally model.LockTally,
	err error) {
	path, only, page := q.Path, q.Only, q.Page
	if only != "" && !slices.Contains(OnlyLocks, only) {
		return nil, tally, model.NewProblem(model.BadRequest, "take one of "+strings.Join(OnlyLocks, ", "), "no lock is only %q",
			ground.Printable(only))
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		if path != "" && assetpath.Check(path) != nil {
			return nil
		}
		list, err = tx.Locks(ctx, p.ID, assetpath.Fold(path))
		return err
	})
	if err != nil {
		return nil, tally, err
	}
	fits := []model.Lock{}
	held := map[string]int{}
	for _, l := range list {
		mine, waited := l.Holder == actor.Handle, len(l.Waitlist) > 0
		tally.All++
		if mine {
			tally.Mine++
		}
		if waited {
			tally.Waited++
		}
		if l.Forgotten {
			tally.Forgotten++
		}
		if l.Holder != "" {
			held[l.Holder]++
		}
		fit := only == "" || only == "mine" && mine || only == "waited" && waited || only == "forgotten" && l.Forgotten
		if fit && (q.By == "" || q.By == l.Holder) && (q.Each == 0 || held[l.Holder] <= q.Each || concerns(l, actor.Handle)) {
			fits = append(fits, l)
		}
	}
	tally.People = []model.Holding{}
	for _, handle := range slices.Sorted(maps.Keys(held)) {
		tally.People = append(tally.People, model.Holding{Handle: handle, Held: held[handle]})
	}
	if page.Limit > 0 {
		from := min(page.Skip, len(fits))
		fits = fits[from:min(from+page.Limit, len(fits))]
	}
	return fits, tally, nil
}

// concerns reports whether somebody waits for a lock, asked for it, or is asked for it.
func concerns(l model.Lock, handle string) bool {
	return l.Holder == handle && len(l.Asks) > 0 || slices.ContainsFunc(l.Waitlist, func(w model.Waiter) bool { return w.Handle == handle }) ||
		slices.ContainsFunc(l.Asks, func(a model.Ask) bool { return a.Person == handle })
}
