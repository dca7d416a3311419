package service_test

import (
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

// twig is a version in the model: an independent and slow account of what branches and merges mean.
type twig struct {
	gone          bool
	path, content string
	parents       []int
}

// apartWalk is a random walk over branches, beside its model. Assets are numbered, and named so that no two ever want one name.
type apartWalk struct {
	*team
	r      *rand.Rand
	assets [][]twig // by asset, by version number - 1
	// tips are the newest versions of a state, by asset, and states are those of all handoffs; parents are their parents.
	tips    map[string]map[int]int
	heads   map[string]int
	states  []map[int]int
	parents [][]int
	names   []string
	fresh   int
}

func (w *apartWalk) name() string {
	w.fresh++
	return fmt.Sprintf("d%d/f%d.png", w.fresh%3, w.fresh)
}

// ancestors are the versions that a version descends from, and itself.
func (w *apartWalk) ancestors(asset, number int) map[int]bool {
	seen := map[int]bool{}
	for ask := []int{number}; len(ask) > 0; ask = ask[1:] {
		if n := ask[0]; n > 0 && !seen[n] {
			seen[n] = true
			ask = append(ask, w.assets[asset][n-1].parents...)
		}
	}
	return seen
}

// behind are the handoffs behind one, and itself.
func (w *apartWalk) behind(n int) map[int]bool {
	seen := map[int]bool{}
	for ask := []int{n}; len(ask) > 0; ask = ask[1:] {
		if ask[0] > 0 && !seen[ask[0]] {
			seen[ask[0]] = true
			ask = append(ask, w.parents[ask[0]-1]...)
		}
	}
	return seen
}

func (w *apartWalk) alive(branch string) (list []int) {
	for a, n := range w.tips[branch] {
		if !w.assets[a][n-1].gone {
			list = append(list, a)
		}
	}
	sort.Ints(list)
	return list
}

func (w *apartWalk) grow(branch string, asset int, t twig) {
	t.parents = nil
	if n := w.tips[branch][asset]; n > 0 {
		t.parents = []int{n}
	}
	w.assets[asset] = append(w.assets[asset], t)
	w.tips[branch][asset] = len(w.assets[asset])
}

// landed notes a handoff.
func (w *apartWalk) landed(branch string, number int, parents ...int) {
	w.Helper()
	if number != len(w.states)+1 {
		w.Fatalf("h%d comes behind %d handoffs", number, len(w.states))
	}
	w.states, w.parents = append(w.states, maps.Clone(w.tips[branch])), append(w.parents, parents)
	w.heads[branch] = number
}

func (w *apartWalk) edit(branch string) {
	var list []handoffs.Change
	for range 1 + w.r.IntN(3) {
		alive := w.alive(branch)
		if op := w.r.IntN(10); op < 2 || len(alive) < 4 {
			w.assets = append(w.assets, nil)
			t := twig{path: w.name(), content: fmt.Sprint("new ", w.fresh)}
			list = append(list, w.change(w.tamsin, t.path, 0, 0, t.content))
			w.grow(branch, len(w.assets)-1, t)
		} else {
			a := alive[w.r.IntN(len(alive))]
			n := w.tips[branch][a]
			t := w.assets[a][n-1]
			if slices.ContainsFunc(list, func(c handoffs.Change) bool { return c.Path == t.path || c.MovedFrom == t.path }) {
				continue
			}
			switch c := (handoffs.Change{Path: t.path, Base: n}); {
			case op < 4: // deleted
				c.Gone, t.gone = true, true
				list = append(list, c)
			case op < 6: // moved
				c = w.change(w.tamsin, w.name(), n, 0, t.content)
				c.MovedFrom, t.path = t.path, c.Path
				list = append(list, c)
			default:
				t.content = fmt.Sprintf("%d of %d on %s", w.r.IntN(100000), a, branch)
				list = append(list, w.change(w.tamsin, t.path, n, 0, t.content))
			}
			w.grow(branch, a, t)
		}
	}
	if len(list) > 0 {
		w.landed(branch, w.on(w.tamsin, branch, list...), w.heads[branch])
	}
}

func (w *apartWalk) add() {
	from := w.names[w.r.IntN(len(w.names))]
	name, at := fmt.Sprintf("b%d", len(w.names)), w.heads[from]
	if w.r.IntN(3) == 0 {
		at = 1 + w.r.IntN(len(w.states)) // an old state, of whichever branch
	}
	w.addBranch(name, fmt.Sprint("h", at))
	w.names, w.heads[name], w.tips[name] = append(w.names, name), at, maps.Clone(w.states[at-1])
}

// mergeModel says what a merge comes to: which assets are open, and what becomes of each. counts is which side counts where both did the
// same thing, both says that the other side stays, too.
func (w *apartWalk) mergeModel(from, into, way string) (result map[int]twig, came map[int]int, asides []twig, open int) {
	here, there := w.tips[into], w.tips[from]
	base := map[int]int{}
	behind := w.behind(w.heads[into])
	common := 0
	for n := range w.behind(w.heads[from]) {
		if behind[n] {
			common = max(common, n)
		}
	}
	if common > 0 {
		base = w.states[common-1]
	}
	result, came = map[int]twig{}, map[int]int{}
	for a, t := range there {
		h := here[a]
		switch {
		case h == t, h > 0 && w.ancestors(a, h)[t]:
			continue
		case h == 0 || w.ancestors(a, t)[h]:
			came[a] = t
			continue
		}
		mine, its := w.assets[a][h-1], w.assets[a][t-1]
		if mine.gone && its.gone {
			result[a] = mine // the two deletions become one
			continue
		}
		if mine.gone || its.gone {
			switch way {
			case model.WayHere:
				result[a] = mine
			case model.WayThere:
				result[a] = its
			default:
				open++
			}
			continue
		}
		var was *twig
		if n := base[a]; n > 0 && !w.assets[a][n-1].gone {
			was = &w.assets[a][n-1]
		}
		out := mine
		edited := func(x twig) bool { return was == nil || x.content != was.content }
		moved := func(x twig) bool { return was == nil || x.path != was.path }
		stays := false
		if mine.content != its.content {
			switch {
			case edited(mine) && edited(its) && way == model.WayThere, !edited(mine):
				out.content = its.content
			case edited(mine) && edited(its) && way == model.WayBoth:
				stays = true
			}
		}
		if mine.path != its.path {
			switch {
			case moved(mine) && moved(its) && way == model.WayBoth && !stays:
				open++
				continue
			case moved(mine) && moved(its) && way == model.WayThere, !moved(mine):
				out.path = its.path
			}
		}
		if stays {
			asides = append(asides, its)
		}
		result[a] = out
	}
	return result, came, asides, open
}

func (w *apartWalk) bring() {
	from, into := w.names[w.r.IntN(len(w.names))], w.names[w.r.IntN(len(w.names))]
	if from == into || w.behind(w.heads[into])[w.heads[from]] {
		return
	}
	way := []string{model.WayHere, model.WayThere, model.WayBoth}[w.r.IntN(3)]
	result, came, asides, open := w.mergeModel(from, into, way)
	q := model.MergeRequest{Workspace: w.space["tamsin"], From: from, Into: into, Decide: []model.Decision{{Pattern: "*", Way: way}},
		Preview: true}
	seen, err := w.Merge(w.Context(), w.tamsin, key, q, "")
	if err != nil {
		w.Fatal(err)
	}
	if seen.Open != open || seen.Made != len(result)+len(asides) {
		for a, t := range result {
			w.Logf("asset %d: %+v; base %d, here %d, there %d", a, t, w.states[seen.Since-1][a], w.tips[into][a], w.tips[from][a])
		}
		w.Fatalf("%s into %s with %s: %d are open and %d made, want %d and %d + %d; %s", from, into, way, seen.Open, seen.Made, open, len(result),
			len(asides), comes(seen.Comes))
	}
	if open > 0 {
		return
	}
	q.Preview = false
	done, err := w.Merge(w.Context(), w.tamsin, key, q, uuid.NewString())
	if err != nil {
		w.Fatal(err)
	}
	there := w.tips[from]
	for a, n := range came {
		w.tips[into][a] = n
	}
	for a, t := range result {
		t.parents = []int{w.tips[into][a], there[a]}
		w.assets[a] = append(w.assets[a], t)
		w.tips[into][a] = len(w.assets[a])
	}
	for _, t := range asides {
		stem := strings.TrimSuffix(t.path, ".png") + " (" + from
		for n := 1; ; n++ {
			name := stem + ").png"
			if n > 1 {
				name = fmt.Sprintf("%s %d).png", stem, n)
			}
			if !w.stands(into, name) && !w.stands(from, name) {
				t.path = name
				break
			}
		}
		w.assets = append(w.assets, []twig{{path: t.path, content: t.content}})
		w.tips[into][len(w.assets)-1] = 1
	}
	w.landed(into, done.Handoff.Number, w.heads[into], w.heads[from])
}

func (w *apartWalk) stands(branch, path string) bool {
	return slices.ContainsFunc(w.alive(branch), func(a int) bool { return w.assets[a][w.tips[branch][a]-1].path == path })
}

// compare holds what the service has of a branch to the model.
func (w *apartWalk) compare(branch string) {
	w.Helper()
	var want []string
	for _, a := range w.alive(branch) {
		n := w.tips[branch][a]
		t := w.assets[a][n-1]
		want = append(want, fmt.Sprintf("%s v%d %s", t.path, n, testbed.Cut(w.T, []byte(t.content)).Content))
	}
	sort.Strings(want)
	page, err := w.Changes(w.Context(), w.viewer, key, history.Changes{Branch: branch, Limit: 5000})
	if err != nil {
		w.Fatal(err)
	}
	var got []string
	for _, a := range page.Assets {
		got = append(got, fmt.Sprintf("%s v%d %s", a.Path, a.Newest, a.Content))
	}
	sort.Strings(got)
	if !slices.Equal(got, want) {
		for i := range max(len(got), len(want)) {
			if i >= len(got) || i >= len(want) || got[i] != want[i] {
				w.Fatalf("after h%d, %s has\n%s\nwant\n%s", len(w.states), branch, strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
		}
	}
}

// dump is what the records say of history and branches, in a form in which ids of assets are told by what they are called first.
func dump(t *testing.T, url string) string {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	var out strings.Builder
	for _, sql := range []string{
		`select concat_ws(' ', asset_id, v.number, handoff, b.name, parents::text, path, gone, c.digest::text) from versions v
			join branches b on b.id = v.branch_id left join contents c on c.id = v.content_id order by asset_id, v.number`,
		`select concat_ws(' ', handoff, asset_id, number, before) from came order by handoff, asset_id`,
		`select concat_ws(' ', h.number, b.name, h.root::text, h.digest::text, h.assets, h.size, h.endings::text) from handoffs h
			join branches b on b.id = h.branch_id order by h.number`,
		`select concat_ws(' ', b.name, b.head, b.root::text, f.name, b.began, b.state, b.why, p.handle, b.assets, b.size, b.turn)
			from branches b left join branches f on f.id = b.came_from left join people p on p.id = b.person_id order by b.name`,
		`select concat_ws(' ', path, folded, folder, ending, number, handoff, size) from present order by folded`} {
		rows, err := conn.Query(t.Context(), sql)
		if err != nil {
			t.Fatal(err)
		}
		lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatal(err)
		}
		out.WriteString(strings.Join(lines, "\n") + "\n\n")
	}
	return out.String()
}

// listed holds what is listed as present against the tree, also after it was listed anew.
func (w *apartWalk) listed() {
	w.Helper()
	for round := range 2 {
		var trees, lists []string
		page, err := w.Folder(w.Context(), w.tamsin, key, history.Listing{Below: true})
		was, failed := w.Changes(w.Context(), w.tamsin, key, history.Changes{})
		if err != nil || failed != nil {
			w.Fatal(err, failed)
		}
		for _, a := range page.Assets {
			lists = append(lists, fmt.Sprint(a.Path, a.Newest, a.Size))
		}
		for _, a := range was.Assets {
			trees = append(trees, fmt.Sprint(a.Path, a.Newest, a.Size))
		}
		if !slices.Equal(trees, lists) || page.Total != len(trees) {
			w.Fatalf("%d are listed as present:\n%s\nbut %d are in the tree:\n%s", page.Total, strings.Join(lists, "\n"), len(trees),
				strings.Join(trees, "\n"))
		}
		if round > 0 {
			break
		}
		conn, err := pgx.Connect(w.Context(), w.URL)
		if err == nil {
			_, err = conn.Exec(w.Context(), "update branches set listed = 0; delete from present where asset_id % 2 = 0")
			conn.Close(w.Context())
		}
		if err != nil {
			w.Fatal(err)
		}
	}
}

// TestAWalkOverBranches: edits, moves, deletions, branches and merges both ways, beside a simple model; then everything is looked through,
// and comes back from the packs alone. SOAK=1 walks far.
func TestAWalkOverBranches(t *testing.T) {
	steps := 80
	seed := uint64(17)
	if os.Getenv("SOAK") != "" {
		steps, seed = 3000, rand.Uint64()
		t.Logf("seed %d", seed)
	}
	folder := t.TempDir()
	directory, err := store.OpenDirectory(folder)
	if err != nil {
		t.Fatal(err)
	}
	w := &apartWalk{team: newTeam(t, directory), r: rand.New(rand.NewPCG(seed, 1)), tips: map[string]map[int]int{"main": {}},
		heads: map[string]int{"main": 0}, names: []string{"main"}}
	first := []handoffs.Change{}
	for range 12 {
		w.assets = append(w.assets, nil)
		s := twig{path: w.name(), content: fmt.Sprint("first ", w.fresh)}
		first = append(first, w.change(w.tamsin, s.path, 0, 0, s.content))
		w.grow("main", len(w.assets)-1, s)
	}
	w.landed("main", w.on(w.tamsin, "main", first...))
	for range steps {
		switch op := w.r.IntN(20); {
		case op == 0 && len(w.names) < 6:
			w.add()
		case op < 8:
			w.bring()
		default:
			w.edit(w.names[w.r.IntN(len(w.names))])
		}
		w.compare(w.names[w.r.IntN(len(w.names))])
	}
	for _, name := range w.names {
		w.compare(name)
	}
	if len(w.names) > 2 {
		ok(t)(w.SetBranchState(t.Context(), w.tamsin, key, w.names[1], model.Done))
		ok(t)(w.SetBranchState(t.Context(), w.tamsin, key, w.names[2], model.Closed))
	}
	w.sound()
	if err := w.KeepHistory(t.Context()); err != nil {
		t.Fatal(err)
	}
	w.listed()
	before := dump(t, w.URL)
	url := testbed.Database(t)
	db, err := records.Open(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	fresh := service.New(db, directory, t.TempDir(), slog.New(slog.DiscardHandler))
	list, err := fresh.Rebuild(t.Context(), "odile", func(string, int64, int64) {})
	if err != nil || len(list) != 1 || list[0].Handoffs != len(w.states) {
		t.Fatalf("rebuilt: %+v, %v", list, err)
	}
	if after := dump(t, url); after != before {
		a, b := strings.Split(before, "\n"), strings.Split(after, "\n")
		for i := range max(len(a), len(b)) {
			if i >= len(a) || i >= len(b) || a[i] != b[i] {
				t.Fatalf("line %d was\n%s\nand is\n%s", i, a[min(i, len(a)-1)], b[min(i, len(b)-1)])
			}
		}
	}
	if v, err := fresh.Verify(t.Context(), keeping.VerifyOptions{}); err != nil || len(v.Findings) > 0 {
		t.Errorf("%+v, %v", v.Findings, err)
	}
}
