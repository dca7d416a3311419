package records_test

import (
	"fmt"
	"testing"
	"time"

	"kettletarn/internal/records"
	"kettletarn/internal/testbed"

	"github.com/jackc/pgx/v5"
)

// TestFactsThatComeWhileWordsAreGathered are not lost: what was gathered without them is gathered again.
func TestFactsThatComeWhileWordsAreGathered(t *testing.T) {
	url := testbed.Migrated(t)
	db := open(t, url)
	p, person := project(t, db)
	exec(t, url, fmt.Sprintf(`insert into contents (id, project_id, digest, size) overriding system value values (7, %[1]d, '\xab', 3);
		insert into handoffs (project_id, number, branch_id, author_id, note, root, digest, assets, size)
			select %[1]d, 1, id, %[2]d, 'a note', '\x00', '\x00', 1, 3 from branches where project_id = %[1]d;
		insert into versions (asset_id, number, project_id, branch_id, handoff, parents, path, content_id, gone, executable)
			select 4, 1, %[1]d, id, 1, '{}', 'a.png', 7, false, false from branches where project_id = %[1]d;
		insert into present (asset_id, project_id, path, folded, folder, ending, number, handoff, size)
			values (4, %[1]d, 'a.png', 'a.png', '', '.png', 1, 1, 3)`, p, person))
	said := make(chan error, 1)
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		list, err := tx.Unread(t.Context(), 10)
		if err != nil || len(list) != 1 || list[0].Known {
			t.Fatalf("%+v, %v", list, err)
		}
		go func() {
			said <- db.Write(t.Context(), func(tx *records.Tx) error {
				return tx.SetFacts(t.Context(), p, "ab", records.Facts{Said: "pixels 64 x 64"})
			})
		}()
		select {
		case err := <-said:
			said <- err
		case <-time.After(300 * time.Millisecond):
		}
		// What one gathers, nobody else does meanwhile.
		if err := db.Write(t.Context(), func(tx *records.Tx) error {
			list, err := tx.Unread(t.Context(), 10)
			if len(list) != 0 {
				t.Errorf("two gather %+v", list)
			}
			return err
		}); err != nil {
			return err
		}
		return tx.SetWords(t.Context(), []int64{4}, [][]string{{"png"}})
	}); err != nil {
		t.Fatal(err)
	}
	if err := <-said; err != nil {
		t.Fatal(err)
	}
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		list, err := tx.Unread(t.Context(), 10)
		if len(list) != 1 || list[0].Said != "pixels 64 x 64" {
			t.Errorf("what was said is not gathered: %+v", list)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
}

// TestFactsAndWordsAtOnce: whatever is said while words are gathered again and again is in them at the end.
func TestFactsAndWordsAtOnce(t *testing.T) {
	url := testbed.Migrated(t)
	db := open(t, url)
	p, person := project(t, db)
	const assets = 500
	exec(t, url, fmt.Sprintf(`insert into contents (id, project_id, digest, size) overriding system value
			select i, %[1]d, decode(lpad(to_hex(i), 8, '0'), 'hex'), 3 from generate_series(1, %[3]d) i;
		insert into handoffs (project_id, number, branch_id, author_id, note, root, digest, assets, size)
			select %[1]d, 1, id, %[2]d, 'a note', '\x00', '\x00', 1, 3 from branches where project_id = %[1]d;
		insert into versions (asset_id, number, project_id, branch_id, handoff, parents, path, content_id, gone, executable)
			select i, 1, %[1]d, b.id, 1, '{}', i || '.png', i, false, false from branches b, generate_series(1, %[3]d) i where project_id = %[1]d;
		insert into present (asset_id, project_id, path, folded, folder, ending, number, handoff, size)
			select i, %[1]d, i || '.png', i || '.png', '', '.png', 1, 1, 3 from generate_series(1, %[3]d) i`, p, person, assets))
	said := make(chan error, 1)
	go func() {
		for i := assets; i > 0; i-- { // against the order in which they are gathered
			if err := db.Write(t.Context(), func(tx *records.Tx) error {
				return tx.SetFacts(t.Context(), p, fmt.Sprintf("%08x", i), records.Facts{Said: fmt.Sprint("said", i)})
			}); err != nil {
				said <- err
				return
			}
		}
		said <- nil
	}()
	words := make([]string, assets+1)
	gather := func() (n int) {
		if err := db.Write(t.Context(), func(tx *records.Tx) error {
			list, err := tx.Unread(t.Context(), assets)
			n = len(list)
			ids := make([]int64, n)
			for i, row := range list {
				ids[i], words[row.Asset] = row.Asset, row.Said
			}
			if err != nil || n == 0 {
				return err
			}
			return tx.SetWords(t.Context(), ids, make([][]string, n))
		}); err != nil {
			t.Fatal(err)
		}
		return n
	}
	for done := false; !done || gather() > 0; {
		select {
		case err := <-said:
			if done = true; err != nil {
				t.Fatal(err)
			}
		default:
			gather()
		}
	}
	for i := 1; i <= assets; i++ {
		if words[i] != fmt.Sprint("said", i) {
			t.Errorf("%d.png: %q was gathered", i, words[i])
		}
	}
}

