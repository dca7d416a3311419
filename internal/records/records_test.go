package records_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

func open(t *testing.T, url string) *records.DB {
	t.Helper()
	db, err := records.Open(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Close)
	return db
}

func exec(t *testing.T, url, sql string) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(t.Context(), sql); err != nil {
		t.Fatal(err)
	}
}

func TestOpenBringsTheSchemaUpToDateAndRefusesANewerOne(t *testing.T) {
	url := testbed.Database(t)
	open(t, url)
	open(t, url) // a second start changes nothing
	exec(t, url, "update schema_version set version = 900")
	_, err := records.Open(t.Context(), url)
	if err == nil || !strings.Contains(err.Error(), "newer tarnd") || strings.Contains(err.Error(), "\n") {
		t.Errorf("a newer schema: %v", err)
	}
}

func TestADatabaseOfTheFirstDaysIsRefused(t *testing.T) {
	url := testbed.Database(t)
	exec(t, url, "create table public.schema_version (version int4 not null); insert into schema_version values (1); create table people "+
		"(id bigint)")
	if _, err := records.Open(t.Context(), url); err == nil || !strings.Contains(err.Error(), "empty database") {
		t.Errorf("got %v", err)
	}
}

func TestOpenSaysInOneSentenceWhatIsWrong(t *testing.T) {
	for _, url := range []string{"postgres://tarnd@127.0.0.1:1/tarnd", "no address", "postgres://tarnd@127.0.0.1:1/tarnd?sslmode=never"} {
		_, err := records.Open(t.Context(), url)
		if err == nil || strings.Contains(err.Error(), "\n") || len(err.Error()) > 250 {
			t.Errorf("%s: %v", url, err)
		}
	}
}

// project makes a project with one asset in it and returns their ids.
func project(t *testing.T, db *records.DB) (project, person int64) {
	t.Helper()
	err := db.Write(t.Context(), func(tx *records.Tx) (err error) {
		if person, err = tx.AddPerson(t.Context(), "tamsin", "x", false); err != nil {
			return err
		}
		if project, err = tx.AddProject(t.Context(), "brinelight", person); err != nil {
			return err
		}
		return tx.ClaimPaths(t.Context(), project, []string{"a.png"}, []string{"a.png"})
	})
	if err != nil {
		t.Fatal(err)
	}
	return project, person
}

// A second transaction that wants the same asset has to see what the first decided, not what was there when it began.
func TestWhatIsDecidedOnIsReadAfterTheLock(t *testing.T) {
	db := open(t, testbed.Database(t))
	p, person := project(t, db)
	const space = "6e9c1f0a-0000-4000-8000-000000000001"
	held := make(chan struct{})
	release := make(chan struct{})
	first := make(chan error, 1)
	go func() {
		first <- db.Write(t.Context(), func(tx *records.Tx) error {
			if err := tx.AddWorkspace(t.Context(), space, p, person, "pc", model.KindFolder); err != nil {
				return err
			}
			found, err := tx.LockAssets(t.Context(), p, "main", []string{"a.png"})
			if err != nil {
				return err
			}
			close(held)
			<-release
			a := found["a.png"]
			a.Lock, _, _ = lock.Terms{Now: time.Now()}.Take(a.Lock, lock.Request{Who: lock.Place{Handle: "tamsin", WorkspaceID: space}})
			return tx.SetLocks(t.Context(), p, records.Outcome{By: person}, []*records.Asset{a})
		})
	}()
	<-held
	second := make(chan lock.State, 1)
	go func() {
		_ = db.Write(t.Context(), func(tx *records.Tx) error {
			found, err := tx.LockAssets(t.Context(), p, "main", []string{"a.png"})
			if err == nil {
				second <- found["a.png"].Lock
			}
			return err
		})
	}()
	select {
	case <-second:
		t.Fatal("two transactions have the same asset at once")
	case <-time.After(200 * time.Millisecond):
	}
	close(release)
	if err := <-first; err != nil {
		t.Fatal(err)
	}
	if s := <-second; s.Holder.Handle != "tamsin" || s.Fence != 1 {
		t.Errorf("the second transaction reads %+v", s)
	}
}

