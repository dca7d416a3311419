package news

import "kettletarn/internal/core/lock"

// Kinds of event besides those of locks (package lock).
const (
	HandoffSent      = "handoff.sent"
	PastBrought      = "past.brought"
	MilestoneAdded   = "milestone.added"
	MilestoneRemoved = "milestone.removed"
	BranchAdded      = "branch.added"
	BranchDone       = "branch.done"
	BranchClosed     = "branch.closed"
	BranchReopened   = "branch.reopened"
	ReviewOpened     = "review.opened"
	ReviewSaid       = "review.said"
	ReviewSettled    = "review.settled"
	ReviewAnswered   = "review.answered"
	ReviewClosed     = "review.closed"
	RulesAsked       = "rules.asked"
	RulesAnswered    = "rules.answered"
	ShowingAdded     = "showing.added"
	ShowingEnded     = "showing.ended"
	ShowingOpened    = "showing.opened"
	ShowingsSwitched = "showings.switched"
	UnsentChanged    = "unsent.changed"
	PinsTold         = "pins.told"
	WorkspaceAdded   = "workspace.added"
	FalseClaim       = "content.false-claim"
	ProjectStarted   = "project.started"
	ProjectArchived  = "project.archived"
	ProjectBack      = "project.back"
	ProjectDeleted   = "project.deleted"
	ProjectRestored  = "project.restored"
	ProjectImported  = "project.imported"
	ProjectRemoved   = "project.removed"
	ProjectLimit     = "project.limit"
	ProjectFilling   = "project.filling"
	MemberSet        = "member.set"
	MemberRemoved    = "member.removed"
	InvitationMade   = "invitation.made"
	InvitationEnded  = "invitation.ended"
	InvitationUsed   = "invitation.used"
	TokenMade        = "token.made"
	TokenEnded       = "token.ended"
	PersonAdded      = "person.added"
	PersonEnded      = "person.ended"
	PersonPassphrase = "person.passphrase"
	PersonLink       = "person.link"
	PersonSteward    = "person.steward"
	PasskeyAdded     = "passkey.added"
	PasskeyRemoved   = "passkey.removed"
	KitReleased      = "kit.released"
	KitNewer         = "kit.newer"
	HouseTied        = "house.tied"
	HouseUntied      = "house.untied"
	SignedIn         = "signed-in"
	SignedOut        = "signed-out"
	NewsSettings     = "news.settings"
	HookAdded        = "hook.added"
	HookRemoved      = "hook.removed"
)

// Event is a kind of event. Open says that what it tells is for everybody in its project: not so what concerns credentials, where news is
// sent to, and who is let in, which is for leads and for who did it. Telling says that it concerns somebody, so that [Of] gives an item
// with a kind of news.
type Event struct {
	Kind    string
	Open    bool
	Telling bool
}

// Events are all kinds of event. One that is not among them is told to nobody.
var Events = []Event{
	{HandoffSent, true, true}, {PastBrought, true, true},
	{KitReleased, true, true}, {KitNewer, true, true},
	{MilestoneAdded, true, true}, {MilestoneRemoved, true, false},
	{BranchAdded, true, false}, {BranchDone, true, false}, {BranchClosed, true, false}, {BranchReopened, true, false},
	{ReviewOpened, true, true}, {ReviewSaid, true, true}, {ReviewSettled, true, false}, {ReviewAnswered, true, true}, {ReviewClosed, true,
		true},
	{RulesAsked, true, true}, {RulesAnswered, true, true},
	{lock.Taken, true, false}, {lock.Brought, true, false}, {lock.GivenBack, true, false}, {lock.Overridden, true, true},
	{lock.Waits, true, true}, {lock.Left, true, false}, {lock.Offered, true, true}, {lock.PassedOver, true, true},
	{lock.Asked, true, true}, {lock.Given, true, false}, {lock.Skipped, true, true}, {lock.NotYet, true, true},
	{lock.Unanswered, true, true}, {lock.Reminded, true, true},
	{ShowingAdded, true, false}, {ShowingEnded, true, false}, {ShowingOpened, true, false}, {ShowingsSwitched, true, false},
	{UnsentChanged, true, false}, {PinsTold, true, false}, {WorkspaceAdded, true, false}, {FalseClaim, false, false},
	{ProjectStarted, true, false}, {ProjectArchived, true, true}, {ProjectBack, true, true}, {ProjectDeleted, true, true},
	{ProjectRestored, true, true}, {ProjectImported, true, false}, {ProjectRemoved, true, false}, {ProjectLimit, false, false},
	{ProjectFilling, true, true},
	{MemberSet, false, false}, {MemberRemoved, false, false},
	{InvitationMade, false, false}, {InvitationEnded, false, false}, {InvitationUsed, false, false},
	{TokenMade, false, false}, {TokenEnded, false, false},
	{PersonAdded, false, false}, {PersonEnded, false, false}, {PersonPassphrase, false, false}, {PersonLink, false, false},
	{PersonSteward, false, false}, {PasskeyAdded, false, false}, {PasskeyRemoved, false, false},
	{HouseTied, false, false}, {HouseUntied, false, false},
	{SignedIn, false, false}, {SignedOut, false, false},
	{NewsSettings, true, false},
	{HookAdded, false, false}, {HookRemoved, false, false},
}

// Known says whether a kind is among them.
func Known(kind string) bool {
	_, known := events[kind]
	return known
}

var events = func() map[string]Event {
	m := make(map[string]Event, len(Events))
	for _, e := range Events {
		m[e.Kind] = e
	}
	return m
}()

// Telling are the kinds of event that concern somebody.
func Telling() (kinds []string) {
	for _, e := range Events {
		if e.Telling {
			kinds = append(kinds, e.Kind)
		}
	}
	return kinds
}

// Open reports whether what an event of a kind says is for everybody in its project.
func Open(kind string) bool { return events[kind].Open }
