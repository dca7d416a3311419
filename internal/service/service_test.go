package service_test

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/testbed"
)

func TestNewsSkipsNothing(t *testing.T) {
	m := newTeam(t, nil)
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	const senders, each = 4, 8
	seen := map[int]bool{}
	first := ""
	started := make(chan struct{})
	done := make(chan error, 1)
	var once sync.Once
	go func() {
		done <- m.News(ctx, m.odile, key, "", func(e model.Event) error {
			if e.Kind == "handoff.sent" {
				n := int(e.Subject["handoff"].(float64))
				if seen[n] {
					return fmt.Errorf("handoff %d is told twice", n)
				}
				if first == "" {
					first = e.ID
				}
				if seen[n] = true; len(seen) == senders*each {
					return io.EOF
				}
			}
			return nil
		}, func(bool) error {
			once.Do(func() { close(started) })
			return nil
		})
	}()
	<-started
	time.Sleep(100 * time.Millisecond)
	var wait sync.WaitGroup
	for s := range senders {
		wait.Go(func() {
			for i := range each {
				if _, err := m.send(m.tamsin, m.change(m.tamsin, fmt.Sprintf("%d/%d.png", s, i), 0, 0, fmt.Sprint(s, i))); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wait.Wait()
	if err := <-done; err != io.EOF {
		t.Fatalf("%v; %d of %d handoffs were told", err, len(seen), senders*each)
	}
	// A reader that comes back hears what it missed, from where it was.
	missed := 0
	err := m.News(ctx, m.odile, key, first, func(e model.Event) error {
		if e.Kind == "handoff.sent" {
			if missed++; missed == senders*each-1 {
				return io.EOF
			}
		}
		return nil
	}, func(bool) error { return nil })
	if err != io.EOF {
		t.Errorf("after coming back: %v, %d told", err, missed)
	}
	testbed.Problem(t, m.News(ctx, m.odile, key, "rubbish", nil, func(bool) error { return nil }), model.BadRequest)
}

func TestADatabaseThatIsAwayIsSaidSo(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	pg := testbed.Postgres(t)
	if err := pg.Down(); err != nil {
		t.Fatal(err)
	}
	_, err := m.send(m.tamsin, handoffs.Change{Path: "b.png"})
	testbed.Problem(t, err, model.Unavailable)
	if m.Ready(t.Context()) == nil {
		t.Error("ready without a database")
	}
	if err := pg.Up(t.Context()); err != nil {
		t.Fatal(err)
	}
	// Tried again in a moment, as it was said: of the connections that there were, one may not know yet that it has ended.
	for range 100 {
		var change handoffs.Change
		if change, err = m.tryChange("b.png", "two"); err == nil {
			if _, err = m.send(m.tamsin, change); err == nil {
				break
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err != nil {
		t.Fatalf("after the restart: %v", err)
	}
	if _, _, err := m.History(t.Context(), m.odile, key, "", "a.png"); err != nil {
		t.Errorf("after the restart: %v", err)
	}
}

func TestFoldersAndPages(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	var changes []handoffs.Change
	for i := range 7 {
		changes = append(changes, m.change(m.tamsin, fmt.Sprintf("textures/rust/%d.png", i), 0, 0, fmt.Sprint("r", i)))
	}
	changes = append(changes, m.change(m.tamsin, "textures/fog.png", 0, 0, "fog"), m.change(m.tamsin, "texturesque.txt", 0, 0, "no"),
		m.change(m.tamsin, "top.png", 0, 0, "top"))
	ok(t)(m.send(m.tamsin, changes...))
	names := func(at, folder, search string, skip, limit int) string {
		page, err := m.Folder(ctx, m.viewer, key, history.Listing{At: at, Folder: folder, Text: search, Skip: skip, Limit: limit})
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, f := range page.Folders {
			out = append(out, fmt.Sprintf("%s/ (%d)", f.Name, f.Assets))
		}
		for _, a := range page.Assets {
			out = append(out, a.Path)
		}
		return fmt.Sprint(strings.Join(out, " "), " of ", page.Total)
	}
	for _, c := range []struct {
		folder, search string
		skip           int
		want           string
	}{
		{"", "", 0, "textures/ (8) texturesque.txt top.png of 2"},
		{"textures", "", 0, "rust/ (7) textures/fog.png of 1"},
		{"textures/rust", "", 0, "textures/rust/0.png textures/rust/1.png textures/rust/2.png of 7"},
		{"textures/rust", "", 3, "textures/rust/3.png textures/rust/4.png textures/rust/5.png of 7"},
		{"textures/rust", "", 6, "textures/rust/6.png of 7"},
		{"textures/rust", "", 60, " of 7"},
		{"", "FOG", 0, "textures/fog.png of 1"},
		{"", "%", 0, " of 0"},
		{"nothing", "", 0, " of 0"},
	} {
		// What is present is listed by the records, and what was by the tree: here it is the same.
		for _, at := range []string{"", "h1"} {
			if got := names(at, c.folder, c.search, c.skip, 3); got != c.want {
				t.Errorf("in %q at %q, search %q, from %d on: %s; want %s", c.folder, at, c.search, c.skip, got, c.want)
			}
		}
	}
	total, after := 0, ""
	for {
		page, err := m.Changes(ctx, m.viewer, key, history.Changes{After: after, Limit: 4})
		if err != nil || page.At != 1 {
			t.Fatalf("as of h%d, %v", page.At, err)
		}
		total += len(page.Assets)
		if after = page.Next; after == "" {
			break
		}
	}
	if total != 10 {
		t.Errorf("%d assets in pages, want 10", total)
	}
	list, _, err := m.Handoffs(ctx, m.viewer, key, history.HandoffFilter{Author: "rurik"})
	if err != nil || len(list) != 0 {
		t.Errorf("handoffs of somebody who made none: %+v, %v", list, err)
	}
	if list, _, err = m.Handoffs(ctx, m.viewer, key, history.HandoffFilter{Author: "tamsin", Path: "Textures/Rust"}); err != nil ||
		len(list) != 1 || list[0].Count != 10 {
		t.Errorf("handoffs below a folder: %+v, %v", list, err)
	}
	// A place and a kind are those of one asset.
	for _, c := range []struct {
		path, kind string
		n          int
	}{{"textures", "texture", 1}, {"textures", "text", 0}, {"", "text", 1}, {"*.txt", "text", 1},
		{"textures/**", "text", 0}, {"", "other", 0}} {
		list, total, err := m.Handoffs(ctx, m.viewer, key, history.HandoffFilter{Path: c.path, Kind: c.kind})
		if err != nil || len(list) != c.n || total != c.n {
			t.Errorf("%d of %d handoffs changed a %s in %q, %v; want %d", len(list), total, c.kind, c.path, err, c.n)
		}
	}
	if list, _, err = m.Handoffs(ctx, m.viewer, key, history.HandoffFilter{Path: "text"}); err != nil || len(list) != 0 {
		t.Errorf("a folder that only begins so: %+v, %v", list, err)
	}
}
