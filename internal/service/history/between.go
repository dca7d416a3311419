package history

import (
	"context"
	"encoding/hex"
	"sort"
	"strings"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// maxBetween is how many assets may be different between two states that are compared.
const maxBetween = 300_000

// Between compares two states. It takes as long as there are differences.
func (s *Room) Between(ctx context.Context, actor ground.Actor, key, from, to, after string, limit int) (out model.Between, err error) {
	limit = ground.Rows(limit)
	out.Assets = []model.HandoffAsset{}
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		numbers, roots := [2]int{}, [2]chunk.Digest{}
		for i, text := range []string{from, to} {
			if numbers[i], err = ground.PointAt(ctx, tx, p, "", text); err != nil {
				return err
			}
			if roots[i], err = ground.RootAt(ctx, tx, p, numbers[i]); err != nil {
				return err
			}
		}
		changes, err := s.changesBetween(ctx, tx, p, roots[0], roots[1])
		if err != nil {
			return err
		}
		for i, h := range []*model.Handoff{&out.From, &out.To} {
			list, err := tx.Handoffs(ctx, p.ID, records.HandoffQuery{Before: numbers[i] + 1, Above: numbers[i] - 1, Limit: 1})
			if err != nil {
				return err
			}
			if len(list) > 0 {
				*h = list[0]
			} else {
				h.Assets, h.Tasks = []model.HandoffAsset{}, []string{}
			}
		}
		out.Total, out.Folders, out.Kinds = tally(changes)
		if out.People, err = tx.Worked(ctx, p.ID, numbers[0], numbers[1]); err != nil {
			return err
		}
		i := sort.Search(len(changes), func(i int) bool { return changes[i].Path > after })
		page := changes[i:]
		if len(page) > limit {
			page = page[:limit]
			out.Next = page[limit-1].Path
		}
		ids := make([]int64, len(page))
		for i, c := range page {
			ids[i] = c.asset
		}
		branch, err := ground.Head(ctx, tx, p, "")
		if err != nil {
			return err
		}
		present, err := tx.AssetsByID(ctx, p.ID, ids, branch.Head)
		if err != nil {
			return err
		}
		for _, c := range page {
			if a, ok := present[c.asset]; ok && a.Path != c.Path {
				c.Now = a.Path
			}
			out.Assets = append(out.Assets, c.HandoffAsset)
		}
		return nil
	})
	return out, err
}

// changed is one asset that is different.
type changed struct {
	model.HandoffAsset
	asset int64
}

// changesBetween are the differences of two trees, in the order of paths: what is at one path before and at another behind is one move.
func (s *Room) changesBetween(ctx context.Context, tx *records.Tx, p records.Project, from, to chunk.Digest) ([]changed, error) {
	left := map[int64]*tree.Entry{}
	var diffs []tree.Difference
	if err := s.Forest(tx, p.ID).Diff(ctx, from, to, "", func(d tree.Difference) bool {
		diffs = append(diffs, d)
		if d.From != nil && (d.To == nil || d.To.Asset != d.From.Asset) {
			left[d.From.Asset] = d.From
		}
		return len(diffs) <= maxBetween
	}); err != nil {
		return nil, err
	}
	if len(diffs) > maxBetween {
		return nil, model.NewProblem(model.TooLarge, "compare states that lie closer together", "more than %d assets are different", maxBetween)
	}
	list := make([]changed, 0, len(diffs))
	came := map[int64]bool{}
	for _, d := range diffs {
		if d.To == nil {
			continue
		}
		a := changed{model.HandoffAsset{Path: d.To.Spelling(), Change: "new", Version: d.To.Version, Size: d.To.Size,
			Content: hex.EncodeToString(d.To.Content[:])}, d.To.Asset}
		before := d.From
		if before == nil || before.Asset != d.To.Asset {
			if before = left[d.To.Asset]; before != nil {
				a.MovedFrom, came[d.To.Asset] = before.Spelling(), true
			}
		}
		if before != nil && a.MovedFrom == "" && before.Content == d.To.Content && before.Mode == d.To.Mode && before.Spelling() == a.Path {
			continue // it went and came back
		}
		if before != nil {
			a.Before, a.SizeBefore, a.Change = before.Version, before.Size, "edited"
			if before.Content == d.To.Content && a.MovedFrom != "" {
				a.Change = "moved"
			}
		}
		list = append(list, a)
	}
	for _, d := range diffs {
		if d.From != nil && (d.To == nil || d.To.Asset != d.From.Asset) && !came[d.From.Asset] {
			list = append(list, changed{model.HandoffAsset{Path: d.From.Spelling(), Change: "gone", Before: d.From.Version, SizeBefore: d.From.Size},
				d.From.Asset})
		}
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Path < list[j].Path })
	return list, nil
}

// tally counts changes: all of them, by the folder at the top, and by kind.
func tally(changes []changed) (total model.Tally, folders, kinds []model.Tally) {
	byFolder, byKind := map[string]*model.Tally{}, map[string]*model.Tally{}
	total.Name = "all"
	for _, c := range changes {
		folder, _, inside := strings.Cut(c.Path, "/")
		if !inside {
			folder = ""
		}
		for _, t := range []*model.Tally{&total, named(byFolder, folder), named(byKind, media.KindOf(c.Path))} {
			t.Size += c.Size
			t.SizeBefore += c.SizeBefore
			switch c.Change {
			case "new":
				t.New++
			case "moved":
				t.Moved++
			case "gone":
				t.Gone++
			default:
				t.Edited++
			}
		}
	}
	return total, inNames(byFolder), inNames(byKind)
}

func named(m map[string]*model.Tally, name string) *model.Tally {
	if m[name] == nil {
		m[name] = &model.Tally{Name: name}
	}
	return m[name]
}

func inNames(m map[string]*model.Tally) []model.Tally {
	list := make([]model.Tally, 0, len(m))
	for _, name := range ground.SortedKeys(m) {
		list = append(list, *m[name])
	}
	return list
}
