package api_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"kettletarn/demo/scene"
	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// outside asks without any sign-in; what is asked for may be made from what a link leads to.
func (h *shelf) outside(address string) (int, string) {
	h.Helper()
	answer, text := request(h.T, h.url, "", http.MethodGet, address, "", nil)
	return answer.StatusCode, string(text)
}

// TestShowings: a link leads whoever has it to what it shows, whatever else there is, and to nothing when it is over, was ended, was
// switched off, or was made by somebody who is not in the project any more.
func TestShowings(t *testing.T) {
	h := looking(t)
	h.hand("Secret", map[string][]byte{"textures/salt.png": scene.Albedo("kelp", 64, 0)}, nil)
	ctx := t.Context()
	add := func(q model.ShowingRequest) (model.Showing, string) {
		t.Helper()
		q.For, q.Days = "Harbour Press", 14
		s, err := h.rurik.AddShowing(ctx, key, q)
		if err != nil {
			t.Fatal(err)
		}
		return s, s.Address
	}
	leads := func(address string, want int) {
		t.Helper()
		if status, text := h.outside(address); status != want {
			t.Errorf("%s: %d, want %d: %.200s", address, status, want, text)
		}
	}
	one, version := add(model.ShowingRequest{Path: "textures/rust.png", Version: 1})
	_, both := add(model.ShowingRequest{Path: "textures/rust.png", Version: 1, Compare: true, WithVersion: 2})
	_, state := add(model.ShowingRequest{At: "h3"})
	_, given := add(model.ShowingRequest{Path: "text/keeper.txt", Files: true})

	var shown model.Exhibit
	_, text := h.outside(version)
	if err := json.Unmarshal([]byte(text), &shown); err != nil || shown.Path != "textures/rust.png" || shown.Version != 1 ||
		shown.By != "rurik" || shown.For != "Harbour Press" || shown.Project != key {
		t.Errorf("%s %v", text, err)
	}
	for _, call := range []string{"/look?path=textures/rust.png", "/look?path=textures/rust.png&version=1",
		"/look/file?path=textures/rust.png&version=1&name=whole.png", "/thumbnail?path=textures/rust.png&version=1&edge=320"} {
		leads(version+call, 200)
	}
	for _, call := range []string{"/look?path=textures/rust.png&version=2", "/look?path=textures/salt.png", "/lines?path=text/keeper.txt",
		"/thumbnail?path=text/keeper.txt&edge=96", "/compare?path=textures/rust.png&a=1&b=2", "/assets", "/look?path=../x",
		"/look/file?path=textures/rust.png&name=../report.json", "/history", "/projects", "/news"} {
		leads(version+call, 404)
	}
	leads(version+"/file?path=textures/rust.png", 403)
	leads("/projects/"+key, 401)
	leads("/projects/"+key+"/look?path=textures/rust.png", 401)

	// Of two it shows both and what is between them, and says nothing of who made them and why.
	status, text := h.outside(both + "/compare?path=textures/rust.png&a=1&with=textures/rust.png&b=2")
	if status != 200 || strings.Contains(text, "Deeper") || strings.Contains(text, "odile") {
		t.Errorf("%d %.300s", status, text)
	}
	leads(both+"/compare/file?path=textures/rust.png&a=1&b=2&name=difference.png", 200)
	leads(both+"/look?path=textures/rust.png&version=2", 200)
	leads(both+"/look?path=textures/rust.png&version=3", 404)

	// Of a state all that was in it, as it was: not what came behind it.
	var page model.ExhibitPage
	_, text = h.outside(state + "/assets?limit=2")
	if err := json.Unmarshal([]byte(text), &page); err != nil || len(page.Assets) != 2 || page.Next != page.Assets[1].Path {
		t.Errorf("%s %v", text, err)
	}
	_, text = h.outside(state + "/assets?after=" + page.Next)
	if page = (model.ExhibitPage{}); json.Unmarshal([]byte(text), &page) != nil || len(page.Assets) != 1 ||
		page.Assets[0] != (model.ExhibitAsset{Path: "textures/rust.png", Version: 2, Size: page.Assets[0].Size}) || page.Next != "" {
		t.Errorf("%s", text)
	}
	if _, text = h.outside(state + "/assets?search=RUST"); strings.Count(text, "path") != 1 {
		t.Errorf("%s", text)
	}
	leads(state+"/look?path=textures/rust.png&version=2", 200)
	leads(state+"/look?path=textures/rust.png&version=1", 404)
	leads(state+"/look?path=textures/salt.png", 404)

	status, text = h.outside(given + "/lines?path=text/keeper.txt")
	if status != 200 || strings.Contains(text, "odile") || strings.Contains(text, "Deeper") {
		t.Errorf("%d %.300s", status, text)
	}
	leads(given+"/file?path=text/keeper.txt", 200)

	// Who made what, whether it was opened; and what ends it.
	all, err := h.odile.Showings(ctx, key)
	if err != nil || len(all.Showings) != 4 || all.Showings[3].Opened != 1 || all.Showings[3].OpenedLast == nil || !all.Showings[3].Holds ||
		all.Showings[3].Address != "" {
		t.Errorf("%+v %v", all, err)
	}
	if _, err := h.rurik.SwitchShowings(ctx, key, true); err == nil {
		t.Error("an artist switches them off")
	}
	if off, err := h.odile.SwitchShowings(ctx, key, true); err != nil || !off.Off || off.Showings[0].Holds {
		t.Errorf("%+v %v", off, err)
	}
	leads(version, 404)
	leads(state+"/look?path=textures/rust.png", 404)
	_, err = h.rurik.AddShowing(ctx, key, model.ShowingRequest{At: "h2", For: "Harbour Press", Days: 1})
	testbed.Problem(t, err, model.NotAllowed)
	if _, err := h.odile.SwitchShowings(ctx, key, false); err != nil {
		t.Fatal(err)
	}
	leads(version, 200)
	if err := h.odile.EndShowing(ctx, key, one.Number); err != nil {
		t.Fatal(err)
	}
	leads(version, 404)
	leads(version+"/look?path=textures/rust.png", 404)
	db, err := pgx.Connect(ctx, h.records)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	if _, err := db.Exec(ctx, `update showings set until = now() where number = 2`); err != nil {
		t.Fatal(err)
	}
	leads(both, 404)
	leads(state, 200)
	for _, ended := range []string{"now()", "null"} {
		if _, err := db.Exec(ctx, `update people set ended = `+ended+` where handle = 'rurik'`); err != nil {
			t.Fatal(err)
		}
		leads(given, map[string]int{"now()": 404, "null": 200}[ended])
	}
	if err := h.odile.RemoveMember(ctx, key, "rurik"); err != nil {
		t.Fatal(err)
	}
	leads(state, 404)
	leads(given+"/file?path=text/keeper.txt", 404)
	var kinds []string
	if err := db.QueryRow(ctx, `select array_agg(kind order by id) from events where kind like 'showing%'`).Scan(&kinds); err != nil ||
		strings.Join(kinds, " ") != "showing.added showing.added showing.added showing.added showing.opened showings.switched showings.switched "+
			"showing.ended showing.opened showing.opened" {
		t.Errorf("%v %v", kinds, err)
	}
}

