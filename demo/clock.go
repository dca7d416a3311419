package main

import (
	"errors"
	"iter"
	"time"
)

// The six weeks of the scenario are six weeks: while it is played, the database goes by a clock that is put back, and what happens
// happens so long ago. Afterwards it goes by the real one.

const (
	day    = 24 * time.Hour
	hour   = time.Hour
	minute = time.Minute
)

// errOver ends an act that is not played to its end.
var errOver = errors.New("the play is over")

// acts plays several at once: the one goes on whose next step is the longest ago, so that the clock only goes forward.
func (s *stage) acts(list ...func(*stage)) {
	type act struct {
		next func() (time.Duration, bool)
		ago  time.Duration
	}
	var on []*act
	for _, play := range list {
		own := *s
		next, stop := iter.Pull(func(yield func(time.Duration) bool) {
			defer func() {
				if v := recover(); v != nil && v != errOver { //nolint:errorlint // it is what at panics with, not wrapped
					panic(v)
				}
			}()
			own.wait = yield
			play(&own)
		})
		defer stop()
		a := &act{next: next}
		if a.ago, _ = next(); a.ago > 0 {
			on = append(on, a)
		}
	}
	for len(on) > 0 {
		turn := 0
		for i, a := range on {
			if a.ago > on[turn].ago {
				turn = i
			}
		}
		check(s.clock(on[turn].ago))
		ago, more := on[turn].next()
		if on[turn].ago = ago; !more {
			on = append(on[:turn], on[turn+1:]...)
		}
	}
}

// at says when what follows happens, so long ago, and how much passes after each handoff, 0 where left out.
func (s *stage) at(ago time.Duration, gap ...time.Duration) {
	s.ago, s.gap = ago, 0
	if len(gap) > 0 {
		s.gap = gap[0]
	}
	if !s.wait(ago) {
		panic(errOver)
	}
}

// goOn lets what passes after a handoff pass.
func (s *stage) goOn() {
	if s.gap > 0 {
		s.at(s.ago-s.gap, s.gap)
	}
}

// now is what the clock says.
func (s *stage) now() time.Time { return time.Now().Add(-s.ago) }
