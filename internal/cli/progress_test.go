package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"
)

// TestProgressSaysWhatCanBeKnown: percent, speed over the last seconds, and time left; nothing of a speed that is none.
func TestProgressSaysWhatCanBeKnown(t *testing.T) {
	var out bytes.Buffer
	at := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	m := &meter{out: &out, every: linesEvery, now: func() time.Time { return at }}
	said := func(after time.Duration, n int64) string {
		out.Reset()
		at = at.Add(after)
		m.Add(n)
		return out.String()
	}
	m.Start("Sending", 100<<30)
	if got := said(4*time.Second, 80<<30); got != "Sending: 80%, 80 GiB of 100 GiB, 20 GiB/s, a second left\n" && strings.Contains(got, "/s") {
		t.Errorf("what was there already is told as speed: %q", got)
	}
	if got := said(4*time.Second, 40<<20); strings.Contains(got, "GiB/s") {
		t.Errorf("%q", got)
	}
	if got := said(4*time.Second, 40<<20); got != "Sending: 80%, 80 GiB of 100 GiB, 10 MiB/s, 34 min left\n" {
		t.Errorf("%q", got)
	}
	m.Start("Sending", 1<<40)
	if got := said(4*time.Second, 4<<10); got != "Sending: 0%, 4.0 KiB of 1.0 TiB, 1.0 KiB/s, more than a day left\n" {
		t.Errorf("%q", got)
	}
	m.Start("Looking", 0)
	if got := said(4*time.Second, 3<<20); got != "Looking: 3.0 MiB\n" {
		t.Errorf("%q", got)
	}
	if got := said(time.Second, 1); got != "" {
		t.Errorf("a line too soon: %q", got)
	}
	m.Done()
	if got := said(time.Hour, 1); got != "" {
		t.Errorf("a line after the end: %q", got)
	}
}

func TestTimeLeft(t *testing.T) {
	for d, want := range map[time.Duration]string{300 * time.Millisecond: "a second", 20 * time.Second: "20 s", 5 * time.Minute: "5 min",
		90 * time.Minute: "90 min", 27 * time.Hour: "more than a day", 5 * time.Hour: "5 h"} {
		if got := leftWord(d); got != want {
			t.Errorf("%s: %q", d, got)
		}
	}
}