// TestShowingsThatAreNone are refused, with what to write instead.
func TestShowingsThatAreNone(t *testing.T) {
	h := looking(t)
	for _, q := range []model.ShowingRequest{
		{At: "h2", Days: 14}, {At: "h2", For: "them", Days: 0}, {At: "h2", For: "them", Days: 367}, {For: "them", Days: 1},
		{At: "h2", Path: "text/keeper.txt", For: "them", Days: 1}, {At: "h2", Compare: true, For: "them", Days: 1},
		{Path: "text/keeper.txt", WithVersion: 2, For: "them", Days: 1}, {Path: "text/keeper.txt", For: "a\nb", Days: 1},
	} {
		_, err := h.rurik.AddShowing(t.Context(), key, q)
		testbed.Problem(t, err, model.BadRequest)
	}
	for _, q := range []model.ShowingRequest{{At: "h9", For: "them", Days: 1}, {At: "no-such", For: "them", Days: 1},
		{Path: "none.png", For: "them", Days: 1}, {Path: "text/keeper.txt", Version: 7, For: "them", Days: 1}} {
		_, err := h.rurik.AddShowing(t.Context(), key, q)
		testbed.Problem(t, err, model.NotFound)
	}
	s, err := h.odile.AddShowing(t.Context(), key, model.ShowingRequest{At: "h1", For: "them", Days: 1})
	if err != nil {
		t.Fatal(err)
	}
	testbed.Problem(t, h.rurik.EndShowing(t.Context(), key, s.Number), model.NotAllowed)
	testbed.Problem(t, h.rurik.EndShowing(t.Context(), key, 99), model.NotFound)
	status, text := h.outside("/shown/nothing")
	if status != http.StatusNotFound || !strings.Contains(text, "shows nothing any more") {
		t.Errorf("%d %s", status, text)
	}
}
