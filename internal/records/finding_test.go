package records_test

import (
	"fmt"
	"testing"
	"time"

	"kettletarn/internal/records"
	"kettletarn/internal/testbed"
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
			said <- db.Write(t.Context(), func(tx *records.Tx) error { return tx.SetFacts(t.Context(), p, "ab", "pixels 64 x 64") })
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
