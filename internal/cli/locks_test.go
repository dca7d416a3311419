package cli

import (
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
)

func TestMoment(t *testing.T) {
	now := time.Date(2026, 3, 2, 15, 0, 0, 0, time.Local)
	for text, want := range map[string]time.Time{
		"16:30":            time.Date(2026, 3, 2, 16, 30, 0, 0, time.Local),
		"9:15":             time.Date(2026, 3, 3, 9, 15, 0, 0, time.Local),
		"2h":               now.Add(2 * time.Hour),
		"90m":              now.Add(90 * time.Minute),
		"tomorrow":         time.Date(2026, 3, 3, 0, 0, 0, 0, time.Local),
		"2026-03-05":       time.Date(2026, 3, 5, 0, 0, 0, 0, time.Local),
		"2026-03-05 12:00": time.Date(2026, 3, 5, 12, 0, 0, 0, time.Local),
	} {
		if got, err := moment(text, now); err != nil || !got.Equal(want) {
			t.Errorf("%s: %v, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "yesterday", "2026-03-01", "-2h", "25:00", "0s", "soon"} {
		if got, err := moment(text, now); err == nil {
			t.Errorf("%q is %v", text, got)
		}
	}
}

func TestWhatThereIsToSayOfALock(t *testing.T) {
	now := time.Now()
	ago := func(d time.Duration) time.Time { return now.Add(-d) }
	until := now.Add(3 * time.Hour)
	heard := ago(4 * 24 * time.Hour)
	l := model.Lock{Holder: "tamsin", Diverged: 2, Forgotten: true, Heard: &heard,
		Waitlist: []model.Waiter{{Handle: "rurik", Since: ago(time.Hour), Note: "a rail"},
			{Handle: "odile", Since: ago(time.Hour), Note: "the build"}},
		Asks: []model.Ask{{Person: "odile", Reason: "the build", At: ago(time.Hour), Unanswered: true},
			{Person: "rurik", Reason: "a rail, please", At: ago(2 * time.Hour), Answer: "not-yet", Word: "half built", Until: &until}}}
	got := strings.Join(lockLines(l), "\n")
	want := strings.Join([]string{
		"taken knowingly from version 2, though others have one that it was not made from",
		"looks forgotten: no unsent change, and no word from there since 4 days ago",
		"1st in line: rurik, since 1 hour ago, for a rail",
		"2nd in line: odile, since 1 hour ago",
		"odile asks tamsin to let go: the build (1 hour ago); no answer yet",
		"rurik asks tamsin to let go: a rail, please (2 hours ago); not yet until " + until.Local().Format("2 Jan 15:04") + ": half built",
	}, "\n")
	if got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	free := model.Lock{Waitlist: []model.Waiter{{Handle: "rurik", OfferedUntil: &until}}}
	if got := strings.Join(lockLines(free), "\n"); got != "offered to rurik until "+until.Local().Format("2 Jan 15:04") {
		t.Errorf("%s", got)
	}
	if got := lockLines(model.Lock{Holder: "tamsin"}); len(got) > 0 {
		t.Errorf("of a plain lock it says %q", got)
	}
}

func TestHowALockEnded(t *testing.T) {
	for want, h := range map[string]model.Hold{
		"held still":                    {},
		"sent (h7)":                     {Ending: "sent", Handoff: 7},
		"given back":                    {Ending: "given-back"},
		"given to the next":             {Ending: "given"},
		"taken away by odile: on leave": {Ending: "overridden", EndedBy: "odile", Word: "on leave"},
		"brought to another workspace":  {Ending: "brought"},
		"left the project by odile":     {Ending: "removed", EndedBy: "odile"},
	} {
		if got := endingWords(h); got != want {
			t.Errorf("%+v: %q, want %q", h, got, want)
		}
	}
}

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "0 s", 59 * time.Second: "59 s", time.Minute: "1 min", 119 * time.Minute: "119 min",
		2 * time.Hour: "2 h", 47 * time.Hour: "47 h", 72 * time.Hour: "3 days"} {
		if got := span(d); got != want {
			t.Errorf("%s is %q, want %q", d, got, want)
		}
	}
}
