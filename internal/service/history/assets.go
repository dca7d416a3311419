// Package history is for looking back: what a state holds, what changed between two, versions, handoffs, milestones, pins. It changes
// nothing but names.
package history

import (
	"context"
	"strings"
	"time"
	"unicode/utf8"

	lru "github.com/hashicorp/golang-lru/v2"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
	"kettletarn/internal/core/scope"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/ground"
)

// Room is for looking back.
type Room struct {
	*contents.Room
	// counted is how many of a state's assets fit a filter: each page of a list tells it.
	counted *lru.Cache[countedKey, int]
}

// New makes the room.
func New(contents *contents.Room) *Room {
	return &Room{contents, ground.Cache[countedKey, int](10_000)}
}

// Changes is the state of a project as of At (a handoff, a time, a milestone, or the newest): what is different from handoff Since, or all
// of it. It comes in the order of folded paths, in pages: After is the Next of the page before. WithLocks asks for what is held, too.
type Changes struct {
	Since int
	At    string
	// Branch is the one whose newest state is meant where At is "", the first one where it is "".
	Branch    string
	Scope     scope.Scope
	After     string
	Limit     int
	WithLocks bool
}

// Changes lists one page: the difference of two trees, so that it takes as long as there are changes.
func (s *Room) Changes(ctx context.Context, actor ground.Actor, key string, q Changes) (page model.Assets, err error) {
	limit := ground.Rows(q.Limit)
	page.Assets = []model.Asset{}
	if err := q.Scope.Check(); err != nil {
		return page, err
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		branch, err := ground.Head(ctx, tx, p, q.Branch)
		if err != nil {
			return err
		}
		if page.At, err = ground.PointAt(ctx, tx, p, q.Branch, q.At); err != nil {
			return err
		}
		if page.Newest = branch.Head; q.Since > p.Handoffs {
			return model.NewProblem(model.NotFound, "see tarn history", "%s has no handoff h%d; the newest is h%d", key, q.Since, p.Handoffs)
		}
		from, err := ground.RootAt(ctx, tx, p, q.Since)
		if err != nil {
			return err
		}
		to, err := ground.RootAt(ctx, tx, p, page.At)
		if err != nil {
			return err
		}
		diffs, err := s.differences(ctx, tx, p, from, to, q.After, q.Scope.Folded(), limit+1)
		if err != nil {
			return err
		}
		if len(diffs) > limit {
			diffs = diffs[:limit]
			page.Next = diffs[limit-1].Key
		}
		if page.Assets, err = asOf(ctx, tx, p, diffs, page.At); err != nil || !q.WithLocks {
			return err
		}
		if page.Locks, err = tx.Locks(ctx, p.ID, ""); err != nil {
			return err
		}
		if page.HeadsUps, err = tx.HeadsUps(ctx, p.ID); err != nil {
			return err
		}
		if page.KitsBehind, err = s.KitsBehind(ctx, tx, actor, p, branch.Root); err != nil {
			return err
		}
		page.Wanted, err = tx.Damaged(ctx, p.ID, ground.MaxWanted)
		return err
	})
	return page, err
}

