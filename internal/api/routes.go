package api

import (
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"kettletarn/internal/admission"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/sheet"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/service/looking"
	"kettletarn/internal/service/people"
)

// route is one call of the API: what Echo serves and what the OpenAPI document says are both made from it.
type route struct {
	method, path, summary string
	query                 []param
	body, answer          any
	// bodyType and answerType are content types, where they are not JSON. answerType "" with a nil answer is an empty answer.
	bodyType, answerType string
	status               int
	// right is who may call it: see the rights. Every route says so, and it is asked before anything is read.
	right ground.Right
	// shown says that who has the link of a showing may call it, too, under an address of its own: for what that shows.
	shown bool
	// large is for bodies above what is usual: their most bytes. stream and costly are as in admission.Kind.
	large          int64
	stream, costly bool
	handle         func(*Server, *call) error
}

// param is a query parameter, or a header where header is set.
type param struct {
	name, kind, about string
	required, header  bool
	// words are all that it may be, where that is a list.
	words []string
}

var (
	pathParam  = param{name: "path", kind: "string", about: "path of the asset from the root of the project", required: true}
	limitParam = param{name: "limit", kind: "integer", about: "rows at most; up to 5,000"}
	atParam    = param{name: "at", kind: "string", about: "as of this state: a handoff (40, h40), a day or time (2026-03-02, or RFC 3339), " +
		"a milestone or a branch; the newest of the first branch where left out"}
	afterParam = param{name: "after", kind: "string", about: "what the page before has as next"}
	keyParam   = param{name: "Idempotency-Key", kind: "string",
		about: "a UUID that the client wrote down before; the same key again gets the same answer", required: true, header: true}
)

var (
	nameParam  = param{name: "name", kind: "string", about: "the name of the file", required: true}
	sideParams = []param{{name: "path", kind: "string", about: "path of the asset, or of the earlier of two", required: true},
		{name: "a", kind: "integer", about: "its version that is the earlier one; the newest where left out"},
		{name: "with", kind: "string", about: "path of the other asset; the same one where left out"},
		{name: "b", kind: "integer", about: "its version that is the later one; the newest where left out"}}
)

var recordParams = []param{{name: "person", kind: "string", about: "only of this person"},
	{name: "path", kind: "string", about: "only of this asset, or in this folder"},
	{name: "ending", kind: "string", about: "only what ended so; held for what has not", words: lock.EndingWords()},
	{name: "since", kind: "string", about: "only what ended after this day or time (2026-03-02, or RFC 3339)"},
	{name: "until", kind: "string", about: "only what was taken before this day or time"}, skipParam, limitParam}

var usageParams = []param{{name: "days", kind: "integer", about: "over so many days, the present one among them; 30 where left out"}}

var deedParams = []param{{name: "person", kind: "string", about: "only what this person did, or what was done to them"},
	{name: "about", kind: "string", about: "only what is about this", words: news.SubjectWords()},
	{name: "path", kind: "string", about: "only what is about this asset, or something in this folder"},
	{name: "since", kind: "string", about: "only from this day or time on (2026-03-02, or RFC 3339)"},
	{name: "until", kind: "string", about: "only up to this day or time"},
	{name: "before", kind: "integer", about: "only below this entry: what the page before has as next"}, limitParam}

var skipParam = param{name: "skip", kind: "integer", about: "the position at which the page begins; 0 where left out"}

// pageParams are those of lists that are given whole where no limit is.
var pageParams = []param{skipParam, {name: "limit", kind: "integer", about: "rows at most; all of them where left out"}}

// The filters of a listing are for the present; what was is looked through by a part of its path alone.
var folderParams = []param{{name: "path", kind: "string", about: "the folder; the root where left out"}, atParam, skipParam, limitParam,
	{name: "below", kind: "boolean", about: "what lies anywhere below the folder, as with any filter"},
	{name: "search", kind: "string", about: "only with this in the path"},
	{name: "kind", kind: "string", about: "only assets of this kind", words: media.Kinds},
	{name: "author", kind: "string", about: "only what this person changed last"},
	{name: "since", kind: "string", about: "only what was changed last on this day or later (2026-03-02, or RFC 3339)"},
	{name: "until", kind: "string", about: "only what was changed last up to this day or time"},
	{name: "least", kind: "integer", about: "only of so many bytes at least"},
	{name: "most", kind: "integer", about: "only of so many bytes at most"},
	{name: "lock", kind: "string", about: "only what is free, held, waited (for by somebody), or by:HANDLE"},
	{name: "review", kind: "string", about: "only what has a remark that is not settled (remarked), had remarks that all are (settled), is " +
		"in a review that is open, or was agreed to by all who were asked", words: model.ReviewStates},
	{name: "remarked", kind: "boolean", about: "the same as review with remarked, as it was asked for before"},
	{name: "order", kind: "string", about: "in which order; by name where left out", words: model.Orders},
	{name: "down", kind: "boolean", about: "the other way round"}}

var handoffParams = []param{{name: "before", kind: "integer", about: "only below this number"}, skipParam, limitParam,
	{name: "branch", kind: "string", about: "only what was handed off on this branch"},
	{name: "author", kind: "string", about: "only of this person"},
	{name: "path", kind: "string", about: "only what changed this asset, something in this folder, or something that fits this pattern (* " +
		"is part of a name, ** any folders, ? one character)"},
	{name: "kind", kind: "string", about: "only what changed assets of this kind", words: media.Kinds},
	{name: "since", kind: "string", about: "only from this day or time on"},
	{name: "until", kind: "string", about: "only up to this day or time"},
	{name: "task", kind: "string", about: "only with the id of this task"}, {name: "stage", kind: "string", about: "only of this stage"},
	{name: "text", kind: "string", about: "only with this in the note"},
	{name: "assets", kind: "integer", about: "with so many of their assets, at most 12; none where left out"}}

const (
	csvType     = "text/csv"
	binary      = "application/octet-stream"
	png         = "image/png"
	eventStream = "text/event-stream"
)

