package service_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/testbed"
)

// TestListingsAreFilteredAndSorted holds each filter and each order against what the assets themselves say.
func TestListingsAreFilteredAndSorted(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	var first, second []handoffs.Change
	for i := range 12 {
		first = append(first, m.change(m.tamsin, fmt.Sprintf("Levels/L%d/rock%02d.PNG", i%3, i), 0, 0, strings.Repeat("x", i*7%5*100+i)))
	}
	for i, name := range []string{"sounds/horn.wav", "sounds/deep/bell.ogg", "readme", "sounds/.hidden", "a.b/c"} {
		second = append(second, m.change(m.rurik, name, 0, 0, strings.Repeat("y", 50*i+1)))
	}
	ok(t)(m.send(m.tamsin, first...))
	ok(t)(m.send(m.rurik, second...))
	m.lock(m.tamsin, "Levels/L1/rock01.PNG", 1)
	m.lock(m.rurik, "sounds/horn.wav", 1)
	all, err := m.Folder(ctx, m.viewer, key, history.Listing{Below: true})
	if err != nil || len(all.Assets) != 17 {
		t.Fatalf("%d, %v", len(all.Assets), err)
	}
	in := func(folder string) func(model.Asset) bool {
		return func(a model.Asset) bool { return strings.HasPrefix(a.Path, folder+"/") }
	}
	for _, c := range []struct {
		q    history.Listing
		fits func(model.Asset) bool
	}{
		{history.Listing{Folder: "levels", Below: true}, in("Levels")},
		{history.Listing{Folder: "sounds", Kind: media.Sound}, in("sounds")},
		{history.Listing{Kind: media.Texture}, in("Levels")},
		{history.Listing{Kind: media.Other}, func(a model.Asset) bool { return media.KindOf(a.Path) == media.Other }},
		{history.Listing{Author: "rurik"}, func(a model.Asset) bool { return a.Author == "rurik" }},
		{history.Listing{Author: "nobody"}, func(model.Asset) bool { return false }},
		{history.Listing{Least: 200, Most: 330}, func(a model.Asset) bool { return a.Size >= 200 && a.Size <= 330 }},
		{history.Listing{Lock: "held"}, func(a model.Asset) bool { return a.Holder != "" }},
		{history.Listing{Lock: "free"}, func(a model.Asset) bool { return a.Holder == "" }},
		{history.Listing{Lock: "by:tamsin"}, func(a model.Asset) bool { return a.Holder == "tamsin" }},
		{history.Listing{Lock: "waited"}, func(model.Asset) bool { return false }},
		{history.Listing{Since: "2020-01-01"}, func(model.Asset) bool { return true }},
		{history.Listing{Until: "2020-01-01"}, func(model.Asset) bool { return false }},
		{history.Listing{Review: model.ReviewRemarked}, func(model.Asset) bool { return false }},
		{history.Listing{Text: "ROCK1"}, func(a model.Asset) bool { return strings.Contains(a.Path, "rock1") }},
	} {
		if c.fits == nil {
			continue
		}
		var want []string
		for _, a := range all.Assets {
			if c.q.Kind == media.Sound && media.KindOf(a.Path) != media.Sound {
				continue
			}
			if c.fits(a) {
				want = append(want, a.Path)
			}
		}
		for skip := 0; skip <= len(want); skip += 3 {
			c.q.Skip, c.q.Limit = skip, 3
			page, err := m.Folder(ctx, m.viewer, key, c.q)
			var got []string
			for _, a := range page.Assets {
				got = append(got, a.Path)
			}
			if expect := want[skip:min(skip+3, len(want))]; err != nil || !slices.Equal(got, expect) || page.Total != len(want) {
				t.Errorf("%+v: %v of %d, %v; want %v of %d", c.q, got, page.Total, err, expect, len(want))
			}
		}
	}
	by := map[string]func(a, b model.Asset) int{
		model.BySize:    func(a, b model.Asset) int { return int(a.Size - b.Size) },
		model.ByVersion: func(a, b model.Asset) int { return a.Newest - b.Newest },
		model.ByDate:    func(a, b model.Asset) int { return a.Handoff - b.Handoff },
		model.ByPerson:  func(a, b model.Asset) int { return strings.Compare(a.Author, b.Author) },
	}
	for order, compare := range by {
		for _, down := range []bool{false, true} {
			page, err := m.Folder(ctx, m.viewer, key, history.Listing{Below: true, Order: order, Down: down})
			if err != nil || len(page.Assets) != 17 || !slices.IsSortedFunc(page.Assets, func(a, b model.Asset) int {
				if down {
					a, b = b, a
				}
				return compare(a, b)
			}) {
				t.Errorf("by %s, %v: %v", order, down, err)
			}
		}
	}
	for _, q := range []history.Listing{{Kind: "painting"}, {Order: "smell"}, {Review: "perhaps"}, {Lock: "mine"}, {Since: "soon"}, {Skip: -1},
		{At: "h1", Kind: "sound"}, {Text: "\x00"}, {Author: strings.Repeat("x", 5000)}} {
		if _, err := m.Folder(ctx, m.viewer, key, q); !errors.As(err, new(*model.Problem)) {
			t.Errorf("%+v gives %v", q, err)
		}
	}
}