// differences are those of two trees behind the key after and within a scope, at most limit of them. What lies outside the scope is jumped
// over, so that it costs nothing.
func (s *Room) differences(ctx context.Context, tx *records.Tx, p records.Project, from, to chunk.Digest, after string, in scope.Scope,
	limit int) (out []tree.Difference, err error) {
	forest := s.Forest(tx, p.ID)
	for more := true; more; {
		more = false
		if err := forest.Diff(ctx, from, to, after, func(d tree.Difference) bool {
			if in.Has(d.Key) {
				out = append(out, d)
				return len(out) < limit
			}
			after, more = in.Next(d.Key)
			return false
		}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// asOf tells of differences as assets are as of a handoff. What is gone from its place may have been moved elsewhere, if only to another
// spelling of its name: where names differ in case, the old one is a file of its own.
func asOf(ctx context.Context, tx *records.Tx, p records.Project, diffs []tree.Difference, at int) ([]model.Asset, error) {
	var ids []int64
	for _, d := range diffs {
		if d.From != nil {
			ids = append(ids, d.From.Asset)
		}
		if d.To != nil {
			ids = append(ids, d.To.Asset)
		}
	}
	found, err := tx.AssetsByID(ctx, p.ID, ids, at)
	list := make([]model.Asset, 0, len(diffs))
	for _, d := range diffs {
		if d.From != nil && (d.To == nil || d.To.Spelling() != d.From.Spelling()) {
			list = append(list, leftBehind(d.From, found))
		}
		if d.To != nil {
			if a, ok := found[d.To.Asset]; ok {
				a.ID = d.To.Asset
				list = append(list, a)
			}
		}
	}
	return list, err
}

// leftBehind tells of a place that has nothing any more. What is not among the assets found was not there yet.
func leftBehind(e *tree.Entry, found map[int64]model.Asset) model.Asset {
	a, ok := found[e.Asset]
	switch {
	case !ok:
		return model.Asset{Path: e.Spelling(), Gone: true}
	case a.Gone:
		a.Path = e.Spelling() // it may have been moved before it was deleted
		return a
	}
	return model.Asset{Path: e.Spelling(), Gone: true, Newest: a.Newest, MovedTo: a.Path, Author: a.Author, At: a.At, Handoff: a.Handoff,
		Note: a.Note}
}

// inOrder reads assets by id, as they are as of a handoff.
func inOrder(ctx context.Context, tx *records.Tx, p records.Project, ids []int64, at int) ([]model.Asset, error) {
	found, err := tx.AssetsByID(ctx, p.ID, ids, at)
	list := make([]model.Asset, 0, len(ids))
	for _, id := range ids {
		if a, ok := found[id]; ok {
			list = append(list, a)
		}
	}
	return list, err
}

// History returns one asset, as a branch has it ("" for the first one), with all its versions, the newest first.
func (s *Room) History(ctx context.Context, actor ground.Actor, key, on, path string) (asset model.Asset, versions []model.Version,
	err error) {
	h, err := s.HistoryPage(ctx, actor, key, on, path, records.Page{})
	return h.Asset, h.Versions, err
}

// HistoryPage is History with a page of the versions.
func (s *Room) HistoryPage(ctx context.Context, actor ground.Actor, key, on, path string, page records.Page) (h model.AssetHistory,
	err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		folded := assetpath.Fold(path)
		branch, err := ground.Head(ctx, tx, p, on)
		if err != nil {
			return err
		}
		found, heads, err := tx.Shown(ctx, p.ID, branch.Head, []string{folded})
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return model.NewProblem(model.NotFound, "check the spelling", "there is no asset %s in %s", ground.Printable(path), key)
		}
		ground.AddHeadsUps(found, heads, "")
		h.Asset = found[0]
		id, err := tx.AssetAt(ctx, p.ID, branch.Head, folded)
		if err != nil {
			return err
		}
		if h.Versions, err = tx.VersionsPage(ctx, p.ID, id, page); err != nil {
			return err
		}
		if h.Total = len(h.Versions); page.Limit > 0 {
			h.Total, err = tx.CountVersions(ctx, p.ID, id)
		}
		return err
	})
	return h, err
}

// HandoffFilter says which handoffs are wanted; zero values filter nothing. Path is an asset, a folder, or a pattern with * or ?; Kind a
// kind of asset; Since and Until are days or times. Assets is how many of its assets each is listed with, at most. Skip leaves out so many
// of those that fit, and Before those from a number on.
type HandoffFilter struct {
	Before, Skip, Limit int
	// Branch is the one that they were handed off on.
	Branch            string
	Author            string
	Path, Kind        string
	Since, Until      string
	Task, Stage, Text string
	Assets            int
}

// MaxListed is the most assets that each handoff of a list comes with.
const MaxListed = 12

func (f HandoffFilter) query() (q records.HandoffQuery, err error) {
	for _, text := range []string{f.Author, f.Path, f.Kind, f.Task, f.Stage, f.Text} {
		if strings.ContainsRune(text, 0) || len(text) > 2000 || !utf8.ValidString(text) {
			return q, model.NewProblem(model.BadRequest, "shorten it", "a filter has at most 2,000 characters")
		}
	}
	q = records.HandoffQuery{Before: f.Before, Limit: ground.Rows(f.Limit), Author: f.Author, Task: f.Task, Stage: f.Stage,
		Text: strings.TrimSpace(f.Text), Assets: min(max(f.Assets, 0), MaxListed)}
	if path := strings.Trim(f.Path, "/"); assetpath.IsGlob(path) {
		if strings.Count(path, "*") > maxWild {
			return q, model.NewProblem(model.BadRequest, "take a simpler one", "a pattern has at most %d stars", maxWild)
		}
		q.Pattern = assetpath.Glob(path)
	} else {
		q.Path = assetpath.Fold(path)
	}
	q.Skip = max(f.Skip, 0)
	if f.Kind != "" {
		if q.Endings, q.Except = media.EndingsOf(f.Kind); q.Endings == nil {
			return q, model.NewProblem(model.BadRequest, "take one of "+strings.Join(media.Kinds, ", "), "there is no kind of asset %q",
				ground.Printable(f.Kind))
		}
	}
	q.Since, q.Until, err = timesOf(f.Since, f.Until)
	return q, err
}