// routes are all calls: what answers with a list answers with it as a table, too, under the same name and ".csv".
var routes = func() []route {
	all := calls
	for _, r := range calls {
		if r.method == http.MethodGet && r.answer != nil && sheet.Listed(r.answer) &&
			!strings.Contains(r.path[strings.LastIndex(r.path, "/"):], ":") {
			table := r
			table.path, table.summary = r.path+".csv", r.summary+"; as a table (RFC 4180)"
			table.answer, table.answerType = nil, csvType
			all = append(all, table)
		}
		if r.shown {
			outside := r
			outside.path, outside.right = strings.Replace(r.path, "/projects/:project", shownPath, 1), ground.Shown
			outside.summary += "; of what a link shows"
			all = append(all, outside)
		}
	}
	return all
}()

// shownPath is what lies under the link of a showing.
const shownPath = "/shown/:secret"

var calls = []route{
	{method: "GET", path: "/service", right: ground.Anybody, summary: "What runs here", answer: model.ServiceInfo{},
		handle: (*Server).serviceInfo},
	{method: "POST", path: "/sign-in", right: ground.Anybody, large: 4 << 10,
		summary: "Exchange handle and passphrase for a token, or for a cookie where console is set", body: model.SignInRequest{},
		answer: model.SignIn{}, handle: (*Server).signIn},
	{method: "POST", path: "/sign-in/passkey/begin", right: ground.Anybody, large: 4 << 10,
		summary: "What a browser is asked that signs somebody in by a passkey", answer: model.Ceremony{}, handle: (*Server).beginPasskeySignIn},
	{method: "POST", path: "/sign-in/passkey", right: ground.Anybody, large: 64 << 10,
		summary: "Exchange what the browser answered for a token, or for a cookie where console is set", body: model.PasskeySignIn{},
		answer: model.SignIn{}, handle: (*Server).passkeySignIn},
	{method: "POST", path: "/sign-in/house/begin", right: ground.Anybody, large: 4 << 10,
		summary: "Where a browser goes that signs in by the sign-on of the house", answer: model.HouseWay{}, handle: (*Server).houseWay},
	{method: "POST", path: "/sign-in/house", right: ground.Anybody, large: 8 << 10,
		summary: "Exchange what the browser came back with for a token, or for a cookie where console is set; or hear that nobody is tied to it",
		body:    model.HouseAnswer{}, answer: model.HouseSignIn{}, handle: (*Server).houseArrived},
	{method: "POST", path: "/sign-in/house/tie", right: ground.Anybody, large: 4 << 10,
		summary: "Say by a passphrase who one is who arrived, which signs in", body: model.HouseTie{}, answer: model.SignIn{},
		handle: (*Server).houseTie},
	{method: "POST", path: "/sign-in/house/new", right: ground.Anybody, large: 4 << 10,
		summary: "Come in as somebody new who arrived, where the house lets people in", body: model.HouseNew{}, answer: model.SignIn{},
		status: http.StatusCreated, handle: (*Server).houseNew},
	{method: "POST", path: "/sign-in/elsewhere", right: ground.Anybody, large: 4 << 10,
		summary: "Begin a sign-in that somebody says yes to with a browser (after RFC 8628)", body: model.ElsewhereBegin{},
		answer: model.Elsewhere{}, status: http.StatusCreated, handle: (*Server).beginElsewhere},
	{method: "POST", path: "/sign-in/elsewhere/ask", right: ground.Anybody, large: 4 << 10,
		summary: "Ask whether somebody said yes: the sign-in, once, or none yet", body: model.ElsewhereAsk{}, answer: model.ElsewhereAnswer{},
		handle: (*Server).askElsewhere},
	{method: "POST", path: "/forgotten", right: ground.Anybody, large: 4 << 10, body: model.Forgotten{}, status: http.StatusNoContent,
		summary: "Have a link sent by which one chooses another passphrase; it is not told whether there is such a person",
		handle:  (*Server).forgot},
	{method: "POST", path: "/forgotten/look", right: ground.Anybody, large: 4 << 10, summary: "Whose passphrase such a link is for",
		body: model.InvitedLook{}, answer: model.WayInFor{}, handle: (*Server).lookAtWayIn},
	{method: "POST", path: "/forgotten/choose", right: ground.Anybody, large: 4 << 10,
		summary: "Choose a passphrase by such a link, which signs in; all other sign-ins end", body: model.WayInTaken{}, answer: model.SignIn{},
		handle: (*Server).takeWayIn},
	{method: "POST", path: "/invited", right: ground.Anybody, large: 4 << 10, summary: "What an invitation offers, by its secret",
		body: model.InvitedLook{}, answer: model.Invited{}, handle: (*Server).invited},
	{method: "POST", path: "/invited/new", right: ground.Anybody, large: 4 << 10,
		summary: "Join by an invitation as somebody new, who is signed in with that, by a cookie where console is set", body: model.InvitedJoin{},
		answer: model.Joined{}, status: http.StatusCreated, handle: (*Server).joinAsNew},
	{method: "POST", path: "/invited/join", right: ground.Whole, large: 4 << 10, summary: "Join by an invitation as oneself",
		body: model.InvitedLook{}, answer: model.Joined{}, handle: (*Server).joinInvited},
	{method: "POST", path: "/sign-out", right: ground.Person, summary: "End this sign-in", status: http.StatusNoContent,
		handle: (*Server).signOut},
	{method: "GET", path: "/whoami", right: ground.Person, summary: "Who is signed in", answer: model.Person{}, handle: (*Server).whoami},
	{method: "GET", path: "/me/news", right: ground.Whole, summary: "How one hears of news", answer: model.NewsSettings{},
		handle: (*Server).newsSettings},
	{method: "PUT", path: "/me/news", right: ground.Whole, summary: "Change one's mail address, and how one hears of kinds of news",
		body: model.NewsSettings{}, answer: model.NewsSettings{}, handle: (*Server).setNewsSettings},

	{method: "PUT", path: "/me/news/address", right: ground.Whole, summary: "Show with the code of a letter that a mail address is one's own",
		body: model.MailCode{}, answer: model.NewsSettings{}, handle: (*Server).confirmMail},
	{method: "GET", path: "/me/news/latest", right: ground.Person, costly: true,
		summary: "What happened that concerns one, in all one's projects, the newest first", answer: model.News{}, handle: (*Server).latest,
		query: []param{{name: "project", kind: "string", about: "only in this project"},
			{name: "before", kind: "integer", about: "only below this item: what the page before has as next"}, limitParam}},
	{method: "PUT", path: "/me/news/latest", right: ground.Whole, summary: "Note up to which item one has read", body: model.NewsRead{},
		status: http.StatusNoContent, handle: (*Server).readNews},
	{method: "PUT", path: "/me/passphrase", right: ground.Whole, large: 4 << 10, summary: "Change one's passphrase; all other sign-ins end",
		body: model.PassphraseRequest{}, answer: model.PassphraseChanged{}, handle: (*Server).changePassphrase},
	{method: "GET", path: "/me/passkeys", right: ground.Whole, summary: "One's own passkeys", answer: model.Passkeys{},
		handle: (*Server).passkeys},
	{method: "POST", path: "/me/passkeys/begin", right: ground.Whole, large: 4 << 10, summary: "What a browser is asked that makes a passkey",
		body: model.PasskeyBegin{}, answer: model.Ceremony{}, handle: (*Server).beginPasskey},
	{method: "POST", path: "/me/passkeys", right: ground.Whole, large: 64 << 10, summary: "Keep the passkey that the browser made",
		body: model.PasskeyNew{}, answer: model.Passkey{}, status: http.StatusCreated, handle: (*Server).addPasskey},
	{method: "DELETE", path: "/me/passkeys/:passkey", right: ground.Whole, summary: "Take a passkey away", status: http.StatusNoContent,
		handle: (*Server).removePasskey},
	{method: "GET", path: "/me/tokens", right: ground.Whole, summary: "One's own tokens for single projects that still hold",
		answer: model.Tokens{}, handle: (*Server).myTokens},
	{method: "GET", path: "/me/house", right: ground.Whole, summary: "One's own accounts at the sign-on of the house", answer: model.Ties{},
		handle: (*Server).ties},
	{method: "POST", path: "/me/house", right: ground.Whole, large: 4 << 10, summary: "Tie an account of the house to oneself that arrived",
		body: model.HouseTie{}, status: http.StatusNoContent, handle: (*Server).tieMine},
	{method: "DELETE", path: "/me/house/:tie", right: ground.Whole, summary: "Take a tie away", status: http.StatusNoContent,
		handle: (*Server).untie},
	{method: "POST", path: "/me/elsewhere/look", right: ground.Whole, large: 4 << 10, summary: "What waits for a code that one got elsewhere",
		body: model.ElsewhereCode{}, answer: model.ElsewhereFor{}, handle: (*Server).lookElsewhere},
	{method: "POST", path: "/me/elsewhere", right: ground.Whole, large: 4 << 10, summary: "Say yes or no to what waits for a code",
		body: model.ElsewhereCode{}, status: http.StatusNoContent, handle: (*Server).answerElsewhere},
	{method: "PUT", path: "/me/name", right: ground.Whole, summary: "Change how one is called", body: model.NameRequest{},
		answer: model.Person{},
		handle: (*Server).setName},
	{method: "GET", path: "/people", right: ground.ServiceSteward, summary: "Everybody at the service; for stewards", answer: model.People{},
		handle: (*Server).everybody},
	{method: "POST", path: "/people", right: ground.ServiceSteward,
		summary: "Make somebody, who chooses a passphrase by a link, which is told this once; for stewards", body: model.PersonNew{},
		answer: model.WayIn{}, status: http.StatusCreated, handle: (*Server).newPerson},
	{method: "POST", path: "/people/:handle/link", right: ground.ServiceSteward,
		summary: "A link by which somebody chooses another passphrase, which is told this once; for stewards", answer: model.WayIn{},
		status: http.StatusCreated, handle: (*Server).wayIn},
	{method: "PUT", path: "/people/:handle/steward", right: ground.ServiceSteward, summary: "Make somebody a steward, or take that back",
		body: model.StewardRequest{}, status: http.StatusNoContent, handle: (*Server).setSteward},
	{method: "POST", path: "/people/:handle/end", right: ground.ServiceSteward, body: model.Forgotten{}, answer: people.PersonEnded{},
		summary: "Let somebody go, whose handle is named once more; for stewards", handle: (*Server).endPerson},
	{method: "GET", path: "/health", right: ground.ServiceSteward, costly: true, answer: model.Health{}, handle: (*Server).health,
		summary: "How the service is: room, what waits and what fails, what is damaged, settings in force; for stewards"},
	{method: "GET", path: "/collect", right: ground.ServiceSteward, costly: true, answer: model.Collecting{}, handle: (*Server).collecting,
		summary: "What could be freed, and how a collection stands that was begun by a call; for stewards"},
	{method: "POST", path: "/collect", right: ground.ServiceSteward, status: http.StatusNoContent, handle: (*Server).collect,
		summary: "Begin to remove what nothing refers to; it goes on behind the answer; for stewards"},
	{method: "GET", path: "/me/sign-ins", right: ground.Whole, summary: "One's own sign-ins that hold, the one used last first",
		answer: model.SignIns{}, handle: (*Server).signIns},
	{method: "DELETE", path: "/me/sign-ins/:signin", right: ground.Whole,
		summary: "End one of them, or with others all but the one that asks", answer: model.PassphraseChanged{}, handle: (*Server).endSignIn},

	{method: "GET", path: "/projects", right: ground.Person, summary: "The projects that one belongs to; for a steward, all",
		answer: model.Projects{}, handle: (*Server).projects},
	{method: "POST", path: "/projects", right: ground.Whole, summary: "Start a project; one becomes its owner", body: model.StartRequest{},
		answer: model.Project{}, status: http.StatusCreated, handle: (*Server).startProject},
	{method: "POST", path: "/rules/propose", right: ground.Person, large: 16 << 20, body: model.RulesQuestion{}, answer: model.RulesProposed{},
		summary: "Rules for a new project: which presets fit the paths that it will have, and the text that comes of them",
		handle:  (*Server).proposeRules},
	{method: "GET", path: "/projects/:project", right: ground.Viewer, summary: "One project", answer: model.Project{},
		handle: (*Server).project},
	{method: "PUT", path: "/projects/:project/limit", right: ground.Steward,
		summary: "Set the most bytes that a project may take; for stewards", body: model.LimitRequest{}, answer: model.Project{},
		handle: (*Server).setLimit},
	{method: "PUT", path: "/projects/:project/archived", right: ground.Stewards,
		summary: "Make a project one that is only looked at, or bring it back; for owners", body: model.ArchiveRequest{}, answer: model.Project{},
		handle: (*Server).archiveProject},
	{method: "POST", path: "/projects/:project/delete", right: ground.Stewards,
		summary: "Delete a project, whose key is typed once more; for owners, who can bring it back for some days", body: model.DeleteRequest{},
		answer: model.DeletedProject{}, handle: (*Server).deleteProject},
	{method: "POST", path: "/restore", right: ground.Whole, summary: "Bring a deleted project back; for its owners",
		body:   model.DeleteRequest{},
		answer: model.Project{}, handle: (*Server).restoreProject},
	{method: "GET", path: "/projects/:project/usage", right: ground.Viewer, costly: true,
		summary: "What a project takes, day by day, what that is of, when it will be full, and what it costs", answer: model.Usage{},
		query: usageParams, handle: (*Server).usage},
	{method: "GET", path: "/usage", right: ground.ServiceSteward, costly: true, summary: "The same of all projects together; for stewards",
		answer: model.Usage{}, query: usageParams, handle: (*Server).usage},
	{method: "GET", path: "/projects/:project/record", right: ground.Viewer, costly: true,
		summary: "Everything that was done in a project, the latest first; what concerns credentials is for leads", answer: model.Deeds{},
		query: deedParams, handle: (*Server).deeds},
	{method: "GET", path: "/record", right: ground.ServiceSteward, costly: true,
		summary: "Everything that was done at the service, the latest first; for stewards", answer: model.Deeds{}, query: deedParams,
		handle: (*Server).deeds},
	{method: "GET", path: "/projects/:project/members", right: ground.Viewer, summary: "A project's people", answer: model.Members{},
		handle: (*Server).members},
	{method: "PUT", path: "/projects/:project/members/:handle", right: ground.Stewards, summary: "Add a person, or change their role",
		body: model.RoleRequest{}, answer: model.Member{}, handle: (*Server).setMember},
	{method: "GET", path: "/projects/:project/members/:handle/leaving", right: ground.Stewards,
		summary: "What it would touch that a person leaves a project", answer: model.Leaving{}, handle: (*Server).leaving},
	{method: "DELETE", path: "/projects/:project/members/:handle", right: ground.Stewards,
		summary: "Take a person out of a project; their locks are given back", status: http.StatusNoContent, handle: (*Server).removeMember},
	{method: "GET", path: "/projects/:project/membership", right: ground.InPerson,
		summary: "What it would touch that one leaves a project", answer: model.Leaving{}, handle: (*Server).leaving},
	{method: "POST", path: "/projects/:project/leave", right: ground.InPerson, body: model.DeleteRequest{},
		summary: "Leave a project, whose key is named once more; one's locks are given back", status: http.StatusNoContent,
		handle: (*Server).leave},
	{method: "GET", path: "/projects/:project/invitations", right: ground.Stewards, summary: "The invitations, the newest first",
		answer: model.Invitations{}, handle: (*Server).invitations},
	{method: "POST", path: "/projects/:project/invitations", right: ground.Stewards,
		summary: "Make a link by which people join, which is told this once", body: model.InvitationRequest{}, answer: model.Invitation{},
		status: http.StatusCreated, handle: (*Server).addInvitation},
	{method: "DELETE", path: "/projects/:project/invitations/:invitation", right: ground.Stewards, summary: "End an invitation",
		status: http.StatusNoContent, handle: (*Server).endInvitation},
	{method: "GET", path: "/projects/:project/tokens", right: ground.Viewer,
		summary: "The tokens for this project alone that still hold: one's own, and for a lead all", answer: model.Tokens{},
		handle: (*Server).tokens},
	{method: "POST", path: "/projects/:project/tokens", right: ground.InPerson,
		summary: "Make a token for this project alone, for a role at most, which is told this once", body: model.TokenRequest{},
		answer: model.Token{}, status: http.StatusCreated, handle: (*Server).newToken},
	{method: "DELETE", path: "/projects/:project/tokens/:token", right: ground.InPerson, summary: "End such a token",
		status: http.StatusNoContent, handle: (*Server).endToken},
	{method: "GET", path: "/projects/:project/workspaces", right: ground.Viewer, summary: "One's own workspaces", answer: model.Workspaces{},
		handle: (*Server).workspaces},
	{method: "POST", path: "/projects/:project/workspaces", right: ground.Viewer, summary: "Make a workspace", body: model.WorkspaceRequest{},
		answer: model.Workspace{}, status: http.StatusCreated, handle: (*Server).addWorkspace},
	{method: "PUT", path: "/projects/:project/workspaces/:workspace", right: ground.Viewer,
		summary: "Tell where a workspace is, what comes down to it and what it follows, so that it can be made again elsewhere",
		body:    model.WorkspaceTold{}, status: http.StatusNoContent, handle: (*Server).describeWorkspace},

	{method: "GET", path: "/projects/:project/assets", right: ground.Viewer,
		summary: "The assets as of a handoff, or what changed between two", answer: model.Assets{}, handle: (*Server).assets,
		query: []param{{name: "since", kind: "integer", about: "only what changed after this handoff; what is gone is then listed too"}, atParam,
			{name: "branch", kind: "string", about: "the branch whose newest state is meant where at is left out; the first one where left out"},
			{name: "locks", kind: "boolean", about: "also what is held, who has unsent changes, and what content the service lost"},
			{name: "scope", kind: "string", about: "only what lies in this folder, or, with a hyphen before it, not what lies in it; may be " +
				"given more than once"}, afterParam, limitParam}},
	{method: "POST", path: "/projects/:project/assets/at", right: ground.Viewer, large: 16 << 20,
		summary: "What stands at some paths now, or stood there last, with its lock; nothing of a path that nothing ever had",
		body:    model.Paths{}, answer: model.Assets{}, handle: (*Server).assetsAt},
	{method: "GET", path: "/projects/:project/folder", right: ground.Viewer, costly: true,
		summary: "What lies right in one folder, or, with a filter, anywhere below it", answer: model.FolderPage{}, handle: (*Server).folder,
		query: folderParams},
	{method: "GET", path: "/projects/:project/views", right: ground.Viewer,
		summary: "The named filters of assets that one has: the team's and one's own", answer: model.Views{}, handle: (*Server).views},
	{method: "PUT", path: "/projects/:project/views/:view", right: ground.Viewer, body: model.ViewRequest{}, answer: model.View{},
		summary: "Keep what is filtered under a name: for oneself, or, for artists, for the team", handle: (*Server).keepView},
	{method: "DELETE", path: "/projects/:project/views/:view", right: ground.Viewer, status: http.StatusNoContent,
		summary: "Forget it", handle: (*Server).removeView, query: []param{{name: "team", kind: "boolean", about: "the team's, not one's own"}}},
	{method: "GET", path: "/projects/:project/find", right: ground.Viewer, costly: true,
		summary: "What fits words: names, notes, tasks, people, milestones, branches, and what was read of the files; the best first",
		answer:  model.Found{}, handle: (*Server).find, query: []param{{name: "text", kind: "string", about: "the words", required: true},
			{name: "limit", kind: "integer", about: "so many of each at most, up to 100; 20 where left out"}}},
	{method: "GET", path: "/projects/:project/twice", right: ground.Viewer, costly: true,
		summary: "What is there more than once, byte for byte, what takes the most first; with path, what else has its content",
		answer:  model.Twice{}, handle: (*Server).twice, query: []param{{name: "path", kind: "string", about: "the path of an asset"},
			{name: "limit", kind: "integer", about: "so many contents at most, up to 100; 20 where left out"}}},
	{method: "GET", path: "/projects/:project/alike", right: ground.Viewer, costly: true, summary: "What looks or sounds like an asset",
		answer: model.Alike{}, handle: (*Server).alike, query: []param{pathParam,
			{name: "limit", kind: "integer", about: "so many at most, up to 100; 20 where left out"}}},
	{method: "GET", path: "/projects/:project/asset", right: ground.Viewer, summary: "One asset with its versions",
		answer: model.AssetHistory{}, query: append([]param{pathParam, {name: "branch", kind: "string",
			about: "the branch whose asset of this path is meant; the first one where left out"}}, pageParams...), handle: (*Server).asset},
	{method: "GET", path: "/projects/:project/file", right: ground.Viewer, shown: true,
		summary: "The content of a version, whole or in ranges (RFC 9110), as an attachment; its ETag is its digest", answerType: binary,
		handle: (*Server).file,
		query:  []param{pathParam, {name: "version", kind: "integer", about: "the newest where left out"}}},
	{method: "GET", path: "/projects/:project/lines", right: ground.Viewer, shown: true, costly: true,
		summary: "Which version changed each line of a text asset last", answer: model.LineOrigins{},
		query: []param{pathParam, {name: "version", kind: "integer", about: "the newest where left out"}}, handle: (*Server).lines},
	{method: "GET", path: "/projects/:project/archive", right: ground.Viewer, costly: true,
		summary: "The project, a folder or an asset as it was, in one file", answerType: binary, handle: (*Server).archive,
		query: []param{atParam, {name: "path", kind: "string", about: "only this asset, or what lies in this folder"},
			{name: "form", kind: "string", about: "zip or tar; zip where left out"}}},
	{method: "POST", path: "/projects/:project/archive", right: ground.Viewer, costly: true, large: 10 << 20,
		summary:  "The same of many assets and folders, whose paths are in a form: path, as often as there are any, form and at as above",
		bodyType: "application/x-www-form-urlencoded", answerType: binary, handle: (*Server).archive},
	{method: "GET", path: "/projects/:project/between", right: ground.Viewer, costly: true,
		summary: "What is different between two states: by folder, by kind and asset by asset, and who did what", answer: model.Between{},
		handle: (*Server).between,
		query: []param{{name: "from", kind: "string", about: "a state, as at names one", required: true},
			{name: "to", kind: "string", about: "another one; the newest where left out"}, afterParam, limitParam}},
	{method: "GET", path: "/projects/:project/milestones", right: ground.Viewer,
		summary: "The names that handoffs have, the latest handoff first", answer: model.Milestones{}, query: pageParams,
		handle: (*Server).milestones},
	{method: "POST", path: "/projects/:project/milestones", right: ground.Artist, summary: "Name a handoff; the name stays with it",
		body: model.MilestoneRequest{}, answer: model.Milestone{}, status: http.StatusCreated, handle: (*Server).addMilestone},
	{method: "DELETE", path: "/projects/:project/milestones/:milestone", right: ground.Lead, summary: "Take a name away; for leads",
		status: http.StatusNoContent, handle: (*Server).removeMilestone},
	{method: "GET", path: "/projects/:project/branches", right: ground.Viewer,
		summary: "The branches, the first one first and the closed ones last", answer: model.Branches{}, handle: (*Server).branches},
	{method: "POST", path: "/projects/:project/branches", right: ground.Artist, summary: "Make a branch from a state",
		body: model.BranchRequest{}, answer: model.Branch{}, status: http.StatusCreated, handle: (*Server).addBranch},
	{method: "GET", path: "/projects/:project/branches/:branch", right: ground.Viewer, answer: model.Branch{}, handle: (*Server).branch,
		summary: "One branch: how far it is from the one that it came from, what changed on either side, what clashes, who is on it"},
	{method: "GET", path: "/projects/:project/reviews", right: ground.Viewer, summary: "The reviews, the open ones first",
		answer: model.Reviews{},
		handle: (*Server).reviews},
	{method: "POST", path: "/projects/:project/reviews", right: ground.Artist, summary: "Open a review of a branch or of a handoff",
		body: model.ReviewRequest{}, answer: model.Review{}, status: http.StatusCreated, handle: (*Server).openReview},
	{method: "GET", path: "/projects/:project/reviews/:review", right: ground.Viewer, summary: "One review, with what was said",
		answer: model.Review{},
		handle: (*Server).review},
	{method: "GET", path: "/projects/:project/reviews/:review/spots", right: ground.Viewer, costly: true,
		summary: "Where on a version the remarks are that point at its asset, also those that were made on another version",
		query: []param{{name: "path", kind: "string", about: "path of the asset from the root of the project; all that remarks point at where " +
			"left out"}, {name: "version", kind: "integer", about: "the one that the review is about where left out"}},
		answer: model.RemarkSpots{}, handle: (*Server).spots},
	{method: "POST", path: "/projects/:project/reviews/:review/remarks", right: ground.Viewer, body: model.RemarkRequest{},
		answer:  model.Review{},
		summary: "Say something, of the whole or of a spot on an asset", status: http.StatusCreated, handle: (*Server).sayInReview},
	{method: "POST", path: "/projects/:project/reviews/:review/settle", right: ground.Artist, summary: "Settle a remark, or take that back",
		body: model.SettleRequest{}, answer: model.Review{}, handle: (*Server).settleRemark},
	{method: "POST", path: "/projects/:project/reviews/:review/answer", right: ground.Viewer, summary: "Answer yes, or not yet",
		body: model.AnswerRequest{}, answer: model.Review{}, handle: (*Server).answerReview},
	{method: "POST", path: "/projects/:project/reviews/:review/close", right: ground.Artist, summary: "Close a review", answer: model.Review{},
		handle: (*Server).closeReview},
	{method: "POST", path: "/projects/:project/merges", right: ground.Artist, costly: true,
		summary: "Bring a branch into another one, as a handoff with two parents; or, with preview, say what that would do",
		query:   []param{keyParam}, body: model.MergeRequest{}, answer: model.MergeAnswer{}, handle: (*Server).merge},
	{method: "POST", path: "/projects/:project/branches/:branch", right: ground.Artist, body: model.BranchStateRequest{},
		answer:  model.Branch{},
		summary: "Say that a branch is done, live again, or closed", handle: (*Server).setBranchState},
	{method: "GET", path: "/projects/:project/look", right: ground.Viewer, shown: true, costly: true,
		summary: "What a version is: its kind, facts, and what was drawn of it", answer: media.Report{},
		query: []param{pathParam, {name: "version", kind: "integer", about: "the newest where left out"}}, handle: (*Server).look},
	{method: "GET", path: "/projects/:project/look/file", right: ground.Viewer, shown: true, costly: true,
		summary: "What was drawn of a version, by its name in the report", answerType: binary, handle: (*Server).drawing,
		query: []param{pathParam, {name: "version", kind: "integer", about: "the newest where left out"}, nameParam}},
	{method: "GET", path: "/projects/:project/compare", right: ground.Viewer, shown: true, costly: true,
		summary: "What is different between two versions: facts, measures, changes, and what was drawn of that", answer: looking.Compared{},
		query: sideParams, handle: (*Server).compare},
	{method: "GET", path: "/projects/:project/compare/file", right: ground.Viewer, shown: true, costly: true,
		summary: "What was drawn of two versions, by its name in the comparison", answerType: binary,
		query: append(slices.Clone(sideParams), nameParam), handle: (*Server).comparedDrawing},
	{method: "GET", path: "/projects/:project/thumbnail", right: ground.Viewer, shown: true, summary: "A picture of a version, made small",
		answerType: png, handle: (*Server).thumbnail,
		query: []param{pathParam, {name: "version", kind: "integer", about: "the newest where left out"},
			{name: "edge", kind: "integer", about: "96, 320 or 1280 pixels at most each way"}}},

	{method: "GET", path: "/projects/:project/locks", right: ground.Viewer, summary: "What is held or waited for, the longest held first",
		answer: model.Locks{}, handle: (*Server).locks,
		query: append([]param{{name: "path", kind: "string", about: "only of this asset"},
			{name: "only", kind: "string", about: "only one's own, what is waited for, or what looks forgotten", words: locks.OnlyLocks},
			{name: "by", kind: "string", about: "only what this person holds"},
			{name: "each", kind: "integer", about: "so many of each holder at most, besides what concerns the one who asks"}},
			pageParams...)},
	{method: "POST", path: "/projects/:project/locks", right: ground.Artist, large: 64 << 20,
		summary: "Lock all of the assets, or none, or those that can be; or wait in line", body: model.LockRequest{}, answer: model.Locks{},
		handle: (*Server).takeLocks},
	{method: "POST", path: "/projects/:project/locks/release", right: ground.Artist, large: 64 << 20,
		summary: "Unlock all of the assets, or none, or all that one holds under a folder; a lead may take locks away",
		body:    model.UnlockRequest{}, answer: model.Unlocked{}, handle: (*Server).releaseLocks},
	{method: "POST", path: "/projects/:project/locks/leave", right: ground.Artist, large: 64 << 20, summary: "Leave the lines for assets",
		body: model.LeaveRequest{}, status: http.StatusNoContent, handle: (*Server).leaveLines},
	{method: "POST", path: "/projects/:project/locks/ask", right: ground.Artist,
		summary: "Ask the holder of a lock to let go; one waits in line from then on", body: model.AskRequest{}, answer: model.Waiting{},
		handle: (*Server).ask},
	{method: "POST", path: "/projects/:project/locks/answer", right: ground.Artist, summary: "Answer those who ask: give, or not yet",
		body: model.AskAnswer{}, status: http.StatusNoContent, handle: (*Server).answerAsk},
	{method: "GET", path: "/projects/:project/locks/record", right: ground.Viewer, costly: true,
		summary: "Who held what, for how long, and how it ended, the latest taken first", answer: model.Record{}, query: recordParams,
		handle: (*Server).record},
	{method: "GET", path: "/projects/:project/locks/contested", right: ground.Viewer, costly: true,
		summary: "Which assets people waited for longest, week by week", answer: model.ContestedWeeks{}, handle: (*Server).contested,
		query: []param{{name: "weeks", kind: "integer", about: "how many, the present one among them; 12 where left out"}}},

	{method: "GET", path: "/projects/:project/unsent", right: ground.Viewer,
		summary: "Who has changes that were not sent, as their workspaces said last", answer: model.HeadsUps{}, handle: (*Server).unsent},
	{method: "PUT", path: "/projects/:project/workspaces/:workspace/unsent", right: ground.Viewer, large: 64 << 20,
		summary: "Tell which assets have unsent changes in a workspace: all of them, each time", body: model.UnsentChanges{},
		status: http.StatusNoContent, handle: (*Server).setHeadsUps},

	{method: "GET", path: "/projects/:project/rules", right: ground.Viewer,
		summary: "The rules, what each covers, and what people ask of the leads", answer: model.Rules{}, handle: (*Server).rules},
	{method: "POST", path: "/projects/:project/rules/try", right: ground.Viewer, costly: true, large: 1 << 20,
		summary: "What rules say that are not handed off yet, what is wrong with them, and what they would change", body: model.RulesText{},
		answer: model.RulesTried{}, handle: (*Server).tryRules},
	{method: "GET", path: "/projects/:project/rules/test", right: ground.Viewer,
		summary: "What the rules say of a path, and which lines decide", answer: model.RuleTest{}, query: []param{pathParam},
		handle: (*Server).testRules},
	{method: "POST", path: "/projects/:project/rules/requests", right: ground.Artist, summary: "Ask the leads that a path be an asset",
		body: model.RuleRequestNew{}, answer: model.RuleRequest{}, status: http.StatusCreated, handle: (*Server).askForRule},
	{method: "POST", path: "/projects/:project/rules/requests/:request/answer", right: ground.Lead,
		summary: "Accept such a request, which sends the rules with one more exception, or decline it; for leads", body: model.RuleAnswer{},
		status: http.StatusNoContent, handle: (*Server).answerRuleRequest},

	{method: "POST", path: "/projects/:project/chunks/missing", right: ground.Artist, large: 1 << 20,
		summary: "Which of these chunks and manifest nodes the project lacks; the others stay for 14 days at least", body: model.Digests{},
		answer: model.Digests{}, handle: (*Server).missingChunks},
	{method: "POST", path: "/projects/:project/chunks", right: ground.Artist, large: maxUpload,
		summary: "Bring chunks and manifest nodes: a CBOR sequence of [kind, digest, codec, size, data]", bodyType: model.CBORSequence,
		answer: model.Stored{}, status: http.StatusCreated, handle: (*Server).storeChunks},
	{method: "POST", path: "/projects/:project/chunks/fetch", right: ground.Viewer, large: 1 << 20,
		summary: "Get chunks and manifest nodes: a CBOR sequence as above, in the order asked for", body: model.Digests{},
		answerType: model.CBORSequence, handle: (*Server).fetchChunks},
	{method: "POST", path: "/projects/:project/chunks/suspect", right: ground.Viewer, large: 1 << 20,
		summary: "Look at chunks that could not be read as they came; answers with those that are damaged, which are asked back from now on",
		body:    model.Digests{}, answer: model.Digests{}, handle: (*Server).suspect},
	{method: "GET", path: "/projects/:project/wanted", right: ground.Artist,
		summary: "Content that the service lost: whoever has it brings it like any other", answer: model.Digests{}, handle: (*Server).wanted},

	{method: "POST", path: "/projects/:project/sends/check", right: ground.Artist, large: 64 << 20,
		summary: "What would be refused of a send, before its content goes, and what the project lacks of it", body: model.SendQuestion{},
		answer: model.SendCheck{}, handle: (*Server).checkSend},
	{method: "POST", path: "/projects/:project/sends/:send/close", right: ground.Viewer,
		summary: "What became of a send: its handoff, or nothing now and later", answer: model.SendClosed{}, handle: (*Server).closeSend},
	{method: "POST", path: "/projects/:project/handoffs", right: ground.Artist, large: 64 << 20,
		summary: "Send: all of it or nothing. As a CBOR sequence, the request is its first item, a text string of JSON, and content may follow",
		query:   []param{keyParam}, body: model.SendRequest{}, bodyType: model.CBORSequence, answer: model.SendReceipt{},
		status: http.StatusCreated, handle: (*Server).send},
	{method: "GET", path: "/projects/:project/handoffs", right: ground.Viewer, costly: true,
		summary: "Handoffs, the newest first, without their assets", answer: model.Handoffs{}, handle: (*Server).handoffs,
		query: handoffParams},
	{method: "GET", path: "/projects/:project/handoffs/:number", right: ground.Viewer,
		summary: "One handoff with its assets, by its number, or as the state that at would name", answer: model.Handoff{},
		query:  pageParams,
		handle: (*Server).handoff},
	{method: "POST", path: "/projects/:project/rollback", right: ground.Artist, large: 64 << 20,
		summary: "Bring an old state back as a new handoff: a version of an asset, assets and folders or all as they were, or all but one " +
			"handoff; with preview, say what that would do", query: []param{keyParam}, body: model.RollbackRequest{}, answer: model.RollbackAnswer{},
		status: http.StatusCreated, handle: (*Server).rollback},
	{method: "POST", path: "/projects/:project/drop", right: ground.Artist, large: 1 << 42,
		summary: "Send one whole file, for senders that can't cut it", bodyType: binary, answer: model.SendReceipt{},
		status: http.StatusCreated, handle: (*Server).drop,
		query: []param{keyParam, pathParam, {name: "base", kind: "integer", about: "the version it was made from, 0 for a new asset",
			required: true}, {name: "note", kind: "string", about: "what was done, and why", required: true},
			{name: "keep_lock", kind: "boolean", about: "do not give the lock back"},
			{name: "older", kind: "boolean", about: "going back to the content of an older version is meant"}}},

	{method: "GET", path: "/projects/:project/pins", right: ground.Viewer,
		summary: "The commits of the main history that pin handoffs, the latest first, as workspaces told", answer: model.PinnedCommits{},
		handle: (*Server).pins,
		query:  []param{{name: "handoff", kind: "integer", about: "only those that pin this one"}}},
	{method: "POST", path: "/projects/:project/pins", right: ground.Artist, large: 16 << 20,
		summary: "Tell which commits pin which handoffs; what is of another history is left out", body: model.PinnedCommits{},
		answer: model.PinnedCommits{}, handle: (*Server).tellPins},
	{method: "GET", path: "/projects/:project/past", right: ground.Viewer, summary: "How far a git history was brought in",
		answer: model.Past{}, handle: (*Server).past,
		query: []param{{name: "branch", kind: "string", about: "onto this branch; the first where left out"}}},
	{method: "POST", path: "/projects/:project/past/known", right: ground.Viewer, large: 64 << 10,
		summary: "Which of some commits handoffs stand for", body: model.PastKnown{}, answer: model.PastReceipt{}, handle: (*Server).pastKnown},
	{method: "POST", path: "/projects/:project/past", right: ground.Lead, large: 64 << 20, costly: true,
		summary: "Bring commits of a git history in as handoffs, in their order, all or none; for leads", body: model.PastRequest{},
		answer: model.PastReceipt{}, status: http.StatusCreated, handle: (*Server).bringPast},

	{method: "GET", path: "/projects/:project/kits", right: ground.Viewer, costly: true,
		summary: "The kits that a project makes, and those that it uses", answer: model.Kits{}, handle: (*Server).kits,
		query: []param{{name: "branch", kind: "string", about: "uses on this branch; on the first where left out"}}},
	{method: "POST", path: "/projects/:project/kits", right: ground.Lead, large: 16 << 10, costly: true,
		summary: "Release a kit under its next number; for leads", body: model.KitReleaseRequest{}, answer: model.KitRelease{},
		status: http.StatusCreated, handle: (*Server).releaseKit},
	{method: "GET", path: "/projects/:project/kits/:kit", right: ground.Viewer, costly: true,
		summary: "The uses of a kit, in all projects that one may look at", answer: model.KitUsers{}, handle: (*Server).kitUsers},
	{method: "GET", path: "/projects/:project/kits/:kit/:number", right: ground.Viewer, costly: true,
		summary: "A release of a kit (newest for the latest), and what is different in it", answer: model.KitState{}, handle: (*Server).kitState,
		query: []param{{name: "since", kind: "integer", about: "beside this release; beside the one before where left out"}}},
	{method: "POST", path: "/projects/:project/uses", right: ground.Artist, large: 32 << 10, costly: true,
		summary: "Use a kit, bring a use to another release, or detach it, as a handoff; or say what that would do", body: model.KitRequest{},
		answer: model.KitAnswer{}, query: []param{keyParam}, handle: (*Server).changeKit},
	{method: "POST", path: "/projects/:project/uses/offer", right: ground.Viewer, large: 128 << 10, costly: true,
		summary: "Put what was changed in a use to the project that made the kit, as a branch there with a review; takes an artist there",
		body:    model.KitOfferRequest{}, answer: model.KitOffer{}, status: http.StatusCreated, query: []param{keyParam},
		handle: (*Server).offerKit},
	{method: "GET", path: "/projects/:project/showings", right: ground.Viewer,
		summary: "The links by which people outside look at something of a project, the newest first", answer: model.Showings{},
		query:  pageParams,
		handle: (*Server).showings},
	{method: "POST", path: "/projects/:project/showings", right: ground.Artist, body: model.ShowingRequest{}, answer: model.Showing{},
		summary: "Make a link by which somebody outside looks at a version, a comparison or a state without an account; it is told this once",
		status:  http.StatusCreated, handle: (*Server).addShowing},
	{method: "PUT", path: "/projects/:project/showings", right: ground.Lead, body: model.ShowingsOff{}, answer: model.Showings{},
		summary: "Switch all that a project shows outside off, or on again", handle: (*Server).switchShowings},
	{method: "DELETE", path: "/projects/:project/showings/:showing", right: ground.Viewer, status: http.StatusNoContent,
		summary: "End such a link: one's own, or, for a lead, anybody's", handle: (*Server).endShowing},
	{method: "GET", path: shownPath, right: ground.Shown, summary: "What a link shows", answer: model.Exhibit{}, handle: (*Server).exhibit},
	{method: "GET", path: shownPath + "/assets", right: ground.Shown, costly: true,
		summary: "The assets of the state that a link shows, in the order of their paths", answer: model.ExhibitPage{},
		handle: (*Server).exhibits,
		query:  []param{afterParam, {name: "search", kind: "string", about: "only with this in the path"}, limitParam}},

	{method: "GET", path: "/projects/:project/hooks", right: ground.Lead, summary: "Where a project's news is sent to; for leads",
		answer: model.Hooks{}, handle: (*Server).hooks},
	{method: "POST", path: "/projects/:project/hooks", right: ground.Lead,
		summary: "Send a project's news of some kinds to an address (Standard Webhooks); the secret is told this once; for leads",
		body:    model.HookRequest{}, answer: model.Hook{}, status: http.StatusCreated, handle: (*Server).addHook},
	{method: "DELETE", path: "/projects/:project/hooks/:hook", right: ground.Lead, summary: "Stop that; for leads",
		status: http.StatusNoContent, handle: (*Server).removeHook},

	{method: "GET", path: "/projects/:project/news", right: ground.Viewer, stream: true,
		summary: "Events as they happen (server-sent events); resumes behind Last-Event-ID", answerType: eventStream, handle: (*Server).news,
		query: []param{{name: "Last-Event-ID", kind: "string", about: "the last event that was seen", header: true},
			{name: "after", kind: "string", about: "the same, for what can't set the header: or the news of a project's answer"}}},
}

