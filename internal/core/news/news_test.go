package news

import (
	"encoding/json"
	"strings"
	"testing"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
)

func TestWhatAnEventMeans(t *testing.T) {
	const until = "2026-03-02T17:30:00Z"
	for _, c := range []struct {
		kind    string
		subject string
		news    string
		to      string
		text    string
		you     string
	}{
		{lock.Taken, `{"person":"tamsin","paths":["a"],"count":1,"note":"rocks"}`, "", "", "tamsin took the lock of a, for rocks", ""},
		{lock.GivenBack, `{"person":"tamsin","paths":["a","b","c"],"count":40}`, "", "", "tamsin gave back the lock of 40 assets", ""},
		{lock.Waits, `{"person":"rurik","other":"tamsin","word":"a rail","paths":["a"],"count":1}`, Waits, "tamsin", "rurik waits in line for a",
			"rurik waits in line for a: a rail"},
		{lock.Offered, `{"person":"rurik","until":"` + until + `","paths":["a"],"count":1}`, Turn, "rurik", "a is offered to rurik",
			"It is your turn: a is offered to you until Mon 2 Mar 17:30 UTC. tarn begin takes it, with its newest version"},
		{lock.PassedOver, `{"person":"rurik","paths":["a"],"count":1}`, Turn, "rurik", "rurik did not take a in time",
			"Your offer of a has lapsed"},
		{lock.Asked, `{"person":"rurik","other":"tamsin","word":"a rail","paths":["a"],"count":1}`, Asked, "tamsin",
			"rurik asks tamsin to let go of a: a rail", "rurik asks you to let go of a: a rail. tarn answer --give or --not-yet"},
		{lock.NotYet, `{"person":"tamsin","other":"rurik","word":"half built","until":"` + until + `","paths":["a"],"count":1}`, Answered,
			"rurik", "tamsin answered rurik about a: not yet until Mon 2 Mar 17:30 UTC", "half built. You stay in line"},
		{lock.Unanswered, `{"person":"rurik","other":"tamsin","paths":["a"],"count":1}`, Answered, "rurik",
			"rurik has no answer from tamsin about a yet", "a lead can take the lock away"},
		{lock.Skipped, `{"person":"imani","other":"rurik","paths":["a"],"count":1}`, Answered, "imani", "rurik gets a ahead of imani",
			"a was given to rurik, ahead of you"},
		{lock.Overridden, `{"person":"imani","other":"odile","word":"on leave","paths":["a","b"],"count":2}`, Lost, "imani",
			"odile took the lock of a and b away from imani: on leave", "stays on your disk; tarn settle --use copy"},
		{lock.Reminded, `{"person":"imani","workspace":"imani-pc","since":"` + until + `","paths":["a"],"count":1}`, Lost, "imani",
			"imani seems to have forgotten the lock of a", "You hold a since Mon 2 Mar 17:30 UTC, in imani-pc"},
		{"rules.answered", `{"path":"cache/x","asked":"rurik","accepted":false,"word":"it is baked"}`, Rules, "rurik",
			"odile declined the request for cache/x: it is baked", "odile declined your request"},
		{"unsent.changed", `{}`, "", "", "", ""},
		{"lock.unheard-of", `{"paths":[1,null],"count":"x"}`, "", "", "", ""},
	} {
		e := model.Event{Kind: c.kind, Person: "odile"}
		if err := json.Unmarshal([]byte(c.subject), &e.Subject); err != nil {
			t.Fatal(err)
		}
		i := Of(e)
		if i.Kind != c.news || strings.Join(i.To, ",") != c.to || i.Text != c.text || !strings.Contains(i.For(c.to), c.you) {
			t.Errorf("%s: %+v", c.kind, i)
		}
		if i.For("somebody") != c.text {
			t.Errorf("%s: somebody else hears %s", c.kind, i.For("somebody"))
		}
	}
	sent := Of(model.Event{Kind: "handoff.sent", Person: "tamsin",
		Subject: map[string]any{"handoff": 7, "note": "rocks", "paths": []string{"a"}, "count": 1}})
	if sent.Kind != Work || !sent.Everyone || sent.Handoff != 7 || sent.Text != "h7 by tamsin: rocks (a)" {
		t.Errorf("%+v", sent)
	}
}

// Every kind of lock event has words, and every kind of news a place in the settings.
func TestNothingIsLeftWithoutWords(t *testing.T) {
	for _, kind := range []string{lock.Taken, lock.Brought, lock.GivenBack, lock.Overridden, lock.Waits, lock.Left, lock.Offered,
		lock.PassedOver, lock.Asked, lock.Given, lock.Skipped, lock.NotYet, lock.Unanswered, lock.Reminded} {
		i := Of(model.Event{Kind: kind, Subject: map[string]any{"person": "a", "other": "b", "paths": []string{"x"}, "count": 1}})
		if i.Text == "" {
			t.Errorf("%s has no words", kind)
		}
		if _, known := Find(i.Kind); i.Kind != "" && !known {
			t.Errorf("%s is news of the kind %q, which nobody can choose", kind, i.Kind)
		}
	}
}

func TestWhomItConcerns(t *testing.T) {
	for name, c := range map[string]struct {
		item             Item
		handle, role, by string
		want             bool
	}{
		"to them":              {Item{To: []string{"rurik"}}, "rurik", model.Artist, "tamsin", true},
		"to somebody else":     {Item{To: []string{"rurik"}}, "imani", model.Owner, "tamsin", false},
		"their own doing":      {Item{To: []string{"rurik"}}, "rurik", model.Artist, "rurik", false},
		"everyone":             {Item{Everyone: true}, "imani", model.Viewer, "tamsin", true},
		"everyone but them":    {Item{Everyone: true}, "tamsin", model.Lead, "tamsin", false},
		"leads":                {Item{Leads: true}, "odile", model.Owner, "tamsin", true},
		"leads, and an artist": {Item{Leads: true}, "rurik", model.Artist, "tamsin", false},
		"time did it":          {Item{To: []string{"rurik"}}, "rurik", model.Artist, "", true},
	} {
		if got := c.item.Concerns(c.handle, c.role, c.by); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// TestTheRecordHasWordsForEverything: each kind of event is in one subject, and is told in words.
func TestTheRecordHasWordsForEverything(t *testing.T) {
	for _, e := range Events {
		if unrecorded[e.Kind] {
			continue
		}
		in := 0
		for _, s := range Subjects {
			for _, b := range s.begins {
				if strings.HasPrefix(e.Kind, b) {
					in++
				}
			}
		}
		if in != 1 {
			t.Errorf("%s is in %d subjects", e.Kind, in)
		}
		if said := Says(model.Event{Kind: e.Kind, Person: "odile", Subject: map[string]any{}}); strings.Contains(said, e.Kind) || said == "" {
			t.Errorf("%s is told as %q", e.Kind, said)
		}
	}
	if len(Recorded("", false)) >= len(Recorded("", true)) || len(Recorded("weather", true)) != 0 {
		t.Error("what is for leads is not told apart")
	}
}