// An event that commits late, with an earlier transaction id than one already told, is not skipped.
func TestEventsAreReadOnlyBelowTheOldestRunningTransaction(t *testing.T) {
	db := open(t, testbed.Database(t))
	p, person := project(t, db)
	ctx := t.Context()
	started, finish, done := make(chan struct{}), make(chan struct{}), make(chan error, 1)
	go func() {
		done <- db.Write(ctx, func(tx *records.Tx) error {
			if err := tx.AddEvent(ctx, p, person, "slow", map[string]any{}); err != nil {
				return err
			}
			close(started)
			<-finish
			return nil
		})
	}()
	<-started
	if err := db.Write(ctx, func(tx *records.Tx) error { return tx.AddEvent(ctx, p, person, "fast", map[string]any{}) }); err != nil {
		t.Fatal(err)
	}
	kinds := func(after records.Cursor) (names []string, next records.Cursor) {
		if err := db.Use(ctx, func(tx *records.Tx) error {
			events, cursor, err := tx.Events(ctx, p, after, 100)
			for _, e := range events {
				names = append(names, e.Kind)
			}
			next = cursor
			return err
		}); err != nil {
			t.Fatal(err)
		}
		return names, next
	}
	before, cursor := kinds(records.Cursor{})
	if len(before) != 0 {
		t.Errorf("told while an older transaction runs: %v", before)
	}
	close(finish)
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if after, _ := kinds(cursor); strings.Join(after, " ") != "slow fast" {
		t.Errorf("told: %v", after)
	}
}

func TestCursorsSurviveBeingWritten(t *testing.T) {
	c := records.Cursor{Transaction: 7, ID: 1<<63 - 1}
	if got, err := records.ParseCursor(c.String()); err != nil || got != c {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range []string{"", "7", "7-", "a-b", "7-8-9", "-1-2", "7--2", " 7-8", "7-8 "} {
		if _, err := records.ParseCursor(bad); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func FuzzParseCursor(f *testing.F) {
	f.Add("12-34")
	f.Fuzz(func(t *testing.T, s string) {
		if c, err := records.ParseCursor(s); err == nil && c.String() != s {
			t.Errorf("%q is taken for %v", s, c)
		}
	})
}

func TestAFailedWriteLeavesNothing(t *testing.T) {
	db := open(t, testbed.Database(t))
	broken := errors.New("broken")
	err := db.Write(t.Context(), func(tx *records.Tx) error {
		if _, err := tx.AddPerson(t.Context(), "rurik", "x", false); err != nil {
			return err
		}
		return broken
	})
	if !errors.Is(err, broken) {
		t.Errorf("got %v", err)
	}
	if err := db.Use(t.Context(), func(tx *records.Tx) error {
		_, err := tx.PersonByHandle(t.Context(), "rurik")
		return err
	}); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("after a failed write: %v", err)
	}
}

func TestDeadlocksAreTriedAgain(t *testing.T) {
	db := open(t, testbed.Database(t))
	p, _ := project(t, db)
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		return tx.ClaimPaths(t.Context(), p, []string{"b.png"}, []string{"b.png"})
	}); err != nil {
		t.Fatal(err)
	}
	meet := make(chan struct{}, 2)
	errs := make(chan error, 2)
	for i := range 2 {
		order := []string{"a.png", "b.png"}
		if i == 1 {
			order = []string{"b.png", "a.png"}
		}
		go func() {
			tries := 0
			errs <- db.Write(t.Context(), func(tx *records.Tx) error {
				tries++
				if _, err := tx.LockAssets(t.Context(), p, "main", order[:1]); err != nil {
					return err
				}
				if tries == 1 {
					meet <- struct{}{}
					for deadline := time.Now().Add(5 * time.Second); len(meet) < 2 && time.Now().Before(deadline); {
						time.Sleep(time.Millisecond)
					}
				}
				_, err := tx.LockAssets(t.Context(), p, "main", order[1:])
				return err
			})
		}()
	}
	for range 2 {
		if err := <-errs; err != nil {
			t.Error(err)
		}
	}
}

