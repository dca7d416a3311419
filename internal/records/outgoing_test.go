package records_test

import (
	"fmt"
	"testing"
	"time"

	"kettletarn/internal/records"
	"kettletarn/internal/testbed"
)

// happen records events, each in a transaction of its own.
func happen(t *testing.T, db *records.DB, project, person int64, kinds ...string) {
	t.Helper()
	for _, kind := range kinds {
		if err := db.Write(t.Context(), func(tx *records.Tx) error {
			return tx.AddEvent(t.Context(), project, person, kind, map[string]any{"kind": kind})
		}); err != nil {
			t.Fatal(err)
		}
	}
}

// next reads what a reader has not read.
func next(t *testing.T, db *records.DB, name string, limit int) (kinds []string) {
	t.Helper()
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		events, ok, err := tx.NextEvents(t.Context(), name, limit)
		if err == nil && !ok {
			err = fmt.Errorf("somebody else reads as %s", name)
		}
		for _, e := range events {
			kinds = append(kinds, e.Kind)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return kinds
}

func TestAReaderBeginsNowAndSkipsNothing(t *testing.T) {
	db := open(t, testbed.Database(t))
	p, person := project(t, db)
	happen(t, db, p, person, "before")
	if got := next(t, db, "a", 10); len(got) != 0 {
		t.Errorf("a new reader hears of the past: %v", got)
	}
	happen(t, db, p, person, "one", "two", "three")
	if got := fmt.Sprint(next(t, db, "a", 2), next(t, db, "a", 2), next(t, db, "a", 2)); got != "[one two] [three] []" {
		t.Errorf("it reads %s", got)
	}
	if got := next(t, db, "b", 10); len(got) != 0 {
		t.Errorf("another reader hears of the past: %v", got)
	}
	// What was read in a transaction that fails is read again.
	happen(t, db, p, person, "four")
	_ = db.Write(t.Context(), func(tx *records.Tx) error {
		if _, _, err := tx.NextEvents(t.Context(), "a", 10); err != nil {
			return err
		}
		return fmt.Errorf("given up")
	})
	if got := fmt.Sprint(next(t, db, "a", 10)); got != "[four]" {
		t.Errorf("after a failure it reads %s", got)
	}
}

// A transaction that began earlier and commits later comes in its turn; until then, nothing behind it is told.
func TestAReaderWaitsForTheOldestTransaction(t *testing.T) {
	db := open(t, testbed.Database(t))
	p, person := project(t, db)
	next(t, db, "a", 10)
	began, release := make(chan struct{}), make(chan struct{})
	done := make(chan error, 1)
	go func() {
		done <- db.Write(t.Context(), func(tx *records.Tx) error {
			if err := tx.AddEvent(t.Context(), p, person, "late", map[string]any{}); err != nil {
				return err
			}
			close(began)
			<-release
			return nil
		})
	}()
	<-began
	happen(t, db, p, person, "early")
	if got := next(t, db, "a", 10); len(got) != 0 {
		t.Errorf("told too soon: %v", got)
	}
	close(release)
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprint(next(t, db, "a", 10)); got != "[late early]" {
		t.Errorf("it reads %s", got)
	}
}

func TestOnlyOneReadsUnderAName(t *testing.T) {
	db := open(t, testbed.Database(t))
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		if _, ok, err := tx.NextEvents(t.Context(), "a", 1); err != nil || !ok {
			t.Fatalf("%v, %v", ok, err)
		}
		return db.Write(t.Context(), func(other *records.Tx) error {
			if _, ok, err := other.NextEvents(t.Context(), "a", 1); err != nil || ok {
				t.Errorf("two read at once: %v", err)
			}
			if _, ok, err := other.NextEvents(t.Context(), "b", 1); err != nil || !ok {
				t.Errorf("under another name: %v, %v", ok, err)
			}
			return nil
		})
	}); err != nil {
		t.Fatal(err)
	}
}

