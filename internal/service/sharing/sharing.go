// Package sharing is what projects share: kits, which one releases and others use. A use is an ordinary folder of ordinary assets beside a
// file that says where they came from (core/kit); what is done to it is a handoff, and goes the way of every handoff.
package sharing

import (
	"context"
	"errors"
	"slices"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/kit"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/branching"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/reviewing"
)

// Room is where projects share.
type Room struct {
	*handoffs.Room
	branches *branching.Room
	reviews  *reviewing.Room
}

// New makes the room.
func New(handoffs *handoffs.Room, branches *branching.Room, reviews *reviewing.Room) *Room {
	return &Room{handoffs, branches, reviews}
}

// ReleaseKit releases a kit of a project under its next number, as it is in a state: what its rules there say is in it. It takes a lead,
// and costs the same however much that is.
func (s *Room) ReleaseKit(ctx context.Context, actor ground.Actor, key string, q model.KitReleaseRequest) (r model.KitRelease, err error) {
	q.Note = strings.TrimSpace(q.Note)
	if err := ground.Written("the note of a release", q.Note, ground.MaxNote, true); err != nil {
		return r, err
	}
	if q.Note == "" {
		return r, model.NewProblem(model.BadRequest, "say what is new in it", "a release has a note")
	}
	if err := s.readFiles(ctx); err != nil {
		return r, err
	}
	err = s.KnowingRules(ctx, func() error {
		return s.Write(ctx, func(tx *records.Tx) error {
			p, err := ground.Project(ctx, tx, actor, key, model.Lead)
			if err != nil {
				return err
			}
			if err := tx.LockNames(ctx, p.ID); err != nil {
				return err
			}
			number, err := ground.PointAt(ctx, tx, p, "", q.At)
			if err != nil {
				return err
			}
			root, err := ground.RootAt(ctx, tx, p, number)
			if err != nil {
				return err
			}
			present, err := s.PresentRules(ctx, tx, p, root)
			if err != nil {
				return err
			}
			k := present.Kit(q.Kit)
			if k == nil {
				return model.NewProblem(model.NotFound, `add it to tarn.toml: [[kit]], name = "`+ground.Printable(q.Kit)+`", match = ["parts/"]`,
					"the rules of %s name no kit %q", key, ground.Printable(q.Kit))
			}
			some := false
			if err := s.Forest(tx, p.ID).Range(ctx, root, "", "", func(e *tree.Entry) bool {
				some = inKit(k, e)
				return !some && ctx.Err() == nil
			}); err != nil {
				return err
			}
			if !some {
				return model.NewProblem(model.BadRequest, "tarn rules test PATH says how patterns fit", "nothing in h%d is of the kit %s", number,
					q.Kit)
			}
			r = model.KitRelease{Kit: k.Name, Handoff: number, Match: k.Match, Note: q.Note}
			if r.Number, err = tx.AddKitRelease(ctx, p.ID, actor.ID, r); err != nil {
				return err
			}
			if r, err = tx.KitRelease(ctx, p.ID, k.Name, r.Number); err != nil {
				return err
			}
			if err := tx.AddEvent(ctx, p.ID, actor.ID, news.KitReleased, map[string]any{"name": k.Name, "number": r.Number, "handoff": number,
				"note": q.Note}); err != nil {
				return err
			}
			return tell(ctx, tx, p, actor, r)
		})
	})
	if err == nil {
		s.WakeHistory()
	}
	return r, err
}

// tell tells the projects that use a kit of a release of it, where anybody belongs to both: not what is in it, which is for whoever may
// look.
func tell(ctx context.Context, tx *records.Tx, maker records.Project, actor ground.Actor, r model.KitRelease) error {
	using, err := tx.Using(ctx, maker.Key, r.Kit)
	if err != nil {
		return err
	}
	for _, u := range using {
		if !u.Shared || u.Archived {
			continue
		}
		if err := tx.AddEvent(ctx, u.ID, actor.ID, news.KitNewer, map[string]any{"name": maker.Key + "/" + r.Kit,
			"number": r.Number}); err != nil {
			return err
		}
	}
	return nil
}

// inKit says whether an entry is of a kit: what the team itself works by stays out.
func inKit(k *rules.Kit, e *tree.Entry) bool {
	_, used := kit.Folder(e.Key)
	return !used && e.Key != rules.File && k.Has(e.Spelling())
}

// Kits lists the kits that a project makes, and those that it uses on a branch, "" for the first.
func (s *Room) Kits(ctx context.Context, actor ground.Actor, key, branch string) (out model.Kits, err error) {
	out = model.Kits{Made: []model.Kit{}, Uses: []model.KitUse{}}
	var p records.Project
	var root chunk.Digest
	if err := s.KnowingRules(ctx, func() error {
		return s.Use(ctx, func(tx *records.Tx) error {
			if p, err = ground.Project(ctx, tx, actor, key, model.Viewer); err != nil {
				return err
			}
			first, err := ground.Head(ctx, tx, p, "")
			if err != nil {
				return err
			}
			on, err := ground.Head(ctx, tx, p, branch)
			if err != nil {
				return err
			}
			root = on.Root
			present, err := s.PresentRules(ctx, tx, p, first.Root)
			if err != nil {
				return err
			}
			releases, err := tx.KitReleases(ctx, p.ID, "")
			if err != nil {
				return err
			}
			out.Made = made(present, releases)
			return nil
		})
	}); err != nil {
		return out, err
	}
	uses, err := s.uses(ctx, p, root)
	if err != nil {
		return out, err
	}
	return out, s.Use(ctx, func(tx *records.Tx) error {
		out.Uses = out.Uses[:0]
		newest, err := ground.NewestReleases(ctx, tx, actor, allSay(uses))
		for i, u := range uses {
			row := u.row()
			row.Newest = newest[i]
			out.Uses = append(out.Uses, row)
		}
		return err
	})
}

