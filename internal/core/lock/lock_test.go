package lock

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

var (
	tamsin = Place{"tamsin", "w1", "tamsin-pc: brinelight"}
	laptop = Place{"tamsin", "w2", "tamsin-laptop: brinelight"}
	rurik  = Place{"rurik", "w3", "rurik-pc: brinelight"}
	noon   = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
)

func TestTake(t *testing.T) {
	free := State{Path: "levels/harbour.glb", Newest: 3, Fence: 7}
	mine, r := Take(free, tamsin, 3, false, "rocks", noon)
	if r != nil || mine.Holder != tamsin || mine.Fence != 8 || mine.Since != noon || mine.Note != "rocks" {
		t.Fatalf("taking a free lock: %+v, %v", mine, r)
	}
	for name, c := range map[string]struct {
		state  State
		who    Place
		have   int
		update bool
		reason string
		says   string
	}{
		"again":             {mine, tamsin, 3, false, "", ""},
		"other person":      {mine, rurik, 3, false, "held", `tamsin holds it, taken 3 hours ago in tamsin-pc: brinelight, for "rocks"`},
		"other workspace":   {mine, laptop, 3, false, "held-elsewhere", "tamsin-pc"},
		"old version":       {free, rurik, 2, false, "behind", "version 3 is newer than yours (2)"},
		"not here":          {free, rurik, 0, false, "behind", "not in your workspace"},
		"old, will update":  {free, rurik, 2, true, "", ""},
		"reserved by other": {State{Path: "new.png", Holder: tamsin, Since: noon, Fence: 1}, rurik, 0, false, "held", "tamsin"},
	} {
		after, r := Take(c.state, c.who, c.have, c.update, "", noon.Add(3*time.Hour))
		got := ""
		if r != nil {
			got = r.Reason
			if !strings.Contains(r.Message, c.says) || r.Remedy == "" {
				t.Errorf("%s: message %q, remedy %q", name, r.Message, r.Remedy)
			}
			if after != c.state {
				t.Errorf("%s: a refusal changed the state", name)
			}
		}
		if got != c.reason {
			t.Errorf("%s: reason %q, want %q", name, got, c.reason)
		}
	}
}

func TestAnOverrideFencesOff(t *testing.T) {
	s, _ := Take(State{Path: "a", Newest: 1}, tamsin, 1, false, "", noon)
	old := s.Fence
	if r := MaySend(s, tamsin, old, false, noon); r != nil {
		t.Fatalf("the holder may not send: %v", r)
	}
	s = Override(s)
	if r := MaySend(s, tamsin, old, false, noon); r == nil || r.Reason != "lock-lost" {
		t.Errorf("after an override: %v", r)
	}
	s, _ = Take(s, tamsin, 1, false, "", noon)
	if r := MaySend(s, tamsin, old, false, noon); r == nil || r.Reason != "lock-lost" {
		t.Errorf("after an override and a new grant, the old fence passes: %v", r)
	}
}

func TestAFreeLockIsTakenForASendOnlyOnRequest(t *testing.T) {
	free := State{Path: "a", Newest: 1}
	if r := MaySend(free, tamsin, 0, true, noon); r != nil {
		t.Errorf("on request: %v", r)
	}
	if r := MaySend(free, tamsin, 0, false, noon); r == nil || r.Reason != "not-locked" {
		t.Errorf("without: %v", r)
	}
}

func TestGiveBack(t *testing.T) {
	s, _ := Take(State{Path: "a", Newest: 1}, tamsin, 1, false, "", noon)
	if _, r := GiveBack(s, rurik, noon); r == nil || r.Reason != "held" {
		t.Errorf("another person gives it back: %v", r)
	}
	if _, r := GiveBack(s, laptop, noon); r == nil || r.Reason != "held-elsewhere" {
		t.Errorf("another workspace gives it back: %v", r)
	}
	after, r := GiveBack(s, tamsin, noon)
	if r != nil || !after.Free() || after.Fence <= s.Fence {
		t.Errorf("giving back: %+v, %v", after, r)
	}
}

// However the requests come, the fence never falls, and whoever may send is the one who holds.
func TestRandomWalk(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	places := []Place{tamsin, laptop, rurik}
	fences := map[Place]int64{}
	s := State{Path: "a", Newest: 1}
	for range 20_000 {
		before := s
		who := places[rnd.IntN(3)]
		switch rnd.IntN(4) {
		case 0:
			if next, r := Take(s, who, 1, false, "", noon); r == nil {
				s = next
				fences[who] = s.Fence
			}
		case 1:
			s, _ = GiveBack(s, who, noon)
		case 2:
			s = Override(s)
		case 3:
			if fence, ok := fences[who]; ok && MaySend(s, who, fence, false, noon) == nil && s.Holder != who {
				t.Fatalf("%v may send, and %v holds", who, s.Holder)
			}
		}
		if s.Fence < before.Fence || s.Holder != before.Holder && s.Fence == before.Fence {
			t.Fatalf("the fence went from %d to %d as the holder went from %v to %v", before.Fence, s.Fence, before.Holder, s.Holder)
		}
	}
}
