package model

// Ways out of a refusal that a page offers as a button.
const (
	WayWait    = "wait"    // stand in line for the lock
	WayAsk     = "ask"     // ask its holder to let go
	WayBring   = "bring"   // bring one's lock over from another workspace
	WayDiverge = "diverge" // go on from what one has, knowingly
	WayBranch  = "branch"  // look at the branches
	WayLock    = "lock"    // take the lock
	WayOlder   = "older"   // send an older content again, knowingly
	WayAgain   = "again"   // look again at what is there now
)

// WaysOut are, by the reason of a refusal, what a page offers, and what it says in place of the remedy, which may name commands. What is
// not among them has a remedy that says the same everywhere.
var WaysOut = []struct {
	Reason string
	Page   string
	Ways   []string
}{
	{"held", "wait in line, or ask them to let go", []string{WayWait, WayAsk}},
	{"offered", "wait in line", []string{WayWait}},
	{"held-elsewhere", "send or give it back there, or bring the lock here", []string{WayBring}},
	{"free", "it can be taken now", []string{WayLock, WayAgain}},
	{"nobody-waits", "look again", []string{WayAgain}},
	{"nobody-asked", "look again", []string{WayAgain}},
	{"not-locked", "lock it first, then send", []string{WayLock}},
	{"lock-lost", "look at what came since; what you have stays with you, and can be sent as a file of its own", []string{WayLock, WayAgain}},
	{"behind", "look at the newest version first, then make yours of that one", []string{WayAgain}},
	{"apart", "bring that branch in first, or go on from this version knowingly", []string{WayBranch, WayDiverge}},
	{"moved-on", "look at what came since, then choose again", []string{WayAgain}},
	{"edited", "have them send it or put it away first", nil},
	{OlderVersion, "if going back is meant, send it all the same", []string{WayOlder}},
	{"role", "ask a lead", nil},
	{"rules-broken", "mend the rules, then send again", nil},
	{"branch", "hand it off on a branch of your own, which comes in by a merge", []string{WayBranch}},
	{"unknown", "check the spelling", []string{WayAgain}},
	{"changing", "wait until it is written, then send it again", nil},
	{"not-an-asset", "the rules say which files belong here", nil},
	{"move", "leave it where it is", []string{WayAgain}},
	{"undecided", "decide what is to become of it", nil},
	{"sending", "wait until it has arrived", nil},
	{"large", "split it, or ask a lead to change the rules", nil},
}
