package history

import (
	"context"
	"slices"
	"strings"
	"unicode/utf8"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Listing says what of a project is listed, how, and from where on; zero values filter nothing.
type Listing struct {
	// Folder is where, "" for the root; Below takes what lies anywhere below it, else only what lies right in it.
	Folder string
	Below  bool
	// At is a state (see [ground.PointAt]), "" for the present. What was, and what other branches have, is in the order of names, and is
	// filtered by Text alone.
	At string
	// Text is a part of paths, which looks anywhere below; Kind a kind of asset, Author who made the newest version.
	Text, Kind, Author string
	// Since and Until are days or times of the newest version; Least and Most sizes in bytes.
	Since, Until string
	Least, Most  int64
	// Lock is "free", "held", "waited", or of somebody by handle: "by:HANDLE". Review is one of model.ReviewStates.
	Lock   string
	Review string
	// Order is one of model.Orders, "" for the first; Down the other way round.
	Order string
	Down  bool
	// Skip is at which position a page begins.
	Skip  int
	Limit int
}

// The past, and other branches, know one order and one filter.
func (q *Listing) plain() bool {
	return !q.Below && q.Kind == "" && q.Author == "" && q.Since == "" && q.Until == "" && q.Least == 0 && q.Most == 0 && q.Lock == "" &&
		q.Review == "" && (q.Order == "" || q.Order == model.ByName) && !q.Down
}

// Folder lists a page of what is right in one folder, and on the first page the folders in it; with Text, Below or a filter what lies
// anywhere below it, and no folders.
func (s *Room) Folder(ctx context.Context, actor ground.Actor, key string, q Listing) (page model.FolderPage, err error) {
	q.Limit = ground.Rows(q.Limit)
	page.Folders, page.Assets = []model.Folder{}, []model.Asset{}
	for _, text := range []string{q.Folder, q.Text, q.Author, q.Lock} {
		if strings.ContainsRune(text, 0) || len(text) > 4096 || !utf8.ValidString(text) {
			return page, model.NewProblem(model.BadRequest, "shorten it", "a filter has at most 4,096 bytes of text")
		}
	}
	if q.Skip < 0 {
		return page, model.NewProblem(model.BadRequest, "leave it out", "a page can't begin before the first row")
	}
	if q.At != "" && !q.plain() {
		return page, model.NewProblem(model.BadRequest, "leave them out, or look at the present",
			"what was, and what other branches have, can be looked through by a part of its path alone, in the order of names")
	}
	stale, err := s.page(ctx, actor, key, q, &page)
	if err == nil && stale > 0 {
		if err = s.listPresent(ctx, stale); err == nil {
			_, err = s.page(ctx, actor, key, q, &page)
		}
	}
	return page, err
}

// page is one look at a folder. stale is the project where what is present of it has to be listed first, after an upgrade.
func (s *Room) page(ctx context.Context, actor ground.Actor, key string, q Listing, page *model.FolderPage) (stale int64, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		folder := assetpath.Fold(q.Folder)
		if folder != "" {
			folder += "/"
		}
		if q.At == "" {
			branch, err := ground.Head(ctx, tx, p, "")
			if err != nil {
				return err
			}
			if page.At = branch.Head; !branch.Listed {
				stale = p.ID
				return nil
			}
			return s.present(ctx, tx, p, branch.Root, folder, q, page)
		}
		if page.At, err = ground.PointAt(ctx, tx, p, "", q.At); err != nil {
			return err
		}
		root, err := ground.RootAt(ctx, tx, p, page.At)
		if err != nil {
			return err
		}
		if q.Text != "" {
			return s.search(ctx, tx, p, root, assetpath.Fold(q.Text), q, page)
		}
		return s.folder(ctx, tx, p, root, folder, q, page)
	})
	return stale, err
}

// countedKey is a filter of what a state of a project holds. What is counted may be of a later state, after which nobody asks for this one.
type countedKey struct {
	project int64
	state   int
	root    chunk.Digest
	filter  string
}

