package contest

import (
	"strings"
	"testing"

	"github.com/anishathalye/porcupine"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
)

// The check has to find what is wrong: two who hold at once, a fence that falls, a send that was let through, an answer that was lost and
// would have had to be carried out.
func TestTheCheckFindsWhatIsWrong(t *testing.T) {
	tamsin, rurik := lock.Place{Handle: "tamsin", WorkspaceID: "tamsin-w"}, lock.Place{Handle: "rurik", WorkspaceID: "rurik-w"}
	c := &Contest{Assets: []string{"a"}}
	op := func(call, end int64, q ask, a answer) porcupine.Operation {
		return porcupine.Operation{Input: q, Call: call, Output: a, Return: end}
	}
	take := func(who lock.Place) ask { return ask{op: "take", who: who, have: 1} }
	send := func(who lock.Place, fence int64) ask { return ask{op: "send", who: who, have: 1, fence: fence} }
	for name, h := range map[string]struct {
		history []porcupine.Operation
		good    bool
	}{
		"one after the other": {[]porcupine.Operation{op(0, 1, take(tamsin), answer{fence: 1}),
			op(2, 3, ask{op: "give back", who: tamsin}, answer{}), op(4, 5, take(rurik), answer{fence: 3})}, true},
		"at once, one wins": {[]porcupine.Operation{op(0, 9, take(tamsin), answer{reason: "held"}), op(0, 9, take(rurik), answer{fence: 1})},
			true},
		"both win": {[]porcupine.Operation{op(0, 9, take(tamsin), answer{fence: 1}), op(0, 9, take(rurik), answer{fence: 2})}, false},
		"refused too early": {[]porcupine.Operation{op(0, 1, take(tamsin), answer{reason: "held"}), op(2, 3, take(rurik), answer{fence: 1})},
			false},
		"a fence twice": {[]porcupine.Operation{op(0, 1, take(tamsin), answer{fence: 1}),
			op(2, 3, ask{op: "override", who: rurik}, answer{}), op(4, 5, take(tamsin), answer{fence: 1})}, false},
		"sent after an override": {[]porcupine.Operation{op(0, 1, take(tamsin), answer{fence: 1}),
			op(2, 3, ask{op: "override", who: rurik}, answer{}), op(4, 5, take(tamsin), answer{fence: 3}),
			op(6, 7, send(tamsin, 1), answer{})}, false},
		"refused after an override": {[]porcupine.Operation{op(0, 1, take(tamsin), answer{fence: 1}),
			op(2, 3, ask{op: "override", who: rurik}, answer{}), op(4, 5, take(tamsin), answer{fence: 3}),
			op(6, 7, send(tamsin, 1), answer{reason: "lock-lost"})}, true},
		"lost, and carried out": {[]porcupine.Operation{op(0, 9, take(tamsin), answer{unknown: true}),
			op(2, 3, take(rurik), answer{reason: "held"})}, true},
		"lost, and not carried out": {[]porcupine.Operation{op(0, 9, take(tamsin), answer{unknown: true}),
			op(2, 3, take(rurik), answer{fence: 1})}, true},
		"two branches, merged": {[]porcupine.Operation{op(0, 1, ask{op: "take", side: 1, who: tamsin, have: 1}, answer{fence: 1}),
			op(2, 3, ask{op: "send", side: 1, who: tamsin, have: 1, fence: 1}, answer{}),
			op(4, 5, take(rurik), answer{reason: "apart"}),
			op(6, 7, ask{op: "merge", who: rurik}, answer{}), op(8, 9, take(rurik), answer{reason: "behind"}),
			op(10, 11, ask{op: "take", who: rurik, have: 2}, answer{fence: 3}),
			op(12, 13, ask{op: "merge", who: rurik}, answer{reason: model.BadRequest})}, true},
		"merged over somebody's lock": {[]porcupine.Operation{op(0, 1, ask{op: "take", side: 1, who: tamsin, have: 1}, answer{fence: 1}),
			op(2, 3, ask{op: "send", side: 1, who: tamsin, have: 1, fence: 1}, answer{}),
			op(4, 5, ask{op: "take", who: tamsin, have: 1, diverge: true}, answer{fence: 3}),
			op(6, 7, ask{op: "merge", who: rurik}, answer{})}, false},
		"lost, and both": {[]porcupine.Operation{op(0, 9, take(tamsin), answer{unknown: true}),
			op(2, 3, take(rurik), answer{reason: "held"}), op(20, 21, take(rurik), answer{fence: 1})}, false},
	} {
		err := c.Check(Result{history: h.history}, 0, 0, "")
		if (err == nil) != h.good {
			t.Errorf("%s: %v", name, err)
		}
		if name == "sent after an override" && err != nil && !strings.Contains(err.Error(), "a, 4 of 4:\n0s to 0s: tamsin tams take(") {
			t.Errorf("it tells %v", err)
		}
	}
}
