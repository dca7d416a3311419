package service_test

import (
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// TestWhatCouldBeFreed: it is told by what, and a steward has it freed from the console.
func TestWhatCouldBeFreed(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	_, err := m.Collecting(ctx, m.odile)
	testbed.Problem(t, err, model.NotAllowed)
	testbed.Problem(t, m.CollectNow(ctx, m.odile), model.NotAllowed)
	steward := m.odile
	steward.Steward = true
	told := func() model.Collecting {
		t.Helper()
		c, err := m.Collecting(ctx, steward)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	if c := told(); len(c.Freeable) != 0 || c.Since != nil || c.Done != nil {
		t.Errorf("%+v", c)
	}
	m.sql(`insert into contents (project_id, digest, size, seen) select id, '\x00', 1234, now() - interval '20 days' from projects`)
	if c := told(); len(c.Freeable) != 1 || c.Freeable[0] != (model.Freeable{What: "given-up", Bytes: 1234, Count: 1}) {
		t.Errorf("%+v", c)
	}
	m.sql(`delete from contents where digest = '\x00'`)
	ok(t)(m.DeleteProject(ctx, m.odile, key, key))
	if c := told(); len(c.Freeable) != 1 || c.Freeable[0].What != "deleted" || c.Freeable[0].Now || c.Freeable[0].Bytes == 0 {
		t.Errorf("%+v", c)
	}
	m.sql(`update projects set goes = now() - interval '1 second'`)
	if c := told(); len(c.Freeable) != 1 || !c.Freeable[0].Now || c.Freeable[0].Count != 1 {
		t.Errorf("%+v", c)
	}
	if err := m.CollectNow(ctx, steward); err != nil {
		t.Fatal(err)
	}
	testbed.Eventually(t, "it is done", func() bool { return told().Done != nil })
	if c := told(); c.Freed == 0 || c.Trouble != "" || c.Since != nil || len(c.Freeable) != 0 {
		t.Errorf("%+v", c)
	}
}
