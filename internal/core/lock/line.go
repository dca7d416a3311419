package lock

import (
	"slices"
	"time"

	"kettletarn/internal/core/model"
)

// Tick does what time does: an offer lapses, an ask stays unanswered for too long. Every request begins with it.
func (t Terms) Tick(s State) (State, []Event) {
	var events []Event
	if _, until := s.OfferedTo(); !until.IsZero() && !t.Now.Before(until) {
		s, events = t.pass(s)
	}
	for i, a := range s.Asks {
		if !a.Late && t.AnswerWithin > 0 && t.Now.Sub(a.At) >= t.AnswerWithin {
			s.Asks = slices.Clone(s.Asks)
			s.Asks[i].Late = true
			events = append(events, Event{Kind: Unanswered, Person: a.From, Other: s.Holder.Handle, Word: a.Reason})
		}
	}
	return s, events
}

// offer offers a lock that came free just now to the first in line.
func (t Terms) offer(s State) (State, []Event) {
	s.Line = slices.Clone(s.Line)
	for i := range s.Line {
		s.Line[i].Passed, s.Line[i].Until = false, time.Time{}
	}
	return t.next(s)
}

// next offers it to the first in line who has had no offer since it came free, and puts them first. Where all have, anybody may take it.
func (t Terms) next(s State) (State, []Event) {
	at := slices.IndexFunc(s.Line, func(w Waiter) bool { return !w.Passed })
	if at < 0 {
		return s, nil
	}
	w := s.Line[at]
	w.Until = t.Now.Add(t.OfferFor)
	s.Line = slices.Insert(slices.Delete(slices.Clone(s.Line), at, at+1), 0, w)
	return s, []Event{{Kind: Offered, Person: w.Handle, Until: w.Until}}
}

// pass takes the offer to the next. The one who is passed over stays second.
func (t Terms) pass(s State) (State, []Event) {
	s.Line = slices.Clone(s.Line)
	s.Line[0].Passed, s.Line[0].Until = true, time.Time{}
	events := []Event{{Kind: PassedOver, Person: s.Line[0].Handle}}
	s, more := t.next(s)
	return s, append(events, more...)
}

func (t Terms) join(s State, who Place, note string) (State, []Event) {
	if s.InLine(who.Handle) > 0 {
		return s, nil
	}
	s.Line = append(slices.Clone(s.Line), Waiter{Place: who, Since: t.Now, Note: note})
	ahead := s.Holder.Handle
	if s.Free() {
		ahead, _ = s.OfferedTo()
	}
	return s, []Event{{Kind: Waits, Person: who.Handle, Other: ahead, Word: note}}
}

// Leave takes a person out of the line, and what they asked with them; an offer to them goes to the next. Leaving a line that one is not
// in changes nothing.
func (t Terms) Leave(s State, handle string) (State, []Event) {
	s, events := t.Tick(s)
	at := s.InLine(handle) - 1
	if at < 0 {
		return s, events
	}
	offered, _ := s.OfferedTo()
	s.Line = slices.Delete(slices.Clone(s.Line), at, at+1)
	s.Asks = slices.DeleteFunc(slices.Clone(s.Asks), func(a Ask) bool { return a.From == handle })
	events = append(events, Event{Kind: Left, Person: handle})
	if offered != handle {
		return s, events
	}
	s, more := t.next(s)
	return s, append(events, more...)
}

// Ask asks the holder to let go. Whoever asks waits in line from then on. The same words again change nothing.
func (t Terms) Ask(s State, who Place, reason string) (State, []Event, *model.Refusal) {
	s, events := t.Tick(s)
	offered, until := s.OfferedTo()
	switch {
	case s.Free() && offered != "" && offered != who.Handle:
		return s, events, refuse(s, "offered", "tarn lock --wait PATH puts you in line", "nobody holds it; it is offered to %s until %s", offered,
			clock(until, t.Now))
	case s.Free():
		return s, events, refuse(s, "free", "take it with tarn lock or tarn begin", "nobody holds it")
	case s.Holder.Handle == who.Handle:
		return s, events, refuse(s, "yours", "nothing needs doing", "you hold it yourself, in %s", s.Holder.Workspace)
	}
	for _, a := range s.Asks {
		if a.From == who.Handle && a.Reason == reason {
			return s, events, nil
		}
		if a.From == who.Handle {
			return s, events, refuse(s, "asked", "wait for their answer, or talk to them; a lead can take it away",
				"you asked %s %s, and there is no answer yet", s.Holder.Handle, ago(a.At, t.Now))
		}
	}
	s, more := t.join(s, who, reason)
	s.Asks = append(slices.Clone(s.Asks), Ask{From: who.Handle, Reason: reason, At: t.Now})
	events = append(append(events, more...), Event{Kind: Asked, Person: who.Handle, Other: s.Holder.Handle, Word: reason})
	return s, events, nil
}

// Give frees the lock for the first in line, or for to, where the holder names one who waits. It may come from any workspace of the holder.
func (t Terms) Give(s State, who, to string) (State, []Event, *model.Refusal) {
	s, events := t.Tick(s)
	if r := t.mine(s, who); r != nil {
		return s, events, r
	}
	if len(s.Line) == 0 {
		return s, events, refuse(s, "nobody-waits", "tarn unlock gives it back", "nobody asks or waits for it")
	}
	given := []Event{{Kind: Given, Person: who, Other: s.Line[0].Handle}}
	if to != "" {
		at := s.InLine(to) - 1
		if at < 0 {
			return s, events, refuse(s, "nobody-waits", "see tarn holders "+s.Path, "%s does not wait for it", to)
		}
		given[0].Other = to
		for _, w := range s.Line[:at] {
			given = append(given, Event{Kind: Skipped, Person: w.Handle, Other: to})
		}
		w := s.Line[at]
		s.Line = slices.Insert(slices.Delete(slices.Clone(s.Line), at, at+1), 0, w)
	}
	s, more := t.offer(freed(s))
	return s, append(append(events, given...), more...), nil
}

// NotYet answers the open asks, or that of to: with a word why, and until when (zero for not said).
func (t Terms) NotYet(s State, who, to, word string, until time.Time) (State, []Event, *model.Refusal) {
	s, events := t.Tick(s)
	if r := t.mine(s, who); r != nil {
		return s, events, r
	}
	var left []Ask
	found := false
	for _, a := range s.Asks {
		if to != "" && a.From != to {
			left = append(left, a)
			continue
		}
		found = true
		events = append(events, Event{Kind: NotYet, Person: who, Other: a.From, Word: word, Until: until})
	}
	if !found {
		return s, events, refuse(s, "nobody-asked", "see tarn holders --mine", "nobody waits for an answer")
	}
	s.Asks = left
	return s, events, nil
}

func (t Terms) mine(s State, who string) *model.Refusal {
	switch {
	case s.Free():
		return refuse(s, "free", "nothing needs doing", "nobody holds it any more")
	case s.Holder.Handle != who:
		r := t.taken(s, who)
		r.Remedy = "only the holder answers"
		return r
	}
	return nil
}
