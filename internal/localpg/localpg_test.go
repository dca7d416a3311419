package localpg_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/localpg"
)

func TestTheClockIsPutBackAndForward(t *testing.T) {
	// Not t.TempDir: as root, the server runs as another user, who could not reach it.
	folder, err := os.MkdirTemp("", "kettle-tarn-clock-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	if err := os.Chmod(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	s, err := localpg.Start(t.Context(),
		localpg.Options{Folder: filepath.Join(folder, "pg"), Fast: true, Clock: filepath.Join(folder, "clock")})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Down(); err != nil {
			t.Error(err)
		}
	})
	address, err := s.Database(t.Context(), "clock")
	if err != nil {
		t.Fatal(err)
	}
	saysOn := func(conn *pgx.Conn, back time.Duration) {
		t.Helper()
		var now time.Time
		if err := conn.QueryRow(t.Context(), "select clock_timestamp()").Scan(&now); err != nil {
			t.Fatal(err)
		}
		if off := time.Since(now) - back; off.Abs() > time.Minute {
			t.Errorf("the clock is %v back, not %v", time.Since(now).Round(time.Second), back)
		}
	}
	connect := func() *pgx.Conn {
		t.Helper()
		conn, err := pgx.Connect(t.Context(), address)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close(context.Background()) })
		return conn
	}
	conn := connect()
	saysOn(conn, 0)
	for _, back := range []time.Duration{42 * 24 * time.Hour, 10 * 24 * time.Hour, time.Hour} {
		if err := s.SetClock(back); err != nil {
			t.Fatal(err)
		}
		// One that was connected before, and one that comes now.
		saysOn(conn, back)
		saysOn(connect(), back)
	}
	// What the server waits for is not stretched: else a statement with a limit of time would never end, or at once.
	start := time.Now()
	if _, err := conn.Exec(t.Context(), "select pg_sleep(0.2)"); err != nil {
		t.Fatal(err)
	}
	if took := time.Since(start); took < 200*time.Millisecond || took > 30*time.Second {
		t.Errorf("a sleep of 0.2 s took %v", took)
	}
	if err := s.RealClock(t.Context()); err != nil {
		t.Fatal(err)
	}
	saysOn(connect(), 0)
}