// made joins what the rules name with what was released.
func made(present *rules.Rules, releases []model.KitRelease) []model.Kit {
	list := []model.Kit{}
	at := map[string]int{}
	add := func(name string) *model.Kit {
		if _, there := at[name]; !there {
			at[name] = len(list)
			list = append(list, model.Kit{Name: name, Match: []string{}, Releases: []model.KitRelease{}})
		}
		return &list[at[name]]
	}
	for _, k := range present.Kits {
		add(k.Name).Match = k.Match
	}
	for _, r := range releases {
		k := add(r.Kit)
		k.Releases = append(k.Releases, r)
	}
	slices.SortFunc(list, func(a, b model.Kit) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// released is a release with what is in it, for somebody who may look at its project, and the number of the latest.
type released struct {
	project records.Project
	release model.KitRelease
	newest  int
	assets  []model.KitAsset
}

func (s *Room) released(ctx context.Context, actor ground.Actor, key, name string, number int) (r released, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		if r.project, err = ground.Project(ctx, tx, actor, key, model.Viewer); err != nil {
			return err
		}
		latest, err := tx.KitRelease(ctx, r.project.ID, name, 0)
		if errors.Is(err, records.ErrNotFound) {
			return model.NewProblem(model.NotFound, "tarn kit list shows those that there are", "%s has released no such kit: %s", key,
				ground.Printable(name))
		} else if err != nil {
			return err
		}
		r.release, r.newest = latest, latest.Number
		if number != 0 && number != latest.Number {
			if r.release, err = tx.KitRelease(ctx, r.project.ID, name, number); errors.Is(err, records.ErrNotFound) {
				return model.NewProblem(model.NotFound, "tarn kit show "+key+"/"+name+" lists them", "%s@%d was not released: the latest is @%d", name,
					number, latest.Number)
			} else if err != nil {
				return err
			}
		}
		r.assets, err = s.assetsOf(ctx, tx, r.project, r.release)
		return err
	})
	return r, err
}

// assetsOf is what is in a release, by path.
func (s *Room) assetsOf(ctx context.Context, tx *records.Tx, p records.Project, r model.KitRelease) (list []model.KitAsset, err error) {
	k, err := rules.KitOf(r.Kit, r.Match)
	if err != nil {
		return nil, err
	}
	root, err := ground.RootAt(ctx, tx, p, r.Handoff)
	if err != nil {
		return nil, err
	}
	list = []model.KitAsset{}
	err = s.Forest(tx, p.ID).Range(ctx, root, "", "", func(e *tree.Entry) bool {
		if inKit(k, e) {
			list = append(list, model.KitAsset{Path: e.Spelling(), Version: e.Version, Content: e.Content.String(), Size: e.Size,
				Executable: e.Mode&tree.Executable != 0, Asset: e.Asset})
		}
		return len(list) <= kit.MaxAssets && ctx.Err() == nil
	})
	if err == nil && len(list) > kit.MaxAssets {
		err = model.NewProblem(model.TooLarge, "make several kits of it", "a kit has at most %d assets", kit.MaxAssets)
	}
	return list, err
}

// KitState shows a release, the latest with 0, and what is different in it beside the one before, or beside the release since.
func (s *Room) KitState(ctx context.Context, actor ground.Actor, key, name string, number, since int) (out model.KitState, err error) {
	r, err := s.released(ctx, actor, key, name, number)
	if err != nil {
		return out, err
	}
	out = model.KitState{KitRelease: r.release, Assets: r.assets}
	for _, a := range r.assets {
		out.Size += a.Size
	}
	if since == 0 {
		since = r.release.Number - 1
	}
	if since == 0 {
		return out, nil
	}
	before, err := s.released(ctx, actor, key, name, since)
	if err != nil {
		return out, err
	}
	out.Assets = beside(before.assets, r.assets)
	return out, nil
}

// beside says of assets what they are beside those of before, with those that are gone.
func beside(before, now []model.KitAsset) []model.KitAsset {
	was, byAsset := map[string]model.KitAsset{}, map[int64]model.KitAsset{}
	for _, b := range before {
		was[assetpath.Fold(b.Path)], byAsset[b.Asset] = b, b
	}
	kept := map[int64]bool{}
	for _, a := range now {
		kept[a.Asset] = true
	}
	out := []model.KitAsset{}
	for _, a := range now {
		b, there := byAsset[a.Asset]
		if !there {
			b, there = was[assetpath.Fold(a.Path)] // another asset took its place
			there = there && !kept[b.Asset]
		}
		switch {
		case !there:
			a.Change = "new"
		case a.Path != b.Path:
			a.Change, a.Was, a.Before = "moved", b.Path, b.Version
		case b.Content != a.Content || b.Executable != a.Executable:
			a.Change, a.Before = "changed", b.Version
		}
		delete(was, assetpath.Fold(a.Path))
		out = append(out, a)
	}
	for _, b := range before {
		if _, left := was[assetpath.Fold(b.Path)]; left && !kept[b.Asset] {
			b.Change = "gone"
			out = append(out, b)
		}
	}
	slices.SortStableFunc(out, func(a, b model.KitAsset) int { return strings.Compare(assetpath.Fold(a.Path), assetpath.Fold(b.Path)) })
	return out
}
