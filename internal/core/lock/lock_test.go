package lock

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
)

var (
	tamsin = Place{"tamsin", "w1", "tamsin-pc: brinelight"}
	laptop = Place{"tamsin", "w2", "tamsin-laptop: brinelight"}
	rurik  = Place{"rurik", "w3", "rurik-pc: brinelight"}
	imani  = Place{"imani", "w4", "imani-pc: brinelight"}
	noon   = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	terms  = Terms{Now: noon, OfferFor: 24 * time.Hour, AnswerWithin: 4 * time.Hour}
)

func later(d time.Duration) Terms {
	t := terms
	t.Now = noon.Add(d)
	return t
}

// describe writes a state down in a few words, so that a table can be read.
func describe(s State) string {
	text := "free"
	if !s.Free() {
		text = s.Holder.WorkspaceID + "#" + fmt.Sprint(s.Fence)
	}
	if s.Diverged > 0 {
		text += fmt.Sprintf(" from v%d", s.Diverged)
	}
	for _, w := range s.Line {
		text += " <" + w.Handle
		if !w.Until.IsZero() {
			text += " until " + w.Until.Format("2/15:04")
		}
		if w.Passed {
			text += " passed"
		}
	}
	for _, a := range s.Asks {
		text += " ?" + a.From
		if a.Late {
			text += " late"
		}
	}
	return text
}

func kinds(events []Event) string {
	var out []string
	for _, e := range events {
		word := strings.TrimPrefix(e.Kind, "lock.") + " " + e.Person
		if e.Other != "" {
			word += "/" + e.Other
		}
		out = append(out, word)
	}
	return strings.Join(out, ", ")
}

// A step does one thing to a lock.
type step func(Terms, State) (State, []Event, *model.Refusal)

func take(q Request) step {
	return func(t Terms, s State) (State, []Event, *model.Refusal) { return t.Take(s, q) }
}

func sure(do func(Terms, State) (State, []Event)) step {
	return func(t Terms, s State) (State, []Event, *model.Refusal) {
		s, e := do(t, s)
		return s, e, nil
	}
}

func giveBack(who Place) step {
	return func(t Terms, s State) (State, []Event, *model.Refusal) { return t.GiveBack(s, who) }
}

func ask(who Place, reason string) step {
	return func(t Terms, s State) (State, []Event, *model.Refusal) { return t.Ask(s, who, reason) }
}

func give(who, to string) step {
	return func(t Terms, s State) (State, []Event, *model.Refusal) { return t.Give(s, who, to) }
}

func notYet(who, to string) step {
	return func(t Terms, s State) (State, []Event, *model.Refusal) {
		return t.NotYet(s, who, to, "nearly done", noon)
	}
}

func leave(who string) step {
	return sure(func(t Terms, s State) (State, []Event) { return t.Leave(s, who) })
}

func forget(who string) step {
	return sure(func(t Terms, s State) (State, []Event) { return t.Forget(s, who) })
}

var (
	override = sure(func(t Terms, s State) (State, []Event) { return t.Override(s, "odile", "on leave") })
	tick     = sure(Terms.Tick)
	release  = sure(Terms.Release)
)

