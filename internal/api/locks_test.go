package api_test

import (
	"context"
	"encoding/csv"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// shelf is a project with some small assets, and two people in it.
type shelf struct {
	*testing.T
	url, records  string
	odile, rurik  *client.Client
	token         string
	space, rurik1 string
}

func newShelf(t *testing.T, paths ...string) *shelf {
	s := testbed.NewService(t, nil)
	server := s.Serve(t)
	_, owner := s.Person(t, "odile")
	_, artist := s.Person(t, "rurik")
	h := &shelf{T: t, url: server.URL, records: s.URL, token: owner,
		odile: testbed.Client(t, server.URL, owner), rurik: testbed.Client(t, server.URL, artist)}
	if _, err := h.odile.Start(t.Context(), key); err != nil {
		t.Fatal(err)
	}
	if _, err := h.odile.SetMember(t.Context(), key, "rurik", model.Artist); err != nil {
		t.Fatal(err)
	}
	for c, into := range map[*client.Client]*string{h.odile: &h.space, h.rurik: &h.rurik1} {
		w, err := c.AddWorkspace(t.Context(), key, "pc")
		if err != nil {
			t.Fatal(err)
		}
		*into = w.ID
	}
	m := testbed.Cut(t, []byte("small"))
	if err := h.odile.StoreRecords(t.Context(), key, testbed.Body(m.Records)); err != nil {
		t.Fatal(err)
	}
	send := model.SendRequest{Workspace: h.space, About: model.About{Note: "baseline"}}
	for _, p := range paths {
		send.Changes = append(send.Changes, model.SendChange{Path: p, Content: m.Content, Size: m.Size})
	}
	if _, err := h.odile.Send(t.Context(), key, uuid.NewString(), send); err != nil {
		t.Fatal(err)
	}
	return h
}

// get asks without the client, and returns status, content type and body.
func (h *shelf) get(path string) (int, string, string) {
	h.Helper()
	r, err := http.NewRequest(http.MethodGet, h.url+"/api/v1/projects/"+key+path, nil)
	if err != nil {
		h.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+h.token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		h.Fatal(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		h.Fatal(err)
	}
	return answer.StatusCode, answer.Header.Get("Content-Type"), string(text)
}

func TestTheLinesOverTheWire(t *testing.T) {
	h := newShelf(t, "a.png", "b.png")
	ctx := t.Context()
	take := model.LockRequest{Workspace: h.space, Assets: []model.LockWant{{Path: "a.png", Version: 1}}, Note: "rocks"}
	if l, err := h.odile.TakeLocks(ctx, key, take); err != nil || len(l.Locks) != 1 || len(l.Assets) != 0 {
		t.Fatalf("%+v, %v", l, err)
	}
	wait := model.LockRequest{Workspace: h.rurik1, Wait: true, Any: true,
		Assets: []model.LockWant{{Path: "a.png", Version: 1}, {Path: "b.png", Version: 1}, {Path: "c.png"}}}
	l, err := h.rurik.TakeLocks(ctx, key, wait)
	if err != nil || len(l.Locks) != 1 || len(l.Waiting) != 1 || l.Waiting[0].Place != 1 || len(l.Refusals) != 1 || len(l.Assets) != 1 ||
		len(l.Assets[0].Waiting) != 1 {
		t.Fatalf("%+v, %v", l, err)
	}
	if w, err := h.rurik.Ask(ctx, key, model.AskRequest{Workspace: h.rurik1, Path: "a.png", Reason: "a rail"}); err != nil ||
		w.Holder != "odile" {
		t.Fatalf("%+v, %v", w, err)
	}
	until := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	if err := h.odile.AnswerAsk(ctx, key, model.AskAnswer{Path: "a.png", Word: "nearly", Until: &until}); err != nil {
		t.Fatal(err)
	}
	all, err := h.rurik.Locks(ctx, key)
	if err != nil || len(all.Locks) != 2 {
		t.Fatalf("%+v, %v", all, err)
	}
	if k := all.Locks[0].Asks; len(k) != 1 || k[0].Answer != "not-yet" || k[0].Until == nil || !k[0].Until.Equal(until) ||
		k[0].Word != "nearly" {
		t.Errorf("%+v", k)
	}
	if status, _, text := h.get("/locks?path=B.png"); status != 200 || !strings.Contains(text, `"b.png"`) ||
		strings.Contains(text, `"a.png"`) {
		t.Errorf("%d %s", status, text)
	}
	if status, _, text := h.get("/locks?path=a%00b"); status != 400 {
		t.Errorf("a path with a zero byte: %d %s", status, text)
	}
	if err := h.rurik.LeaveLines(ctx, key, []string{"a.png", "b.png"}); err != nil {
		t.Error(err)
	}
	if err := h.rurik.LeaveLines(ctx, key, nil); err == nil {
		t.Error("leaving no line at all is taken")
	}
	if err := h.odile.AnswerAsk(ctx, key, model.AskAnswer{Path: "a.png", Word: strings.Repeat("x", 1001)}); err == nil {
		t.Error("a word of any length is taken")
	}
}

// What people write can't become a formula in somebody's spreadsheet.
func TestTheRecordAsATable(t *testing.T) {
	h := newShelf(t, "a.png", "-b.png")
	ctx := t.Context()
	for _, note := range []string{"=HYPERLINK(\"http://127.0.0.1\")", "+1", "-1", "@x", "plain, with \"quotes\"\nand lines"} {
		if _, err := h.odile.TakeLocks(ctx, key, model.LockRequest{Workspace: h.space, Note: note,
			Assets: []model.LockWant{{Path: "a.png", Version: 1}, {Path: "-b.png", Version: 1}}}); err != nil {
			t.Fatal(err)
		}
		if _, err := h.odile.ReleaseLocks(ctx, key, model.UnlockRequest{Workspace: h.space,
			Paths: []string{"a.png", "-b.png"}}); err != nil {
			t.Fatal(err)
		}
	}
	status, kind, text := h.get("/locks/record.csv?path=-b.png")
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if status != 200 || !strings.HasPrefix(kind, "text/csv") || err != nil || len(rows) != 6 {
		t.Fatalf("%d %s %q, %v", status, kind, rows, err)
	}
	for _, r := range rows[1:] {
		if r[0] != "'-b.png" || strings.ContainsAny(r[3][:1], "=+-@") || r[7] != "given-back" {
			t.Errorf("%q", r)
		}
	}
	for query, want := range map[string]int{"": 10, "person=odile": 10, "person=rurik": 0, "ending=sent": 0, "limit=3": 3, "since=" +
		time.Now().AddDate(0, 0, 1).Format(time.DateOnly): 0,
		"until=2026-01-01": 0, "since=2026-01-01T00:00:00Z": 10, "path=nowhere": 0} {
		values, err := url.ParseQuery(query)
		if err != nil {
			t.Fatal(err)
		}
		if r, err := h.odile.Record(context.Background(), key, values); err != nil || len(r.Holds) != want {
			t.Errorf("%s: %d entries, %v", query, len(r.Holds), err)
		}
	}
	for _, bad := range []string{"/locks/record?since=yesterday", "/locks/record.csv?until=1", "/locks/contested?weeks=0x",
		"/locks/contested?weeks=1000", "/locks/record?limit=-1", "/locks/record?person=%00", "/locks/record?person=%ff"} {
		if status, kind, _ := h.get(bad); status != 400 || !strings.HasPrefix(kind, "application/problem+json") {
			t.Errorf("%s is answered with %d %s", bad, status, kind)
		}
	}
	if status, _, text := h.get("/locks/contested"); status != 200 || !strings.Contains(text, `"contested":[]`) {
		t.Errorf("%d %s", status, text)
	}
}

func TestSettingsOfNews(t *testing.T) {
	h := newShelf(t, "a.png")
	ctx := t.Context()
	before, err := h.rurik.NewsSettings(ctx)
	if err != nil || before.Mail != "" || before.MailWorks || len(before.Kinds) != 9 || before.Kinds[0].Name != "turn" ||
		before.Kinds[0].Mail != "at-once" || !before.Kinds[0].Desktop {
		t.Fatalf("%+v, %v", before, err)
	}
	// Only what is named changes, and only one's own.
	after, err := h.rurik.SetNewsSettings(ctx, model.NewsSettings{Kinds: []model.NewsKind{{Name: "work", Mail: "never", Desktop: true}}})
	if err != nil || after.Mail != "" || after.Kinds[8].Mail != "never" || !after.Kinds[8].Desktop || after.Kinds[0].Mail != "at-once" {
		t.Errorf("%+v, %v", after, err)
	}
	if other, err := h.odile.NewsSettings(ctx); err != nil || other.Mail != "" || other.Kinds[8].Mail != "daily" {
		t.Errorf("%+v, %v", other, err)
	}
	for name, q := range map[string]model.NewsSettings{
		"no address":     {Mail: "rurik"},
		"two addresses":  {Mail: "a@b.example, c@d.example"},
		"a name with it": {Mail: "Rurik <rurik@saltpan.example>"},
		"another line":   {Mail: "a@b.example\r\nBcc: c@d.example"},
		"a long one":     {Mail: strings.Repeat("a", 250) + "@b.example"},
		"unknown kind":   {Kinds: []model.NewsKind{{Name: "gossip", Mail: "daily"}}},
		"unknown way":    {Kinds: []model.NewsKind{{Name: "work", Mail: "hourly"}}},
	} {
		if _, err := h.rurik.SetNewsSettings(ctx, q); err == nil {
			t.Errorf("%s is taken", name)
		} else {
			testbed.Problem(t, err, model.BadRequest)
		}
	}
	if kept, _ := h.rurik.NewsSettings(ctx); kept.Mail != "" || kept.MailWanted != "" {
		t.Errorf("%+v", kept)
	}
	// Hooks are for leads, and go nowhere that whoever runs the service did not name.
	_, err = h.rurik.Hooks(ctx, key)
	testbed.Problem(t, err, model.NotAllowed)
	if list, err := h.odile.Hooks(ctx, key); err != nil || len(list.Hooks) != 0 || len(list.Hosts) != 0 {
		t.Errorf("%+v, %v", list, err)
	}
	_, err = h.odile.AddHook(ctx, key, model.HookRequest{URL: "http://127.0.0.1:1/x", Kinds: []string{"work"}})
	testbed.Problem(t, err, model.NotAllowed)
}
