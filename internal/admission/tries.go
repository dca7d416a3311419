package admission

import (
	"net/netip"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
)

// Guessing is made slow, not impossible: the first few wrong tries cost nothing, then each doubles the time until the next one is looked
// at. An address is counted for all handles, and a handle for all addresses, the latter far more patiently: nobody is to be locked out by
// strangers.
const (
	freeTries       = 5
	freeHandleTries = 50
	longestWait     = 15 * time.Minute
	longestHandle   = 10 * time.Second
	// forgiven is after which time without a wrong try all is forgotten.
	forgiven = time.Hour
	// strayTries is how many requests with a credential that is none an address has in a minute.
	strayTries = 120
)

// spell is a run of wrong tries.
type spell struct {
	wrong int
	last  time.Time
	next  time.Time
	now   int // tries that are being looked at
}

func (s *spell) failed(now time.Time, free int, longest time.Duration) {
	if s.wrong++; s.wrong >= free {
		s.next = now.Add(min(time.Second<<min(s.wrong-free, 20), longest))
	}
	s.last = now
}

// tries counts sign-ins. Safe for concurrent use.
type tries struct {
	mu      sync.Mutex
	address *lru.Cache[netip.Addr, *spell]
	handle  *lru.Cache[string, *spell]
}

// signInsAtOnce is how many sign-ins of one address are looked at at once: each takes memory and time on purpose.
const signInsAtOnce = 4

func newTries() *tries {
	address, err := lru.New[netip.Addr, *spell](remembered)
	if err != nil {
		panic(err) // only for a size below 1
	}
	handle, err := lru.New[string, *spell](remembered)
	if err != nil {
		panic(err)
	}
	return &tries{address: address, handle: handle}
}

// SignIn admits a try to sign in. done says what came of it: wrong for a wrong handle or passphrase, right for a right one; neither where
// it was not looked at.
func (g *Gate) SignIn(address netip.Addr, handle string) (done func(right, wrong bool), err error) {
	return g.tries.enter(time.Now(), address, handle)
}

func (t *tries) enter(now time.Time, address netip.Addr, handle string) (done func(right, wrong bool), err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	a, h := of(t.address, address, now), of(t.handle, handle, now)
	wait := max(a.next.Sub(now), h.next.Sub(now))
	if wait > 0 {
		return nil, tooMany(wait, "too many wrong tries; the next one is looked at in %s", wait.Round(time.Second)+time.Second)
	}
	if a.now >= signInsAtOnce {
		return nil, tooMany(2*time.Second, "too many sign-ins come from your address at once")
	}
	a.now++
	return func(right, wrong bool) {
		t.mu.Lock()
		defer t.mu.Unlock()
		a.now--
		switch {
		case right:
			// The address stays as it is: somebody who has one passphrase may be guessing another.
			h.wrong, h.next = 0, time.Time{}
			if a.wrong < freeTries {
				a.wrong = 0
			}
		case wrong:
			now := time.Now()
			a.failed(now, freeTries, longestWait)
			h.failed(now, freeHandleTries, longestHandle)
		}
	}, nil
}

func of[K comparable](c *lru.Cache[K, *spell], key K, now time.Time) *spell {
	s, ok := c.Get(key)
	if !ok || now.Sub(s.last) > forgiven && s.now == 0 {
		s = &spell{last: now}
		c.Add(key, s)
	}
	return s
}

// Stray counts a credential that is none, and refuses an address that keeps bringing them.
func (g *Gate) Stray(address netip.Addr) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := time.Now()
	s, ok := g.refused.Get(address)
	if !ok || now.Sub(s.last) > time.Minute {
		s = &spell{last: now}
		g.refused.Add(address, s)
	}
	if s.wrong++; s.wrong > strayTries {
		return tooMany(s.last.Add(time.Minute).Sub(now)+time.Second, "too many requests with a sign-in that is none come from your address")
	}
	return nil
}