// Every transition, from every kind of state: free, held, held with people in line, offered.
func TestTransitions(t *testing.T) {
	free := State{Path: "a", Newest: 3, Fence: 7}
	mine, _, _ := terms.Take(free, Request{Who: tamsin, Have: 3, Note: "rocks"})
	line, _, _ := terms.Take(mine, Request{Who: rurik, Wait: true, Note: "a rail"})
	line, _, _ = terms.Take(line, Request{Who: imani, Wait: true})
	asked, _, _ := terms.Ask(line, rurik, "a rail")
	offered, _, _ := terms.GiveBack(line, tamsin)
	twice, _, _ := terms.Ask(asked, imani, "a bell")
	lapsed, _ := later(24 * time.Hour).Tick(offered)
	alone := offered
	alone.Line = alone.Line[:1]
	reserved, _, _ := terms.Take(State{Path: "new"}, Request{Who: tamsin})
	old, _, _ := terms.Take(free, Request{Who: tamsin, Have: 2, Diverge: true})

	const day = 24 * time.Hour
	for _, c := range []struct {
		name   string
		from   State
		after  time.Duration
		do     step
		want   string // the state, or the reason of a refusal behind an exclamation mark
		events string
	}{
		{"take what is free", free, 0, take(Request{Who: tamsin, Have: 3}), "w1#8", "taken tamsin"},
		{"take with an old version", free, 0, take(Request{Who: tamsin, Have: 2}), "!behind", ""},
		{"take what is not here", free, 0, take(Request{Who: tamsin}), "!behind", ""},
		{"take, and update next", free, 0, take(Request{Who: tamsin, Have: 2, WillUpdate: true}), "w1#8", "taken tamsin"},
		{"take an old version knowingly", free, 0, take(Request{Who: tamsin, Have: 2, Diverge: true}), "w1#8 from v2", "taken tamsin"},
		{"again what was taken so", old, 0, take(Request{Who: tamsin, Have: 2}), "w1#8 from v2", ""},
		{"reserve", State{Path: "new"}, 0, take(Request{Who: tamsin}), "w1#1", "taken tamsin"},
		{"take what is reserved", reserved, 0, take(Request{Who: rurik}), "!held", ""},
		{"again", mine, 0, take(Request{Who: tamsin, Have: 3}), "w1#8", ""},
		{"again with an old version", mine, 0, take(Request{Who: tamsin, Have: 2}), "!behind", ""},
		{"from another workspace", mine, 0, take(Request{Who: laptop, Have: 3}), "!held-elsewhere", ""},
		{"bring to another workspace", mine, 0, take(Request{Who: laptop, Have: 3, Bring: true}), "w2#9", "brought tamsin/tamsin-pc: brinelight"},
		{"bring to one that is behind", mine, 0, take(Request{Who: laptop, Have: 1, Bring: true}), "!behind", ""},
		{"bring what another has", mine, 0, take(Request{Who: rurik, Have: 3, Bring: true}), "!held", ""},
		{"take what another has", mine, 0, take(Request{Who: rurik, Have: 3}), "!held", ""},
		{"wait", mine, 0, take(Request{Who: rurik, Wait: true}), "w1#8 <rurik", "waits rurik/tamsin"},
		{"wait, third", line, 0, take(Request{Who: Place{"keiko", "w5", ""}, Wait: true}), "w1#8 <rurik <imani <keiko", "waits keiko/tamsin"},
		{"wait twice", line, 0, take(Request{Who: rurik, Wait: true}), "w1#8 <rurik <imani", ""},
		{"wait for what is free", free, 0, take(Request{Who: rurik, Have: 3, Wait: true}), "w3#8", "taken rurik"},
		{"wait for what is free, behind", free, 0, take(Request{Who: rurik, Have: 2, Wait: true}), "!behind", ""},
		{"leave", line, 0, leave("rurik"), "w1#8 <imani", "left rurik"},
		{"leave no line", line, 0, leave("keiko"), "w1#8 <rurik <imani", ""},
		{"leave with an offer", offered, 0, leave("rurik"), "free <imani until 3/12:00", "left rurik, offered imani"},

		{"give back", mine, 0, giveBack(tamsin), "free", "given-back tamsin"},
		{"give back what is free", free, 0, giveBack(tamsin), "free", ""},
		{"give back another's", mine, 0, giveBack(rurik), "!held", ""},
		{"give back from elsewhere", mine, 0, giveBack(laptop), "!held-elsewhere", ""},
		{"give back to the line", line, 0, giveBack(tamsin), "free <rurik until 3/12:00 <imani", "given-back tamsin, offered rurik"},
		{"a send gives it back", line, 0, release, "free <rurik until 3/12:00 <imani", "given-back tamsin, offered rurik"},
		{"a send of what is free", free, 0, release, "free", ""},
		{"accept", offered, time.Hour, take(Request{Who: rurik, Have: 3}), "w3#10 <imani", "taken rurik"},
		{"accept with an old version", offered, time.Hour, take(Request{Who: rurik, Have: 2}), "!behind", ""},
		{"accept, and update next", offered, time.Hour, take(Request{Who: rurik, Have: 2, WillUpdate: true}), "w3#10 <imani", "taken rurik"},
		{"take what is offered to another", offered, time.Hour, take(Request{Who: imani, Have: 3}), "!offered", ""},
		{"wait behind an offer", offered, time.Hour, take(Request{Who: tamsin, Have: 3, Wait: true}), "free <rurik until 3/12:00 <imani <tamsin",
			"waits tamsin/rurik"},
		{"an offer stands", offered, day - 1, tick, "free <rurik until 3/12:00 <imani", ""},
		{"an offer lapses", offered, day, tick, "free <imani until 4/12:00 <rurik passed", "passed-over rurik, offered imani"},
		{"the second lapses too", lapsed, 3 * day, tick, "free <imani passed <rurik passed", "passed-over imani"},
		{"then anybody takes it", lapsed, 3 * day, take(Request{Who: laptop, Have: 3}), "w2#10 <imani <rurik", "passed-over imani, taken tamsin"},
		{"too late to accept", offered, day, take(Request{Who: rurik, Have: 3}), "!offered", ""},
		{"nobody else waits", alone, 2 * day, tick, "free <rurik passed", "passed-over rurik"},
		{"taken late by the only one", alone, 2 * day, take(Request{Who: rurik, Have: 3}), "w3#10", "passed-over rurik, taken rurik"},

		{"override", line, 0, override, "free <rurik until 3/12:00 <imani", "overridden tamsin/odile, offered rurik"},
		{"override what is free", free, 0, override, "free", ""},
		{"override an offer", offered, 0, override, "free <imani until 3/12:00 <rurik passed", "passed-over rurik, offered imani"},

		{"ask", mine, 0, ask(rurik, "a rail"), "w1#8 <rurik ?rurik", "waits rurik/tamsin, asked rurik/tamsin"},
		{"ask from the line", line, 0, ask(imani, "a rail"), "w1#8 <rurik <imani ?imani", "asked imani/tamsin"},
		{"ask again", asked, time.Hour, ask(rurik, "a rail"), "w1#8 <rurik <imani ?rurik", ""},
		{"ask again for another reason", asked, time.Hour, ask(rurik, "a bell"), "!asked", ""},
		{"one who asked leaves", twice, 0, leave("rurik"), "w1#8 <imani ?imani", "left rurik"},
		{"ask for what is free", free, 0, ask(rurik, "a rail"), "!free", ""},
		{"ask for what is offered", offered, 0, ask(imani, "a rail"), "!offered", ""},
		{"ask oneself", mine, 0, ask(laptop, "a rail"), "!yours", ""},
		{"no answer for long", asked, 4 * time.Hour, tick, "w1#8 <rurik <imani ?rurik late", "unanswered rurik/tamsin"},
		{"give to the first", twice, 0, give("tamsin", ""), "free <rurik until 3/12:00 <imani", "given tamsin/rurik, offered rurik"},
		{"give to the one who asked", twice, 0, give("tamsin", "imani"), "free <imani until 3/12:00 <rurik",
			"given tamsin/imani, skipped rurik/imani, offered imani"},
		{"give to who does not wait", twice, 0, give("tamsin", "keiko"), "!nobody-waits", ""},
		{"give with nobody there", mine, 0, give("tamsin", ""), "!nobody-waits", ""},
		{"give another's", twice, 0, give("rurik", ""), "!held", ""},
		{"give what is free", free, 0, give("tamsin", ""), "!free", ""},
		{"not yet", twice, 0, notYet("tamsin", ""), "w1#8 <rurik <imani", "not-yet tamsin/rurik, not-yet tamsin/imani"},
		{"not yet, to one", twice, 0, notYet("tamsin", "imani"), "w1#8 <rurik <imani ?rurik", "not-yet tamsin/imani"},
		{"not yet, unasked", line, 0, notYet("tamsin", ""), "!nobody-asked", ""},
		{"not yet, of another's", twice, 0, notYet("rurik", ""), "!held", ""},
		{"ask after not yet", func() State { s, _, _ := terms.NotYet(asked, "tamsin", "", "", noon); return s }(), 0, ask(rurik, "a rail"),
			"w1#8 <rurik <imani ?rurik", "asked rurik/tamsin"},

		{"the holder leaves the project", asked, 0, forget("tamsin"), "free <rurik until 3/12:00 <imani", "given-back tamsin, offered rurik"},
		{"one in line leaves it", asked, 0, forget("rurik"), "w1#8 <imani", "left rurik"},
	} {
		before := describe(c.from)
		next, events, refusal := c.do(later(c.after), c.from)
		got := describe(next)
		if refusal != nil {
			got = "!" + refusal.Reason
			if refusal.Remedy == "" || !strings.HasPrefix(refusal.Message, c.from.Path+": ") {
				t.Errorf("%s: message %q, remedy %q", c.name, refusal.Message, refusal.Remedy)
			}
		}
		if refusal != nil && c.after >= day {
			events = nil // what time did comes with a refusal too
		}
		if got != c.want || kinds(events) != c.events {
			t.Errorf("%s: %s → %s (%s), want %s (%s)", c.name, before, got, kinds(events), c.want, c.events)
		}
		if describe(c.from) != before {
			t.Errorf("%s changed the state that it was given: %s", c.name, describe(c.from))
		}
	}
}

