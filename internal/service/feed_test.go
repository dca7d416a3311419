package service_test

import (
	"context"
	"errors"
	"io"
	"sync/atomic"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/testbed"
)

// listen begins a stream, and waits until it stands.
func (m *team) listen(ctx context.Context, actor ground.Actor, each func(model.Event) error) <-chan error {
	m.Helper()
	stands, done := make(chan struct{}, 100), make(chan error, 1)
	go func() {
		done <- m.News(ctx, actor, key, "", each, func(bool) error {
			select {
			case stands <- struct{}{}:
			default:
			}
			return nil
		})
	}()
	select {
	case <-stands:
	case err := <-done:
		m.Fatalf("no stream: %v", err)
	}
	return done
}

func within(t testing.TB, limit time.Duration, what string, so func() bool) {
	t.Helper()
	for start := time.Now(); !so(); time.Sleep(5 * time.Millisecond) {
		if time.Since(start) > limit {
			t.Fatalf("%s: not within %s", what, limit)
		}
	}
}

// TestStreamsAskTheRecordsOnce: however many listen, what happens is read once for all of them; what happens elsewhere does not even wake
// them.
func TestStreamsAskTheRecordsOnce(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.StartProject(t.Context(), m.odile, "elsewhere"))
	const streams = 30
	base, statements := testbed.Counted(t.Context())
	ctx, stop := context.WithCancel(base)
	defer stop()
	var told atomic.Int64
	var done []<-chan error
	for i := range streams {
		actor := []ground.Actor{m.odile, m.tamsin, m.rurik}[i%3]
		done = append(done, m.listen(ctx, actor, func(e model.Event) error {
			if e.Kind == "milestone.added" {
				told.Add(1)
			}
			return nil
		}))
	}
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.txt", 0, 0, "one")))
	time.Sleep(200 * time.Millisecond)
	statements.Store(0)
	for range 10 {
		ok(t)(m.SetMember(t.Context(), m.odile, "elsewhere", "tamsin", model.Artist))
	}
	ok(t)(m.AddMilestone(t.Context(), m.odile, key, model.MilestoneRequest{Name: "here", At: "h1"}))
	within(t, 10*time.Second, "everybody is told", func() bool { return told.Load() == streams })
	if n := statements.Load(); n > 0 {
		t.Errorf("%d streams ran %d statements for what one reads", streams, n)
	}
	stop()
	for _, d := range done {
		if err := <-d; !errors.Is(err, context.Canceled) {
			t.Errorf("a stream ends with %v", err)
		}
	}
}

// TestASlowStreamMissesNothing: more happens than waits for one stream, while it is busy with the first.
func TestASlowStreamMissesNothing(t *testing.T) {
	m := newTeam(t, nil)
	busy, goOn := make(chan struct{}), make(chan struct{})
	const many = 3000
	next := 1
	done := m.listen(t.Context(), m.odile, func(e model.Event) error {
		if e.Kind != "test" {
			return nil
		}
		if n := int(e.Subject["n"].(float64)); n != next {
			t.Errorf("%d is told, and %d is next", n, next)
			return io.ErrUnexpectedEOF
		}
		if next++; next == 2 {
			close(busy)
			<-goOn
		}
		if next == many+1 {
			return io.EOF
		}
		return nil
	})
	put := func(from, to int) {
		m.one(`with x as (insert into events (project_id, kind, subject) select p.id, 'test', jsonb_build_object('n', n)
			from projects p, generate_series($1::int, $2) n where key = 'brinelight' order by n returning 1) select count(*) from x`, from, to)
	}
	put(1, 1)
	<-busy
	for from := 2; from <= many; from += 500 {
		put(from, min(from+499, many))
	}
	time.Sleep(3 * time.Second) // longer than it takes until somebody looks
	close(goOn)
	select {
	case err := <-done:
		if err != io.EOF {
			t.Errorf("%v at %d", err, next)
		}
	case <-time.After(20 * time.Second):
		t.Errorf("only %d of %d were told", next-1, many)
	}
}

// TestWhoLeavesHearsNoMore: not a word of what happens after somebody was removed, and no token outlives its date.
func TestWhoLeavesHearsNoMore(t *testing.T) {
	m := newTeam(t, nil)
	var told atomic.Int64
	done := m.listen(t.Context(), m.rurik, func(e model.Event) error {
		if e.Kind == "milestone.added" {
			told.Add(1)
		}
		return nil
	})
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.txt", 0, 0, "one")))
	if err := m.RemoveMember(t.Context(), m.odile, key, "rurik"); err != nil {
		t.Fatal(err)
	}
	ok(t)(m.AddMilestone(t.Context(), m.odile, key, model.MilestoneRequest{Name: "later", At: "h1"}))
	select {
	case err := <-done:
		testbed.Problem(t, err, model.NotFound)
	case <-time.After(10 * time.Second):
		t.Fatal("the stream goes on")
	}
	if told.Load() > 0 {
		t.Error("who was removed is told of what came after")
	}
	// Nor does one who is reading what they missed.
	ok(t)(m.SetMember(t.Context(), m.odile, key, "rurik", model.Artist))
	m.one(`with x as (insert into events (project_id, kind, subject) select p.id, 'test', '{}'
		from projects p, generate_series(1, 600) n where key = 'brinelight' returning 1) select count(*) from x`)
	removed := false
	err := m.News(t.Context(), m.rurik, key, "0-0", func(e model.Event) error {
		if e.Kind == "milestone.added" && e.Subject["name"] == "last" {
			t.Error("who was removed while they were reading is told of what came after")
			return io.EOF
		}
		if removed {
			return nil
		}
		removed = true
		if err := m.RemoveMember(t.Context(), m.odile, key, "rurik"); err != nil {
			return err
		}
		ok(t)(m.AddMilestone(t.Context(), m.odile, key, model.MilestoneRequest{Name: "last", At: "h1"}))
		return nil
	}, func(bool) error { return nil })
	testbed.Problem(t, err, model.NotFound)
	made, err := m.NewToken(t.Context(), m.odile, key, model.TokenRequest{Label: "build machine", Role: model.Viewer, Days: 1})
	if err != nil {
		t.Fatal(err)
	}
	machine, err := m.Authenticate(t.Context(), made.Token)
	if err != nil {
		t.Fatal(err)
	}
	done = m.listen(t.Context(), machine, func(model.Event) error { return nil })
	m.one(`with x as (update tokens set expires = now() where label = 'build machine' returning 1) select count(*) from x`)
	select {
	case err := <-done:
		testbed.Problem(t, err, model.SignInExpired)
	case <-time.After(10 * time.Second):
		t.Fatal("a stream outlives its token")
	}
}