// timesOf reads the days or times between which something is; the last day is one of them.
func timesOf(since, until string) (from, to time.Time, err error) {
	for _, t := range []struct {
		text string
		end  bool
		into *time.Time
	}{{since, false, &from}, {until, true, &to}} {
		if t.text == "" {
			continue
		}
		var ok bool
		if *t.into, ok = point.Time(t.text, time.UTC, t.end); !ok {
			return from, to, model.NewProblem(model.BadRequest, "take for example 2026-03-02, or 2026-03-02T15:04:05Z",
				"%q is no day and no time", ground.Printable(t.text))
		}
	}
	return from, to, nil
}

// maxWild is how many stars a pattern has at most: each more may make matching many times as slow.
const maxWild = 10

// Handoffs lists handoffs, the newest first; total is how many fit below Before.
func (s *Room) Handoffs(ctx context.Context, actor ground.Actor, key string, f HandoffFilter) (list []model.Handoff, total int, err error) {
	q, err := f.query()
	if err != nil {
		return nil, 0, err
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		if f.Branch != "" {
			branch, err := ground.Head(ctx, tx, p, f.Branch)
			if err != nil {
				return err
			}
			q.Branch = branch.ID
		}
		if list, err = tx.Handoffs(ctx, p.ID, q); err != nil {
			return err
		}
		if total = q.Skip + len(list); len(list) < q.Limit && (len(list) > 0 || q.Skip == 0) {
			return nil
		}
		total, err = tx.CountHandoffs(ctx, p.ID, q)
		return err
	})
	return list, total, err
}

// OpenVersion opens the content of one version of an asset (0 for the newest).
func (s *Room) OpenVersion(ctx context.Context, actor ground.Actor, key, path string, number int) (model.Version, *contents.Content,
	error) {
	if actor.Outside != nil && !actor.Outside.Showing.Files {
		return model.Version{}, nil, model.NewProblem(model.NotAllowed, "ask whoever gave it to you",
			"this link is for looking: the files stay here")
	}
	p, v, err := s.VersionOf(ctx, actor, key, path, number)
	if err != nil {
		return v, nil, err
	}
	digest, err := chunk.ParseDigest(v.Content)
	if err != nil {
		return v, nil, err
	}
	var content *contents.Content
	err = s.Use(ctx, func(tx *records.Tx) error {
		known, err := tx.Contents(ctx, p.ID, []chunk.Digest{digest}, false)
		content = s.OpenRow(ctx, known[digest])
		return err
	})
	return v, content, err
}

// AssetsAt tells what stands at some paths now, or stood there last, with its lock; of a path that nothing ever had, nothing.
func (s *Room) AssetsAt(ctx context.Context, actor ground.Actor, key string, paths []string) (out model.Assets, err error) {
	if len(paths) > ground.MaxPaths {
		return out, model.NewProblem(model.TooLarge, "ask in parts", "at most %d paths can be asked about at once", ground.MaxPaths)
	}
	folded := make([]string, 0, len(paths))
	for _, p := range paths {
		if strings.ContainsRune(p, 0) || !utf8.ValidString(p) {
			return out, model.NewProblem(model.BadRequest, "check the spelling", "this is no path")
		}
		folded = append(folded, assetpath.Fold(p))
	}
	err = s.AtHead(ctx, actor, key, func(tx *records.Tx, p records.Project, branch records.Branch) (err error) {
		out.At, out.Newest = branch.Head, branch.Head
		out.Assets, err = tx.AssetsAt(ctx, p.ID, branch.Head, folded)
		return err
	})
	return out, err
}