// TestAFilterIsCountedOnceAState: its other pages, and orders, know how many there are; what came since is counted, and so is what moves
// without a handoff.
func TestAFilterIsCountedOnceAState(t *testing.T) {
	m := newTeam(t, nil)
	var list []handoffs.Change
	for i := range 8 {
		list = append(list, m.change(m.tamsin, fmt.Sprintf("horn%d.wav", i), 0, 0, "x"),
			m.change(m.tamsin, fmt.Sprintf("rust%d.png", i), 0, 0, "y"))
	}
	ok(t)(m.send(m.tamsin, list...))
	look := func(q history.Listing, total int) int64 {
		t.Helper()
		q.Limit = 2
		ctx, asked := testbed.Counted(t.Context())
		page, err := m.Folder(ctx, m.viewer, key, q)
		if err != nil || page.Total != total || len(page.Assets) != 2 {
			t.Errorf("%+v: %d of %d, %v", q, len(page.Assets), page.Total, err)
		}
		return asked.Load()
	}
	sounds, next := history.Listing{Kind: media.Sound}, history.Listing{Kind: media.Sound, Skip: 2, Order: model.BySize, Down: true}
	first := look(sounds, 8)
	if again := look(next, 8); again != first-1 {
		t.Errorf("the first page takes %d statements, the next one %d", first, again)
	}
	if other := look(history.Listing{Kind: media.Texture}, 8); other != first {
		t.Errorf("another filter takes %d statements, not %d", other, first)
	}
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "deep/bell.ogg", 0, 0, "z")))
	if after := look(next, 9); after != first {
		t.Errorf("after a handoff it takes %d statements, not %d", after, first)
	}
	free := history.Listing{Lock: "free"}
	look(free, 17)
	m.lock(m.rurik, "horn1.wav", 1)
	look(free, 16)
}

// TestAssetsByTheirReviews: what is being looked at, has remarks, had some, and was agreed to, of handoffs and of branches; a yes to what
// came before is none to what came behind it.
func TestAssetsByTheirReviews(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	m.on(m.tamsin, "main", m.change(m.tamsin, "rust.png", 0, 0, "rust"), m.change(m.tamsin, "horn.wav", 0, 0, "horn"))
	m.on(m.tamsin, "main", m.change(m.tamsin, "kelp.png", 0, 0, "kelp"))
	m.addBranch("bell", "")
	m.on(m.tamsin, "bell", m.change(m.tamsin, "horn.wav", 1, 0, "deeper"))
	stand := func(want map[string]string) {
		t.Helper()
		for _, state := range model.ReviewStates {
			page, err := m.Folder(ctx, m.viewer, key, history.Listing{Review: state})
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, a := range page.Assets {
				got = append(got, a.Path)
			}
			if strings.Join(got, " ") != want[state] {
				t.Errorf("%s: %v, want %s", state, got, want[state])
			}
		}
	}
	stand(nil)
	of := func(what string) {
		t.Helper()
		if _, err := m.OpenReview(ctx, m.tamsin, key, model.ReviewRequest{Of: what, Text: "look", Ask: []string{"rurik", "keiko"}}); err != nil {
			t.Fatal(err)
		}
	}
	answer := func(review int, yes bool, who ...ground.Actor) {
		t.Helper()
		for _, by := range who {
			if _, err := m.AnswerReview(ctx, by, key, review, model.AnswerRequest{Yes: yes, Why: "because"}); err != nil {
				t.Fatal(err)
			}
		}
	}
	of("h2")
	of("bell")
	stand(map[string]string{model.ReviewOpen: "horn.wav kelp.png"})
	if _, err := m.Say(ctx, m.viewer, key, 1, model.RemarkRequest{Text: "too green", Path: "kelp.png"}); err != nil {
		t.Fatal(err)
	}
	stand(map[string]string{model.ReviewOpen: "horn.wav kelp.png", model.ReviewRemarked: "kelp.png"})
	if _, err := m.Settle(ctx, m.tamsin, key, 1, model.SettleRequest{Remark: 1, Settled: true}); err != nil {
		t.Fatal(err)
	}
	answer(1, true, m.rurik)
	stand(map[string]string{model.ReviewOpen: "horn.wav kelp.png", model.ReviewSettled: "kelp.png"})
	answer(1, true, m.viewer)
	stand(map[string]string{model.ReviewOpen: "horn.wav kelp.png", model.ReviewSettled: "kelp.png", model.ReviewAgreed: "kelp.png"})
	answer(1, false, m.viewer)
	stand(map[string]string{model.ReviewOpen: "horn.wav kelp.png", model.ReviewSettled: "kelp.png"})
	answer(2, true, m.rurik, m.viewer)
	if _, err := m.merge(m.tamsin, "bell", "main"); err != nil {
		t.Fatal(err)
	}
	stand(map[string]string{model.ReviewOpen: "horn.wav kelp.png", model.ReviewSettled: "kelp.png", model.ReviewAgreed: "horn.wav"})
	m.on(m.tamsin, "main", m.change(m.tamsin, "horn.wav", 2, 0, "louder"))
	stand(map[string]string{model.ReviewOpen: "horn.wav kelp.png", model.ReviewSettled: "kelp.png"})
}
