package records_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/testbed"
)

// made is a handoff of a history with branches, as a plain graph knows it.
type made struct {
	branch   string
	parents  []int
	versions map[int64]int
	at       time.Time
}

// Histories with branches and merges at random: what the records say of a state has to be what a walk along all parents says.
func TestWhatIsNewestIsAQuestionOfAncestry(t *testing.T) {
	db := open(t, testbed.Database(t))
	project, person := project(t, db)
	ctx := t.Context()
	var graph []made // by number - 1
	assets := []int64{101, 102, 103}
	names := []string{"main", "fog", "lamp/glass"}
	heads, numbered := map[string]int{}, map[int64]int{}
	contents := map[int]int64{}
	r := rand.New(rand.NewPCG(16, 1))
	behind := func(n int) map[int]bool {
		seen := map[int]bool{}
		for ask := []int{n}; len(ask) > 0; ask = ask[1:] {
			if ask[0] > 0 && !seen[ask[0]] {
				seen[ask[0]] = true
				ask = append(ask, graph[ask[0]-1].parents...)
			}
		}
		return seen
	}
	newest := func(asset int64, state int) (version, handoff int) {
		for n := range behind(state) {
			if v := graph[n-1].versions[asset]; v > version {
				version, handoff = v, n
			}
		}
		return version, handoff
	}
	start := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	paths := []string{"a.png", "b.png", "c.png"}
	must(db.Write(ctx, func(tx *records.Tx) error {
		return tx.RestoreAssets(ctx, project, assets, paths, paths)
	}))
	for n := 1; n <= 40; n++ {
		name := names[r.IntN(len(names))]
		if n == 1 {
			name = "main"
		}
		m := made{branch: name, versions: map[int64]int{}, at: start.Add(time.Duration(n) * time.Hour)}
		if heads[name] == 0 && n > 1 {
			heads[name] = heads["main"] // it begins there
		}
		if heads[name] > 0 {
			m.parents = []int{heads[name]}
		}
		if other := heads[names[r.IntN(len(names))]]; n > 1 && other > 0 && !behind(heads[name])[other] && r.IntN(3) == 0 {
			m.parents = append(m.parents, other)
		}
		h := records.NewHandoff{Author: person}
		h.Record = chain.Handoff{Project: "brinelight", Number: n, Branch: name, Author: "tamsin", At: m.at.UnixMicro(), Note: fmt.Sprint(n)}
		for _, p := range m.parents {
			h.Record.Parents = append(h.Record.Parents, chain.Parent{Number: p})
		}
		must(db.Write(ctx, func(tx *records.Tx) (err error) {
			if h.Branch, err = tx.EnsureBranch(ctx, project, name, tree.Empty()); err != nil {
				return err
			}
			digest := chunk.Sum([]byte{byte(r.IntN(20))})
			if err := tx.AddContents(ctx, project, []records.Content{{Digest: digest, Size: int64(n)}}); err != nil {
				return err
			}
			known, err := tx.Contents(ctx, project, []chunk.Digest{digest}, false)
			if err != nil {
				return err
			}
			contents[n] = known[digest].ID
			for i, a := range assets {
				if r.IntN(2) == 0 && n > 1 {
					continue
				}
				numbered[a]++
				v := records.NewVersion{Asset: a, Number: numbered[a], Path: paths[i], Folded: paths[i], Content: contents[n]}
				for k, p := range m.parents {
					v.Parents[k], _ = newest(a, p)
				}
				m.versions[a] = v.Number
				h.Versions = append(h.Versions, v)
			}
			return tx.AddHandoffs(ctx, project, h)
		}))
		graph = append(graph, m)
		heads[name] = n
	}
	must(db.Use(ctx, func(tx *records.Tx) error {
		for state := 0; state <= len(graph); state++ {
			seen := map[int]bool{}
			if state > 0 {
				seen = behind(state)
			}
			tips, err := tx.Tips(ctx, project, state, assets)
			must(err)
			found, err := tx.AssetsByID(ctx, project, assets, state)
			must(err)
			last, err := tx.LastOf(ctx, project, state, assets)
			must(err)
			for _, a := range assets {
				version, handoff := newest(a, state)
				if tips[a].Number != version || tips[a].Numbered != numbered[a] {
					t.Fatalf("h%d: the tip of %d is %+v, and should be version %d of %d", state, a, tips[a], version, numbered[a])
				}
				if f := found[a]; f.Newest != version || f.Handoff != handoff || last[a].Handoff != handoff {
					t.Fatalf("h%d: %d is %+v, and should be version %d of h%d", state, a, f, version, handoff)
				}
			}
			list, err := tx.Handoffs(ctx, project, records.HandoffQuery{Behind: max(state, 1), Limit: 1000})
			must(err)
			if state > 0 && len(list) != len(seen) {
				t.Fatalf("h%d has %d handoffs behind it, and lists %d", state, len(seen), len(list))
			}
			for _, h := range list {
				if state > 0 && (!seen[h.Number] || h.Branch != graph[h.Number-1].branch || fmt.Sprint(h.Parents) != fmt.Sprint(append([]int{},
					graph[h.Number-1].parents...))) {
					t.Fatalf("h%d lists %+v", state, h)
				}
			}
			other := 1 + r.IntN(len(graph))
			apart := 0
			for n := range graph {
				if seen[n+1] != behind(other)[n+1] {
					apart++
				}
			}
			worked, err := tx.Worked(ctx, project, state, other)
			must(err)
			if apart == 0 && len(worked) > 0 || apart > 0 && (len(worked) != 1 || worked[0].Handoffs != apart) {
				t.Fatalf("h%d and h%d are %d handoffs apart: %+v", state, other, apart, worked)
			}
			when, want := 1+r.IntN(len(graph)), 0
			for n := range seen {
				if n <= when {
					want = max(want, n)
				}
			}
			if got, err := tx.HandoffUpTo(ctx, project, state, graph[when-1].at); err != nil || got != want {
				t.Fatalf("behind h%d and up to h%d: h%d, want h%d, %v", state, when, got, want, err)
			}
			checkOlder(t, tx, project, state, assets, contents, graph, seen)
		}
		v, err := tx.Version(ctx, project, heads["fog"], "a.png", 0)
		if version, _ := newest(101, heads["fog"]); err != nil || v.Version != version || v.Branch == "" || len(v.Parents) == 0 {
			t.Errorf("the newest on fog is %+v, %v, want version %d", v, err, version)
		}
		held, err := tx.Assets(ctx, project, "fog", []string{"a.png", "b.png"})
		if version, _ := newest(102, heads["fog"]); err != nil || held["b.png"].Newest != version || held["b.png"].Numbered != numbered[102] {
			t.Errorf("held on fog: %+v, %v", held["b.png"], err)
		}
		if held, err = tx.Assets(ctx, project, "", []string{"a.png"}); err != nil || held["a.png"].Newest != 0 || !held["a.png"].Gone {
			t.Errorf("no branch has %+v, %v", held["a.png"], err)
		}
		b, err := tx.Branch(ctx, project, "lamp/glass", false)
		if err != nil || b.Head != heads["lamp/glass"] {
			t.Errorf("%+v, %v", b, err)
		}
		_, err = tx.Branch(ctx, project, model.FirstBranch+"x", false)
		if err != records.ErrNotFound {
			t.Error("a branch that is not there was found")
		}
		return nil
	}))
}

// checkOlder compares the older versions with a content with those of the graph.
func checkOlder(t *testing.T, tx *records.Tx, project int64, state int, assets []int64, contents map[int]int64, graph []made,
	seen map[int]bool) {
	t.Helper()
	for n := range graph {
		wanted := contents[n+1]
		for _, a := range assets {
			found, err := tx.OlderVersions(t.Context(), project, state, []int64{a}, []int64{wanted}, []int{1 << 30})
			if err != nil {
				t.Fatal(err)
			}
			want := change.Earlier{}
			for m := range seen {
				if v := graph[m-1].versions[a]; v > want.Number && contents[m] == wanted {
					want.Number = v
				}
			}
			if found[a].Number != want.Number {
				t.Fatalf("h%d: the older version of %d is %d, want %d", state, a, found[a].Number, want.Number)
			}
		}
		if n > 3 {
			break
		}
	}
}
