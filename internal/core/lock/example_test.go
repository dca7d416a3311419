package lock_test

import (
	"fmt"
	"time"

	"kettletarn/internal/core/lock"
)

func ExampleTerms_Take() {
	terms := lock.Terms{Now: time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC), OfferFor: time.Hour}
	odile, rurik := lock.Place{Handle: "odile", WorkspaceID: "1"}, lock.Place{Handle: "rurik", WorkspaceID: "2"}
	s := lock.State{Path: "levels/harbour.glb", Newest: 3}

	s, _, refusal := terms.Take(s, lock.Request{Who: odile, Have: 2})
	fmt.Println(refusal.Reason)
	s, _, _ = terms.Take(s, lock.Request{Who: odile, Have: 3})
	fmt.Println(s.Holder.Handle, s.Fence)
	s, events, _ := terms.Take(s, lock.Request{Who: rurik, Have: 3, Wait: true})
	fmt.Println(events[0].Kind, s.InLine("rurik"))
	s, events, _ = terms.GiveBack(s, odile)
	to, until := s.OfferedTo()
	fmt.Println(events[1].Kind, to, until.Format("15:04"))
	// Output:
	// behind
	// odile 1
	// lock.waits 1
	// lock.offered rurik 10:00
}