// TestFindingLooksIntoIndexes: what is asked of paths and words goes to their indexes, however many words there are, and whether or not
// PostgreSQL has counted what the table holds since it grew. Of 60,000 rows each time few more are looked at than fit, and 2,000 to know
// what is found often.
func TestFindingLooksIntoIndexes(t *testing.T) {
	url := testbed.Migrated(t)
	db := open(t, url)
	p, _ := project(t, db)
	exec(t, url, fmt.Sprintf(`insert into present (asset_id, project_id, path, folded, folder, ending, number, handoff, size, words)
		select i, %[1]d, f, f, 'd/', '.bin', 1, 1, 1, array_to_tsvector(array['bin', n]) from generate_series(1, 60000) i,
			lateral (select 'asset' || lpad(i::text, 7, '0') n) w, lateral (select 'd/' || n || '.bin' f) x`, p))
	for _, counted := range []string{"", "vacuum analyze present"} {
		if counted != "" {
			exec(t, url, counted)
		}
		for _, q := range []struct {
			words   []string
			inPaths bool
			want    int
		}{
			{[]string{"asset0001234"}, true, 1},
			{[]string{"asset0001234"}, false, 1},
			{[]string{"et0001234"}, true, 1},
			{[]string{"et00012", "bin"}, true, 10},
			{[]string{"bin", "asset00012"}, false, 10},
			{[]string{"lantern", "asset"}, true, 0},
		} {
			looksAtMost(t, url, &db, "present", 3500, []any{counted, q}, func(tx *records.Tx) error {
				hits, err := tx.FindPresent(t.Context(), p, q.words, q.inPaths, 10)
				if len(hits) != q.want {
					t.Errorf("%q: %v are found %d times", counted, q.words, len(hits))
				}
				return err
			})
		}
	}
}

// TestAPageOfAHandoffLooksAtWhatItShows: of a handoff with very many assets, a page reads its own rows, and those before it; a history its
// own.
func TestAPageOfAHandoffLooksAtWhatItShows(t *testing.T) {
	url := testbed.Migrated(t)
	db := open(t, url)
	p, person := project(t, db)
	exec(t, url, fmt.Sprintf(`insert into handoffs (project_id, number, branch_id, author_id, note, root, digest, assets, size)
			select %[1]d, n, id, %[2]d, 'a note', '\x00', '\x00', 60000, 0 from branches, generate_series(1, 2) n where project_id = %[1]d;
		insert into assets (id, project_id, path, folded) overriding system value
			select 100 + i, %[1]d, f, f from generate_series(1, 60000) i, lateral (select lpad(i::text, 7, '0') f) x;
		insert into versions (asset_id, number, project_id, branch_id, handoff, parents, path, gone)
			select 100 + i, n, %[1]d, b.id, n, array_remove(array[n - 1], 0), lpad((i * 7919 %% 60000)::text, 7, '0'), false
			from branches b, generate_series(1, 60000) i, generate_series(1, 2) n where b.project_id = %[1]d`, p, person))
	// The history of one asset, of all these, also where PostgreSQL has counted nothing.
	looksAtMost(t, url, &db, "versions", 10, "a history", func(tx *records.Tx) error {
		list, err := tx.VersionsPage(t.Context(), p, 123, records.Page{Limit: 100})
		if n, again := tx.CountVersions(t.Context(), p, 123); err == nil && (len(list) != 2 || list[0].Version != 2 || n != 2 || again != nil) {
			t.Errorf("%+v, %d, %v", list, n, again)
		}
		return err
	})
	exec(t, url, "vacuum analyze versions")
	looksAtMost(t, url, &db, "versions", 2000, "a page", func(tx *records.Tx) error {
		h, err := tx.HandoffPage(t.Context(), p, 2, records.Page{Skip: 300, Limit: 200})
		if err == nil && (len(h.Assets) != 200 || h.Assets[0].Path != "0000300" || h.Assets[199].Path != "0000499") {
			t.Errorf("%d assets, from %v", len(h.Assets), h.Assets[:1])
		}
		return err
	})
}

// looksAtMost runs something that may look at so many rows of a table.
func looksAtMost(t *testing.T, url string, db **records.DB, table string, most int64, what any, do func(tx *records.Tx) error) {
	t.Helper()
	before := looked(t, url, db, table)
	if err := (*db).Use(t.Context(), do); err != nil {
		t.Fatal(err)
	}
	if n := looked(t, url, db, table) - before; n > most {
		t.Errorf("%d rows were looked at for %+v", n, what)
	}
}

// looked counts the rows of a table that were looked at, as PostgreSQL does; a connection tells what it counted when it ends, so that
// they are opened anew.
func looked(t *testing.T, url string, db **records.DB, table string) (n int64) {
	t.Helper()
	(*db).Close()
	conn, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if err := conn.QueryRow(t.Context(), `select seq_tup_read + idx_tup_fetch from pg_stat_user_tables where relname = $1`, table).
		Scan(&n); err != nil {
		t.Fatal(err)
	}
	*db = open(t, url)
	return n
}