func TestADeliveryIsTakenByOneAndTakenUpAgain(t *testing.T) {
	db := open(t, testbed.Database(t))
	p, person := project(t, db)
	next(t, db, "a", 1)
	happen(t, db, p, person, "x", "y", "z")
	now := time.Now()
	var hook int64
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		events, _, err := tx.NextEvents(t.Context(), "a", 10)
		if err != nil {
			return err
		}
		if hook, err = tx.AddHook(t.Context(), p, person, "http://127.0.0.1:1/x", "whsec_", []string{"work"}); err != nil {
			return err
		}
		if err := tx.SetNewsChoices(t.Context(), person, []records.NewsChoice{{Kind: "work", Mail: "daily", Desktop: true}}); err != nil {
			return err
		}
		if err := tx.WantMail(t.Context(), person, "tamsin@saltpan.example", [32]byte{1}); err != nil {
			return err
		}
		for n, want := range []bool{false, true, false} {
			if ok, err := tx.ConfirmMail(t.Context(), person, [32]byte{byte(n)}, 24, 5); err != nil || ok != want {
				t.Errorf("code %d: %v, %v", n, ok, err)
			}
		}
		return tx.AddDeliveries(t.Context(), []records.NewDelivery{
			{Event: events[0].Row, Project: p, Person: person, Due: now.Add(-time.Second)},
			{Event: events[1].Row, Project: p, Hook: hook, Due: now.Add(-time.Second)},
			{Event: events[2].Row, Project: p, Person: person, Daily: true, Due: now.Add(time.Hour)},
		})
	}); err != nil {
		t.Fatal(err)
	}
	claim := func(lease time.Duration) (list []records.Delivery) {
		t.Helper()
		if err := db.Write(t.Context(), func(tx *records.Tx) (err error) {
			if list, err = tx.ClaimDeliveries(t.Context(), false, 10, lease); err != nil {
				return err
			}
			hooks, err := tx.ClaimDeliveries(t.Context(), true, 10, lease)
			list = append(list, hooks...)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		return list
	}
	list := claim(300 * time.Millisecond)
	if len(list) != 2 || list[0].Mail != "tamsin@saltpan.example" || list[0].Event.Kind != "x" || list[0].ProjectKey != "brinelight" ||
		list[1].URL != "http://127.0.0.1:1/x" || list[1].Mail != "" || list[0].Tries != 1 {
		t.Fatalf("%+v", list)
	}
	if again := claim(time.Minute); len(again) != 0 {
		t.Errorf("taken twice: %+v", again)
	}
	// Nobody said what became of them: they are due again, under the same key.
	time.Sleep(400 * time.Millisecond)
	again := claim(time.Minute)
	if len(again) != 2 || again[0].Key != list[0].Key || again[0].Tries != 2 {
		t.Fatalf("%+v", again)
	}
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		if err := tx.Delivered(t.Context(), []int64{again[0].ID}, ""); err != nil {
			return err
		}
		return tx.Postpone(t.Context(), []int64{again[1].ID}, -time.Second, "the chat is away")
	}); err != nil {
		t.Fatal(err)
	}
	if err := db.Use(t.Context(), func(tx *records.Tx) error {
		hooks, err := tx.Hooks(t.Context(), p)
		if err != nil || len(hooks) != 1 || hooks[0].Trouble != "the chat is away" || hooks[0].Waiting != 1 || hooks[0].Delivered != nil {
			t.Errorf("%+v, %v", hooks, err)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if last := claim(time.Minute); len(last) != 1 || last[0].Event.Kind != "y" {
		t.Errorf("%+v", last)
	}
	// With the hook, what was still to go to it goes.
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		there, err := tx.RemoveHook(t.Context(), p, hook)
		if err == nil && !there {
			t.Error("the hook is not there")
		}
		if there, _ := tx.RemoveHook(t.Context(), p, hook); there {
			t.Error("it is there after all")
		}
		if err != nil {
			return err
		}
		return tx.ForgetDelivered(t.Context(), -time.Minute)
	}); err != nil {
		t.Fatal(err)
	}
	if err := db.Use(t.Context(), func(tx *records.Tx) error {
		mail, wanted, wishes, err := tx.NewsChoices(t.Context(), person)
		if err != nil || mail != "tamsin@saltpan.example" || wanted != "" || len(wishes) != 1 ||
			wishes[0] != (records.NewsChoice{Kind: "work", Mail: "daily", Desktop: true}) {
			t.Errorf("%s %+v, %v", mail, wishes, err)
		}
		hearers, err := tx.Hearers(t.Context(), p, "work", false)
		if err != nil || len(hearers) != 1 || hearers[0].Choice != "daily" || hearers[0].Role != "owner" {
			t.Errorf("%+v, %v", hearers, err)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
}

// TestAHookHoldsUpItselfAlone: of one that is being called nothing more is taken, and everybody else's goes on.
func TestAHookHoldsUpItselfAlone(t *testing.T) {
	db := open(t, testbed.Database(t))
	p, person := project(t, db)
	next(t, db, "a", 1)
	happen(t, db, p, person, "x", "y", "z")
	now := time.Now()
	var dead, good int64
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		events, _, err := tx.NextEvents(t.Context(), "a", 10)
		if err != nil {
			return err
		}
		if dead, err = tx.AddHook(t.Context(), p, person, "http://127.0.0.1:1/dead", "whsec_", []string{"work"}); err != nil {
			return err
		}
		if good, err = tx.AddHook(t.Context(), p, person, "http://127.0.0.1:1/good", "whsec_", []string{"work"}); err != nil {
			return err
		}
		var list []records.NewDelivery
		for _, e := range events {
			list = append(list, records.NewDelivery{Event: e.Row, Project: p, Hook: dead, Due: now.Add(-time.Minute)})
		}
		return tx.AddDeliveries(t.Context(), append(list,
			records.NewDelivery{Event: events[2].Row, Project: p, Hook: good, Due: now.Add(-time.Second)},
			records.NewDelivery{Event: events[2].Row, Project: p, Person: person, Due: now.Add(-time.Second)}))
	}); err != nil {
		t.Fatal(err)
	}
	claim := func(hooks bool) (list []records.Delivery) {
		t.Helper()
		if err := db.Write(t.Context(), func(tx *records.Tx) (err error) {
			list, err = tx.ClaimDeliveries(t.Context(), hooks, 10, 2*time.Minute)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		return list
	}
	first := claim(true)
	if len(first) != 2 || first[0].URL == first[1].URL {
		t.Fatalf("%+v", first)
	}
	if more := claim(true); len(more) != 0 {
		t.Errorf("of a hook that is being called, more is taken: %+v", more)
	}
	if people := claim(false); len(people) != 1 || people[0].Person != person {
		t.Errorf("%+v", people)
	}
	if err := db.Write(t.Context(), func(tx *records.Tx) error {
		return tx.Postpone(t.Context(), []int64{first[0].ID}, time.Hour, "it is away")
	}); err != nil {
		t.Fatal(err)
	}
	if next := claim(true); len(next) != 1 || next[0].URL != first[0].URL {
		t.Errorf("%+v", next)
	}
}