// kind is what the admission layer has to know of a route.
func (r *route) kind() admission.Kind {
	k := admission.Kind{Stream: r.stream, Costly: r.costly || r.large > admission.SmallBody && r.bodyType == "", Body: usualBody}
	switch {
	case r.large > 0:
		k.Body = r.large
	case r.body == nil && r.bodyType == "":
		k.Body = 0
	}
	return k
}

// usualBody is the most bytes of a body where a route does not say otherwise.
const usualBody = 256 << 10

// register serves the routes. Each request passes admission (size, time, number), then its route's right, and only then is anything of it
// parsed.
func (s *Server) register(g *echo.Group) {
	for _, r := range routes {
		kind := r.kind()
		g.Add(r.method, r.path, func(c *echo.Context) error {
			k := &call{Context: c, route: &r, address: admission.Address(c.Request())}
			if err := admission.Body(c.Response(), c.Request(), kind); err != nil {
				return err
			}
			if r.right == ground.Anybody {
				leave, err := s.gate.Open(k.address)
				if err != nil {
					return err
				}
				defer leave()
				return r.handle(s, k)
			}
			if err := s.authenticate(k); err != nil {
				return err
			}
			leave, err := s.gate.Person(c.Request().Context(), k.whose(), kind)
			if err != nil {
				return err
			}
			defer leave()
			return r.handle(s, k)
		})
	}
}