// TestADatabaseOfTheLastReleaseMovesOn: what was there is there, and the orphans that nobody could end have ended.
func TestADatabaseOfTheLastReleaseMovesOn(t *testing.T) {
	url := testbed.Database(t)
	before := open(t, url)
	p, person := project(t, before)
	const space = "6e9c1f0a-0000-4000-8000-000000000006"
	if err := before.Write(t.Context(), func(tx *records.Tx) error {
		return tx.AddWorkspace(t.Context(), space, p, person, "pc", model.KindFolder)
	}); err != nil {
		t.Fatal(err)
	}
	steps, err := filepath.Glob("migrations/0*.sql")
	if err != nil {
		t.Fatal(err)
	}
	for _, step := range slices.Backward(steps[5:]) { // down to 005
		text, err := os.ReadFile(step)
		if err != nil {
			t.Fatal(err)
		}
		_, back, ok := strings.Cut(string(text), "---- create above / drop below ----")
		if !ok {
			t.Fatalf("there is no way back in %s", step)
		}
		exec(t, url, back)
	}
	exec(t, url, "update schema_version set version = 5")
	exec(t, url, fmt.Sprintf("update people set mail = 'tamsin@saltpan.example' where id = %d", person))
	exec(t, url, fmt.Sprintf("insert into waits (project_id, asset_id, person_id, workspace_id, note, since, place) values (%d, 4711, %d, "+
		"'%s', '', now(), 1)", p, person, space))
	db := open(t, url)
	count := func(sql string) (n int) {
		conn, err := pgx.Connect(t.Context(), url)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(context.Background())
		if err := conn.QueryRow(t.Context(), sql).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if n := count("select version from schema_version"); n < 9 {
		t.Errorf("it is at %d", n)
	}
	if n := count("select count(*) from waits where ended is null"); n != 0 {
		t.Errorf("%d orphans wait on", n)
	}
	if n := count("select count(*) from people where mail = 'tamsin@saltpan.example' and mail_wanted = '' and ended is null"); n != 1 {
		t.Error("the mail address is lost")
	}
	if err := db.Use(t.Context(), func(tx *records.Tx) error {
		found, err := tx.LockAssets(t.Context(), p, "main", []string{"a.png"})
		if err == nil && found["a.png"] == nil {
			t.Error("the asset is lost")
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
}

// TestTextIsFoundInPathsByTheIndex also where the text has what means something in a pattern, or is shorter than what is indexed, and then
// looked for everywhere; where nearly all have each part of it; whether or not PostgreSQL has counted what the table holds since it grew.
func TestTextIsFoundInPathsByTheIndex(t *testing.T) {
	url := testbed.Migrated(t)
	db := open(t, url)
	p, _ := project(t, db)
	exec(t, url, fmt.Sprintf(`insert into present (project_id, path, folded, folder, ending, asset_id, number, handoff, size)
		select %d, f, f, '', '.png', n, 1, 1, 1 from (select 'levels/l' || (n / 100) || '/rock' || n || '.png' as f, n
			from generate_series(1, 40000) n union all values ('props/100%%_brine.png', -1), ('props/kelp\lantern.png', -2),
			('props/100x_brine.png', -3), ('props/größe.png', -4)) x`, p))
	type find struct {
		text   string
		skip   int
		looked int64
		want   []int64
	}
	finds := []find{
		{"100%", 0, 3000, []int64{-1}},
		{"%_b", 0, 200_000, []int64{-1}},
		{`p\lan`, 0, 3000, []int64{-2}},
		{"röß", 0, 3000, []int64{-4}},
		{"ß", 0, 200_000, []int64{-4}},
		{"_brine", 0, 3000, []int64{-1, -3}},
		{"_brine", 1, 3000, []int64{-3}},
		{"rock4000", 0, 3000, []int64{4000, 40000}},
		{"levels/l40/rock4000.png", 0, 3000, []int64{4000}},
		{"ck4000.pn", 0, 3000, []int64{4000}},
		{"rock.levels", 0, 3000, nil},
		{"heron", 0, 3000, nil},
	}
	for _, counted := range []string{"", "vacuum analyze present"} {
		if counted != "" {
			exec(t, url, counted)
		}
		for _, c := range finds {
			looksAtMost(t, url, &db, "present", c.looked, []any{counted, c}, func(tx *records.Tx) error {
				got, total, err := tx.Present(t.Context(), p, records.PresentQuery{Below: true, Text: c.text, Skip: c.skip, Limit: 10})
				if err == nil && (!slices.Equal(got, c.want) || total != len(c.want)+c.skip) {
					t.Errorf("%q from %d on is in %v, of %d", c.text, c.skip, got, total)
				}
				return err
			})
		}
	}
}

// TestAPageLooksAtWhatItShows of a folder, and of all by size, also right after a first send, when PostgreSQL has counted nothing.
func TestAPageLooksAtWhatItShows(t *testing.T) {
	url := testbed.Migrated(t)
	db := open(t, url)
	p, _ := project(t, db)
	exec(t, url, fmt.Sprintf(`insert into present (project_id, path, folded, folder, ending, asset_id, number, handoff, size)
		select %d, f || n, f || n, f, '.png', n, 1, 1, n from (select 'd' || lpad((n / 100)::text, 5, '0') || '/' as f, n
			from generate_series(1, 60000) n) x`, p))
	for _, q := range []records.PresentQuery{
		{Folder: "d00300/", Limit: 50},
		{Folder: "d00300/", Below: true, All: 1000, Limit: 50},
		{Below: true, All: 60_000, Limit: 50},
		{Below: true, All: 60_000, Order: "size", Down: true, Endings: []string{".png"}, Limit: 50},
	} {
		looksAtMost(t, url, &db, "present", 400, q, func(tx *records.Tx) error {
			ids, _, err := tx.Present(t.Context(), p, q)
			if err == nil && len(ids) != 50 {
				t.Errorf("%+v: %d", q, len(ids))
			}
			return err
		})
	}
}

// TestWhatIsKnownIsNotCounted: a page in any order looks at what it shows, where it is known how many there are in all.
func TestWhatIsKnownIsNotCounted(t *testing.T) {
	url := testbed.Migrated(t)
	db := open(t, url)
	p, _ := project(t, db)
	exec(t, url, fmt.Sprintf(`insert into present (project_id, path, folded, folder, ending, asset_id, number, handoff, size)
		select %d, f, f, '', '.png', n, 1, 1, n %% 1000 from (select 'levels/rock' || n || '.png' as f, n
			from generate_series(1, 40000) n) x`, p))
	exec(t, url, "vacuum analyze present")
	for all, atMost := range map[int]int64{0: 50_000, 40_000: 300, 1_000_000: 300} {
		looksAtMost(t, url, &db, "present", atMost, all, func(tx *records.Tx) error {
			ids, total, err := tx.Present(t.Context(), p, records.PresentQuery{Below: true, Order: "size", Down: true, All: all, Skip: 50,
				Limit: 100})
			want := map[int]int{0: 40_000, 40_000: 40_000, 1_000_000: records.CountedAtMost + 1}[all]
			if err == nil && (len(ids) != 100 || ids[0]%1000 != 998 || total != want) {
				t.Errorf("%d known: %d of %d, from %v", all, len(ids), total, ids[:1])
			}
			return err
		})
	}
}