func TestMaySend(t *testing.T) {
	free := State{Path: "a", Newest: 1, Fence: 4}
	mine, _, _ := terms.Take(free, Request{Who: tamsin, Have: 1})
	line, _, _ := terms.Take(mine, Request{Who: rurik, Wait: true})
	offered, _, _ := terms.GiveBack(line, tamsin)
	gone, _ := terms.Override(mine, "odile", "on leave")
	theirs, _, _ := terms.Take(gone, Request{Who: rurik, Have: 1})
	again, _, _ := terms.Take(gone, Request{Who: tamsin, Have: 1})
	moved, _, _ := terms.Take(mine, Request{Who: laptop, Have: 1, Bring: true})
	for _, c := range []struct {
		name  string
		s     State
		who   Place
		fence int64
		take  bool
		want  string
	}{
		{"the holder", mine, tamsin, 5, false, ""},
		{"the holder, unknowing", mine, tamsin, 0, false, ""},
		{"somebody else", mine, rurik, 0, false, "held"},
		{"from elsewhere", mine, laptop, 0, false, "held-elsewhere"},
		{"nobody holds it", free, tamsin, 0, false, "not-locked"},
		{"nobody does, and it is taken for this", free, tamsin, 0, true, ""},
		{"it is offered to another", offered, tamsin, 0, true, "offered"},
		{"it is offered to oneself", offered, rurik, 0, true, ""},
		{"it was taken away", gone, tamsin, 5, false, "lock-lost"},
		{"taken away, and another's now", theirs, tamsin, 5, false, "lock-lost"},
		{"taken away, and one's own again", again, tamsin, 5, false, "lock-lost"},
		{"brought elsewhere meanwhile", moved, tamsin, 5, false, "held-elsewhere"},
	} {
		got := ""
		if r := terms.MaySend(c.s, c.who, c.fence, c.take); r != nil {
			got = r.Reason
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestRefusalsTellTheWholeStory(t *testing.T) {
	mine, _, _ := terms.Take(State{Path: "levels/harbour.glb", Newest: 3}, Request{Who: tamsin, Have: 3, Note: "rocks"})
	line, _, _ := terms.Take(mine, Request{Who: rurik, Wait: true})
	_, _, r := later(3*time.Hour).Take(line, Request{Who: rurik, Have: 3})
	if want := `levels/harbour.glb: tamsin holds it, taken 3 hours ago in tamsin-pc: brinelight, for "rocks"; you are 1st in line`; r == nil ||
		r.Message != want {
		t.Errorf("%v", r)
	}
	offered, _, _ := terms.GiveBack(line, tamsin)
	_, _, r = terms.Take(offered, Request{Who: imani, Have: 3})
	if r == nil || !strings.Contains(r.Message, "rurik's turn, who has until Tuesday 12:00 UTC") {
		t.Errorf("%v", r)
	}
	for n, want := range map[int]string{1: "1st", 2: "2nd", 3: "3rd", 4: "4th", 11: "11th", 12: "12th", 21: "21st", 112: "112th"} {
		if got := Ordinal(n); got != want {
			t.Errorf("%d is %s", n, got)
		}
	}
}

// Whatever happens in whatever order, checked against a model that knows only who holds and who joined the line when: the fence never
// falls, and grows with each change of holder; only one is offered to, only while it is free; whoever may send with a fence is the one it
// was given to; nobody is lost from the line but by getting the lock or leaving.
func TestRandomWalk(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	places := []Place{tamsin, laptop, rurik, imani, {"keiko", "w5", "keiko-pc"}}
	now := terms
	fences := map[Place]int64{}
	s := State{Path: "a", Newest: 1}
	waiting := map[string]bool{}
	holder := ""
	seen := map[string]int{}
	for range 60_000 {
		now.Now = now.Now.Add(time.Duration(rnd.IntN(600)) * time.Minute)
		before := s
		who := places[rnd.IntN(len(places))]
		var events []Event
		var refusal *model.Refusal
		switch rnd.IntN(9) {
		case 0, 1:
			s, events, refusal = now.Take(s, Request{Who: who, Have: 1, Wait: rnd.IntN(2) == 0, Bring: rnd.IntN(4) == 0})
			if refusal == nil && s.Holder == who {
				fences[who] = s.Fence
			}
		case 2:
			s, events, _ = now.GiveBack(s, who)
		case 3:
			if rnd.IntN(4) == 0 {
				s, events = now.Override(s, "odile", "")
			}
		case 4:
			s, events, _ = now.Ask(s, who, "")
		case 5:
			s, events, _ = now.Give(s, who.Handle, []string{"", "imani"}[rnd.IntN(2)])
		case 6:
			s, events, _ = now.NotYet(s, who.Handle, "", "", noon)
		case 7:
			s, events = now.Leave(s, who.Handle)
		case 8:
			if fence, ok := fences[who]; ok && now.MaySend(s, who, fence, false) == nil && s.Holder != who {
				t.Fatalf("%v may send, and %v holds", who, s.Holder)
			}
			s, events = now.Tick(s)
		}
		for _, e := range events {
			seen[e.Kind]++
			switch e.Kind {
			case Taken:
				if holder != "" {
					t.Fatalf("%s takes it while %s holds it", e.Person, holder)
				}
				holder = e.Person
				delete(waiting, e.Person)
			case GivenBack, Overridden, Given:
				if holder != e.Person {
					t.Fatalf("%v, and %s holds it", e, holder)
				}
				holder = ""
			case Waits:
				waiting[e.Person] = true
			case Left:
				delete(waiting, e.Person)
			}
		}
		if s.Fence < before.Fence || s.Holder != before.Holder && s.Fence == before.Fence {
			t.Fatalf("the fence went from %d to %d as the holder went from %v to %v", before.Fence, s.Fence, before.Holder, s.Holder)
		}
		line := map[string]bool{}
		for i, w := range s.Line {
			line[w.Handle] = true
			if !w.Until.IsZero() && (i > 0 || !s.Free()) {
				t.Fatalf("an offer in the wrong place: %s", describe(s))
			}
		}
		if s.Holder.Handle != holder || !reflect.DeepEqual(line, waiting) || len(line) != len(s.Line) || line[holder] {
			t.Fatalf("%s, and the model has %q with %v", describe(s), holder, waiting)
		}
		if s.Free() && len(s.Asks) > 0 || slices.ContainsFunc(s.Asks, func(a Ask) bool { return a.From == holder }) {
			t.Fatalf("asks of nobody: %s", describe(s))
		}
	}
	for _, kind := range []string{Taken, Brought, GivenBack, Overridden, Waits, Left, Offered, PassedOver, Asked, Given, NotYet, Unanswered} {
		if seen[kind] == 0 {
			t.Errorf("the walk never came to %s", kind)
		}
	}
}

// TestWhatDivergedIsForgottenWithANewGrant: who takes the newest version, or brings the lock to a workspace that has it, goes on from that.
func TestWhatDivergedIsForgottenWithANewGrant(t *testing.T) {
	s := State{Path: "a.png", Newest: 5, Fence: 3, Diverged: 2}
	s, _, refusal := terms.Take(s, Request{Who: tamsin, Have: 5})
	if refusal != nil || s.Diverged != 0 {
		t.Errorf("a new grant keeps v%d, %v", s.Diverged, refusal)
	}
	s.Diverged = 2
	s, _, refusal = terms.Take(s, Request{Who: laptop, Have: 5, Bring: true})
	if refusal != nil || s.Holder != laptop || s.Diverged != 0 {
		t.Errorf("brought, it keeps v%d, %v", s.Diverged, refusal)
	}
	s, _, refusal = terms.Take(s, Request{Who: tamsin, Have: 4, Bring: true, Diverge: true})
	if refusal != nil || s.Diverged != 4 {
		t.Errorf("brought to an older version, it says v%d, %v", s.Diverged, refusal)
	}
	s, _, refusal = terms.Take(s, Request{Who: laptop, Have: 4, Bring: true, WillUpdate: true})
	if refusal != nil || s.Diverged != 0 {
		t.Errorf("brought and updated, it keeps v%d, %v", s.Diverged, refusal)
	}
}

// TestALineJoinsAnother: who waited for a name waits for what has it now, behind those who wait already, once each, and it is offered
// where it is free.
func TestALineJoinsAnother(t *testing.T) {
	s := State{Path: "a.png", Newest: 1, Fence: 1, Holder: tamsin, Line: []Waiter{{Place: rurik, Since: noon}}}
	line := []Waiter{{Place: imani, Since: noon, Until: noon.Add(time.Hour), Passed: true}, {Place: rurik, Since: noon},
		{Place: laptop, Since: noon}}
	next, events := terms.Join(s, line)
	if got := describe(next); got != "w1#1 <rurik <imani" || len(events) != 0 {
		t.Errorf("%s, %v", got, events)
	}
	if len(s.Line) != 1 {
		t.Error("the line that was given is changed")
	}
	free := State{Path: "a.png", Newest: 1, Fence: 1}
	next, events = terms.Join(free, line)
	if offered, _ := next.OfferedTo(); offered != "imani" || len(events) != 1 || events[0].Kind != Offered {
		t.Errorf("%s, %v", describe(next), events)
	}
}

// TestALockIsWorthSomethingOnlyOnTheNewestOfAllBranches: what a live branch has and the version at hand does not descend from stands in the
// way, unless somebody knows.
func TestALockIsWorthSomethingOnlyOnTheNewestOfAllBranches(t *testing.T) {
	free := State{Path: "a.png", Newest: 5, Fence: 3}
	lacks := []Newest{{Branch: "rev-c", Version: 7}, {Branch: "second-chapter", Version: 6, Gone: true}}
	warns := terms
	warns.BehindWarns = true
	for _, c := range []struct {
		name     string
		terms    Terms
		q        Request
		refused  string
		diverged int
	}{
		{"it descends from all", terms, Request{Have: 5}, "", 0},
		{"newer elsewhere", terms, Request{Have: 5, Lacks: lacks}, "apart", 0},
		{"newer elsewhere, and updated", terms, Request{Have: 4, WillUpdate: true, Lacks: lacks}, "apart", 0},
		{"newer here and elsewhere", terms, Request{Have: 4, Lacks: lacks}, "behind", 0},
		{"taken knowingly", terms, Request{Have: 5, Diverge: true, Lacks: lacks}, "", 5},
		{"updated, and taken knowingly", terms, Request{Have: 4, WillUpdate: true, Diverge: true, Lacks: lacks}, "", 5},
		{"rules that only warn", warns, Request{Have: 5, Lacks: lacks}, "", 5},
	} {
		c.q.Who = tamsin
		s, _, refusal := c.terms.Take(free, c.q)
		got := ""
		if refusal != nil {
			got = refusal.Reason
		}
		if got != c.refused || s.Diverged != c.diverged || s.Free() != (c.refused != "") {
			t.Errorf("%s: %q, %s", c.name, got, describe(s))
		}
		if got == "apart" && (!strings.Contains(refusal.Message, "rev-c has version 7") || !strings.Contains(refusal.Message, "1 more") ||
			!strings.Contains(refusal.Remedy, "merge rev-c") || !strings.Contains(refusal.Remedy, "--diverge")) {
			t.Errorf("%s: %+v", c.name, refusal)
		}
		// What one has knowingly, one may ask for again.
		if c.diverged > 0 {
			if again, events, refusal := terms.Take(s, Request{Who: tamsin, Have: 5, Lacks: lacks}); refusal != nil || len(events) > 0 ||
				again.Diverged != 5 {
				t.Errorf("%s, again: %s, %v", c.name, describe(again), refusal)
			}
		}
	}
	_, _, refusal := terms.Take(State{Path: "a.png"}, Request{Who: tamsin, Lacks: lacks[1:]})
	if refusal == nil || !strings.Contains(refusal.Message, "not on your branch") || !strings.Contains(refusal.Message, "deleted it") {
		t.Errorf("%+v", refusal)
	}
}