// present lists a page of what is there now.
func (s *Room) present(ctx context.Context, tx *records.Tx, p records.Project, root chunk.Digest, folder string, q Listing,
	page *model.FolderPage) error {
	below := q.Below || q.Text != "" || q.filters()
	rows := records.PresentQuery{Folder: folder, Below: below, Text: assetpath.Fold(q.Text), Author: q.Author,
		Least: q.Least, Most: q.Most, Review: q.Review, Order: q.Order, Down: q.Down, Skip: q.Skip, Limit: q.Limit}
	var err error
	if rows.Since, rows.Until, err = timesOf(q.Since, q.Until); err != nil {
		return err
	}
	if q.Kind != "" {
		if rows.Endings, rows.Except = media.EndingsOf(q.Kind); rows.Endings == nil {
			return model.NewProblem(model.BadRequest, "take one of "+strings.Join(media.Kinds, ", "),
				"there is no kind %s", ground.Printable(q.Kind))
		}
	}
	if holder, by := strings.CutPrefix(q.Lock, "by:"); by {
		rows.Holder = holder
	} else if rows.Free, rows.Held, rows.Waited = q.Lock == "free", q.Lock == "held", q.Lock == "waited"; q.Lock != "" && !rows.Free &&
		!rows.Held && !rows.Waited {
		return model.NewProblem(model.BadRequest, "take free, held, waited or by:HANDLE", "a lock can't be %q", ground.Printable(q.Lock))
	}
	if q.Review != "" && !slices.Contains(model.ReviewStates, q.Review) {
		return model.NewProblem(model.BadRequest, "take one of "+strings.Join(model.ReviewStates, ", "),
			"nothing stands %q in a review", ground.Printable(q.Review))
	}
	if q.Order != "" && !slices.Contains(model.Orders, q.Order) {
		return model.NewProblem(model.BadRequest, "take one of "+strings.Join(model.Orders, ", "),
			"there is no order %q", ground.Printable(q.Order))
	}
	forest := s.Forest(tx, p.ID)
	if below && q.Text == "" && !q.filters() {
		from, end := tree.Below(folder)
		all, _, err := forest.Sum(ctx, root, from, end)
		if err != nil {
			return err
		}
		rows.All = int(all) // a tree knows how much is below a folder
	}
	counted := countedKey{p.ID, page.At, root, rows.Filter()}
	if known, ok := s.counted.Get(counted); ok && !rows.Moves() {
		rows.All = known
	}
	ids, total, err := tx.Present(ctx, p.ID, rows)
	if err != nil {
		return err
	}
	if !rows.Moves() {
		s.counted.Add(counted, total)
	}
	page.Total, page.More = min(total, records.CountedAtMost), total > records.CountedAtMost
	if page.Assets, err = inOrder(ctx, tx, p, ids, page.At); err != nil || below || q.Skip > 0 {
		return err
	}
	folded, spelled, err := tx.Subfolders(ctx, p.ID, folder, ground.MaxRows)
	if err != nil {
		return err
	}
	for i := range folded {
		name, _, _ := strings.Cut(folded[i][len(folder):], "/")
		from, end := tree.Below(folder + name + "/")
		count, size, err := forest.Sum(ctx, root, from, end)
		if err != nil {
			return err
		}
		// A path has as many parts as its folded form.
		page.Folders = append(page.Folders, model.Folder{Name: strings.Split(spelled[i], "/")[strings.Count(folder, "/")], Assets: int(count),
			Size: size})
	}
	return nil
}

// filters reports whether there is more to it than where it looks, in which order; Text is not looked at.
func (q *Listing) filters() bool {
	f := *q
	f.Order, f.Down, f.Below = "", false, false
	return !f.plain()
}

// folder lists a page of what was in a folder, in the order of its tree, which counts everything below it and nothing right in it: the
// lines are counted one by one.
func (s *Room) folder(ctx context.Context, tx *records.Tx, p records.Project, root chunk.Digest, folder string, q Listing,
	page *model.FolderPage) error {
	forest, after := s.Forest(tx, p.ID), ""
	var ids []int64
	for {
		lines, next, err := forest.Folder(ctx, root, folder, after, ground.MaxRows)
		if err != nil {
			return err
		}
		for _, l := range lines {
			switch {
			case l.Entry == nil && q.Skip == 0:
				page.Folders = append(page.Folders, model.Folder{Name: l.Folder, Assets: int(l.Count), Size: l.Size})
			case l.Entry != nil:
				if page.Total >= q.Skip && len(ids) < q.Limit {
					ids = append(ids, l.Entry.Asset)
				}
				page.Total++
			}
		}
		if after = next; next == "" {
			break
		}
	}
	var err error
	page.Assets, err = inOrder(ctx, tx, p, ids, page.At)
	return err
}

// search looks for text in the paths of a state.
func (s *Room) search(ctx context.Context, tx *records.Tx, p records.Project, root chunk.Digest, text string, q Listing,
	page *model.FolderPage) error {
	var ids []int64
	err := s.Forest(tx, p.ID).Range(ctx, root, "", "", func(e *tree.Entry) bool {
		if strings.Contains(e.Key, text) {
			if page.Total >= q.Skip && len(ids) < q.Limit {
				ids = append(ids, e.Asset)
			}
			page.Total++
		}
		return ctx.Err() == nil
	})
	if err != nil {
		return err
	}
	page.Assets, err = inOrder(ctx, tx, p, ids, page.At)
	return err
}

// listedAtOnce is how many entries of a tree are written as present in one statement.
const listedAtOnce = 20_000

// listPresent lists what is present of a project from its tree, where that is not so yet.
func (s *Room) listPresent(ctx context.Context, project int64) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := tx.ProjectByID(ctx, project)
		if err != nil {
			return err
		}
		if err := tx.Patient(ctx); err != nil {
			return err
		}
		branch, err := tx.Branch(ctx, p.ID, model.FirstBranch, true)
		if err != nil {
			return err
		}
		if branch.Listed {
			return nil
		}
		if err := tx.Relist(ctx, p.ID, branch.ID); err != nil {
			return err
		}
		var entries []tree.Entry
		flush := func() bool {
			if len(entries) > 0 {
				err = tx.AddPresent(ctx, p.ID, entries)
			}
			entries = entries[:0]
			return err == nil
		}
		if failed := s.Forest(tx, p.ID).Range(ctx, branch.Root, "", "", func(e *tree.Entry) bool {
			entries = append(entries, *e)
			return len(entries) < listedAtOnce || flush()
		}); failed != nil {
			return failed
		}
		flush()
		return err
	})
}

// Listing lists what is present of all projects of which that is not so: after an upgrade, before anybody asks.
func (s *Room) Listing(ctx context.Context) {
	var stale []int64
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		stale, err = tx.Unlisted(ctx)
		return err
	}); err != nil {
		s.Log.Error("what is present can't be listed", "error", err)
	}
	for _, id := range stale {
		if err := s.listPresent(ctx, id); err != nil && ctx.Err() == nil {
			s.Log.Error("what is present can't be listed", "project", id, "error", err)
		}
	}
}
