// Package model holds the things that people talk about (project, asset, version, handoff, lock …) in the one form in which the
// service answers with them, the API carries them and the client prints them with --json. Sizes are bytes, times RFC 3339 in UTC,
// digests 64 hex digits of BLAKE3-256. It has no behaviour beyond that of plain data.
package model

import (
	"regexp"
	"time"

	"kettletarn/internal/core/rules"
)

// Roles in a project, each including the ones before it.
const (
	Viewer = "viewer"
	Artist = "artist"
	Lead   = "lead"
	Owner  = "owner"
)

var ranks = map[string]int{Viewer: 1, Artist: 2, Lead: 3, Owner: 4}

// ValidRole reports whether role is one of the four.
func ValidRole(role string) bool { return ranks[role] > 0 }

// AtLeast reports whether role includes wanted.
func AtLeast(role, wanted string) bool { return ranks[role] >= ranks[wanted] && ranks[role] > 0 }

var keys = regexp.MustCompile(`^[a-z][a-z0-9-]{1,39}$`)

// ValidKey reports whether a project may have a key: 2 to 40 small letters, digits and dashes, a letter first.
func ValidKey(key string) bool { return keys.MatchString(key) }

// States of an asset in a workspace.
const (
	Same    = "same"
	New     = "new"
	Edited  = "edited"
	Gone    = "gone"
	Behind  = "behind"
	Clash   = "clash"
	Ignored = "ignored"
	Code    = "code"
	Outside = "outside"
)

// Kinds of workspace: a folder on somebody's machine, or the console.
const (
	KindFolder  = "folder"
	KindConsole = "console"
)

// Person is somebody who can sign in.
type Person struct {
	Handle  string `json:"handle"`
	Steward bool   `json:"steward"`
	// Name is how they are called besides, "" where they did not say.
	Name string `json:"name,omitempty"`
}

// PersonRow is a person as whoever runs the service sees them. Seen is when one of their sign-ins was last used; Ended when they were let
// go.
type PersonRow struct {
	Handle    string     `json:"handle"`
	Steward   bool       `json:"steward"`
	Made      time.Time  `json:"made"`
	Ended     *time.Time `json:"ended,omitempty"`
	MaySignIn bool       `json:"may_sign_in"`
	Projects  int        `json:"projects"`
	SignIns   int        `json:"sign_ins"`
	Seen      *time.Time `json:"seen,omitempty"`
}

// SignedIn is one of a person's sign-ins: from where, since when and until when, when it was last used, and whether it is the one that
// asks.
type SignedIn struct {
	ID      int64      `json:"id"`
	From    string     `json:"from"`
	Made    time.Time  `json:"made"`
	Expires time.Time  `json:"expires"`
	Used    *time.Time `json:"used,omitempty"`
	Here    bool       `json:"here"`
}

// NewsItem is one thing that happened and concerns a person. Text says it to them.
type NewsItem struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Project string    `json:"project"`
	Kind    string    `json:"kind"`
	Text    string    `json:"text"`
	Person  string    `json:"person,omitempty"`
	Paths   []string  `json:"paths,omitempty"`
	Handoff int       `json:"handoff,omitempty"`
	Unread  bool      `json:"unread"`
}

// Token is a credential for one project, for a machine that works by itself. Role is the most that it may do; Token is told once, when it
// is made.
type Token struct {
	ID      int64     `json:"id"`
	Project string    `json:"project,omitempty"`
	Person  string    `json:"person"`
	Label   string    `json:"label"`
	Role    string    `json:"role"`
	Made    time.Time `json:"made"`
	Expires time.Time `json:"expires"`
	Token   string    `json:"token,omitempty"`
}

// PinnedCommit is a commit of the main history that moved the pin to a handoff.
type PinnedCommit struct {
	Commit  string    `json:"commit"`
	Author  string    `json:"author"`
	Subject string    `json:"subject"`
	At      time.Time `json:"at"`
	Handoff int       `json:"handoff"`
	Digest  string    `json:"digest,omitempty"`
}

// SignIn is the answer to a sign-in. The token is shown once; a console's sign-in has a cookie in its place.
type SignIn struct {
	Handle  string    `json:"handle"`
	Steward bool      `json:"steward"`
	Token   string    `json:"token,omitempty"`
	Expires time.Time `json:"expires"`
}

// Project is a set of assets with one history and one set of people. Size is that of the newest versions; Stored is what all of it
// takes at the service, of at most Limit where one is set.
type Project struct {
	Key      string     `json:"key"`
	Role     string     `json:"role"`
	Assets   int        `json:"assets"`
	Size     int64      `json:"size"`
	Stored   int64      `json:"stored"`
	Limit    int64      `json:"storage_limit,omitempty"`
	Handoffs int        `json:"handoffs"`
	Members  int        `json:"members"`
	Locks    int        `json:"locks"`
	Latest   *time.Time `json:"latest,omitempty"`
	// TaskLinks say where the ids of tasks lead, as the rules have it.
	TaskLinks []rules.TaskLink `json:"task_links,omitempty"`
	// News, where one project was asked for, is where its news is resumed so that nothing is missed that this answer does not know of.
	News string `json:"news,omitempty"`
	// Archived is since when it is only looked at.
	Archived *time.Time `json:"archived,omitempty"`
}

// Member is a person's part in a project.
type Member struct {
	Handle string `json:"handle"`
	Role   string `json:"role"`
	// Name is how they are called besides, "" where they did not say.
	Name string `json:"name,omitempty"`
	// ByGroup says that a group of the house has this role, and nobody let them in by name.
	ByGroup bool `json:"by_group,omitempty"`
}

// Workspace is one person's copy of a project on one machine, or their seat at the console. What comes behind Seen is as the workspace said
// when it was Told: where it is, what comes down to it, and what it follows (a handoff; the newest where left out). Locks and Unsent count
// what is held in it, and what was changed there and not sent.
type Workspace struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Kind    string     `json:"kind"`
	Owner   string     `json:"owner"`
	Project string     `json:"project"`
	Seen    time.Time  `json:"seen"`
	Machine string     `json:"machine,omitempty"`
	Folder  string     `json:"folder,omitempty"`
	Branch  string     `json:"branch,omitempty"`
	Scope   []string   `json:"scope,omitempty"`
	Follows int        `json:"follows,omitempty"`
	Pinned  bool       `json:"pinned,omitempty"`
	Told    *time.Time `json:"told,omitempty"`
	Locks   int        `json:"locks,omitempty"`
	Unsent  int        `json:"unsent,omitempty"`
}

// Milestone is a name for a handoff that stays: who gave it, when, and why. HandedOff is when the handoff was made.
type Milestone struct {
	Name      string    `json:"name"`
	Handoff   int       `json:"handoff"`
	Digest    string    `json:"digest"`
	HandedOff time.Time `json:"handed_off"`
	Note      string    `json:"note,omitempty"`
	Person    string    `json:"person"`
	At        time.Time `json:"at"`
}

// Worked is what one person did between two handoffs: how many handoffs, and how many versions of assets in them.
type Worked struct {
	Person   string    `json:"person"`
	Handoffs int       `json:"handoffs"`
	Versions int       `json:"versions"`
	First    time.Time `json:"first"`
	Last     time.Time `json:"last"`
}

// Tally counts what changed between two states in one folder, or of one kind of asset. Size is in bytes: of all that changed, before and
// after.
type Tally struct {
	Name       string `json:"name"`
	New        int    `json:"new"`
	Edited     int    `json:"edited"`
	Moved      int    `json:"moved"`
	Gone       int    `json:"gone"`
	SizeBefore int64  `json:"size_before"`
	Size       int64  `json:"size"`
}

// LineOrigin is one line of a text asset, and the version that changed it last. Line counts from 1.
type LineOrigin struct {
	Line    int       `json:"line"`
	Text    string    `json:"text"`
	Version int       `json:"version"`
	Handoff int       `json:"handoff"`
	Author  string    `json:"author"`
	At      time.Time `json:"at"`
	Note    string    `json:"note"`
}

// Lock is the right to send new versions of an asset. Fence grows with every change of holder, and a send has to present it. Holder is ""
// where nobody has it and somebody waits; the first of the waitlist may then have it offered. Diverged is the version that the holder
// works from, where they took the lock knowingly though a newer one was there. Heard is when the holder's workspace was last heard of,
// Unsent that it has changes that were not sent; a lock that has neither for long looks Forgotten.
type Lock struct {
	Path        string     `json:"path"`
	Holder      string     `json:"holder"`
	Workspace   string     `json:"workspace"`
	WorkspaceID string     `json:"workspace_id"`
	Since       time.Time  `json:"since"`
	Note        string     `json:"note"`
	Fence       int64      `json:"fence"`
	Diverged    int        `json:"diverged,omitempty"`
	Heard       *time.Time `json:"heard,omitempty"`
	Unsent      bool       `json:"unsent,omitempty"`
	Forgotten   bool       `json:"forgotten,omitempty"`
	// Version is the newest one of the first branch, in lists; 0 for a name that is kept for something to come.
	Version  int      `json:"version,omitempty"`
	Waitlist []Waiter `json:"waitlist"`
	Asks     []Ask    `json:"asks,omitempty"`
}

// Waiter is somebody who waits for a lock. OfferedUntil is there while it is offered to them.
type Waiter struct {
	Handle       string     `json:"handle"`
	Workspace    string     `json:"workspace"`
	WorkspaceID  string     `json:"workspace_id"`
	Since        time.Time  `json:"since"`
	Note         string     `json:"note,omitempty"`
	OfferedUntil *time.Time `json:"offered_until,omitempty"`
}

// Ask is somebody's request to a lock's holder to let go. Answer is "" while it is open, and else not-yet; Word and Until are the holder's.
// Unanswered says that it is open for longer than the rules have it.
type Ask struct {
	Person     string     `json:"person"`
	Reason     string     `json:"reason"`
	At         time.Time  `json:"at"`
	Unanswered bool       `json:"unanswered,omitempty"`
	Answer     string     `json:"answer,omitempty"`
	Answered   *time.Time `json:"answered,omitempty"`
	Word       string     `json:"word,omitempty"`
	Until      *time.Time `json:"until,omitempty"`
}

// Waiting says that somebody waits for a lock, at which place of the line, and who has it.
type Waiting struct {
	Path   string `json:"path"`
	Place  int    `json:"place"`
	Holder string `json:"holder"`
}

// Hold is one entry of the record: who held what, from when to when (absent while they do), and how it ended: given-back, sent, given,
// overridden, brought (to another of their workspaces) or removed (from the project). EndedBy and Word are there where somebody else ended
// it.
type Hold struct {
	Path      string     `json:"path"`
	Person    string     `json:"person"`
	Workspace string     `json:"workspace"`
	Note      string     `json:"note,omitempty"`
	Taken     time.Time  `json:"taken"`
	Ended     *time.Time `json:"ended,omitempty"`
	Seconds   int64      `json:"seconds"`
	Ending    string     `json:"ending,omitempty"`
	EndedBy   string     `json:"ended_by,omitempty"`
	Word      string     `json:"word,omitempty"`
	Handoff   int        `json:"handoff,omitempty"`
}

// Contested says how much people waited for one asset in one week, which begins on the Monday Week (2006-01-02).
type Contested struct {
	Path    string `json:"path"`
	Week    string `json:"week"`
	Waits   int    `json:"waits"`
	People  int    `json:"people"`
	Seconds int64  `json:"seconds"`
}

// HeadsUp says that somebody has changes to an asset that they have not sent, in one of their workspaces.
type HeadsUp struct {
	Path        string    `json:"path"`
	Handle      string    `json:"handle"`
	Workspace   string    `json:"workspace"`
	WorkspaceID string    `json:"workspace_id"`
	State       string    `json:"state"`
	Size        int64     `json:"size"`
	Since       time.Time `json:"since"`
}

// Asset is one tracked file. The service fills what it knows; state and version (the one here) are a workspace's own. Content names
// what is in it, by the root of its manifest; Digest is the BLAKE3 of all its bytes, absent until the service has read it through.
// MovedFrom is the path that a workspace, or a handoff, moved it from; MovedTo, of a path that is gone, where its asset went.
type Asset struct {
	Path string `json:"path"`
	// ID stays the same wherever it is moved; it is told with what is different between two states.
	ID         int64      `json:"id,omitempty"`
	State      string     `json:"state,omitempty"`
	Version    int        `json:"version,omitempty"`
	Newest     int        `json:"newest"`
	Size       int64      `json:"size"`
	Content    string     `json:"content,omitempty"`
	Digest     string     `json:"digest,omitempty"`
	Executable bool       `json:"executable,omitempty"`
	Gone       bool       `json:"gone,omitempty"`
	Holder     string     `json:"holder,omitempty"`
	Lock       *Lock      `json:"lock,omitempty"`
	Author     string     `json:"author,omitempty"`
	At         *time.Time `json:"at,omitempty"`
	Handoff    int        `json:"handoff,omitempty"`
	Note       string     `json:"note,omitempty"`
	MovedFrom  string     `json:"moved_from,omitempty"`
	MovedTo    string     `json:"moved_to,omitempty"`
	Waiting    []Waiter   `json:"waiting,omitempty"`
	HeadsUp    []HeadsUp  `json:"heads_up,omitempty"`
	Sending    int        `json:"sending_percent,omitempty"`
	// Changed is when a file with changes that were not sent was last written.
	Changed *time.Time `json:"changed,omitempty"`
}

// About is what people say of a handoff.
type About struct {
	// Note says what was done, and why: 1 to 65,536 bytes, in one line or several.
	Note string `json:"note"`
	// Tasks are ids of what was worked on, in the order in which they were given: 50 at most, of 60 bytes at most each.
	Tasks []string `json:"tasks"`
	// Stage is a word of the team's for how far the work is, 40 bytes at most; "" where nothing is said.
	Stage string `json:"stage,omitempty"`
}

// Version is one content of an asset.
type Version struct {
	Version int `json:"version"`
	// Branch is the one that it was sent on; Parents are the versions of the asset that it was made from.
	Branch  string    `json:"branch"`
	Parents []int     `json:"parents"`
	Path    string    `json:"path"`
	Handoff int       `json:"handoff"`
	Author  string    `json:"author"`
	At      time.Time `json:"at"`
	About
	Size       int64  `json:"size"`
	Content    string `json:"content,omitempty"`
	Digest     string `json:"digest,omitempty"`
	Executable bool   `json:"executable,omitempty"`
	Gone       bool   `json:"gone,omitempty"`
}

// FirstBranch is the name of the branch that each project begins with.
const FirstBranch = "main"

// Handoff is the unit of change. Root names the state that it leads to; Digest covers that, the parent, and all that is said here. Commit
// is that of the git history that it was brought in from; its Author may be a name then that is no person's here.
type Handoff struct {
	Number int       `json:"number"`
	Branch string    `json:"branch"`
	Author string    `json:"author"`
	At     time.Time `json:"at"`
	About
	Commit string `json:"commit,omitempty"`
	// Milestones are the names that it has.
	Milestones []string `json:"milestones,omitempty"`
	// Parents are the handoffs that it was made on: none for the first of a project, one, or two where one branch came into another.
	Parents []int          `json:"parents"`
	Root    string         `json:"root"`
	Digest  string         `json:"digest"`
	Count   int            `json:"count"`
	Size    int64          `json:"size"`
	Assets  []HandoffAsset `json:"assets"`
}

// HandoffAsset is what a handoff did to one asset. Change is new, edited, moved or gone; Before is the version it followed, 0 for none.
// MovedFrom is the path that the asset had before, where that was another one; SizeBefore what it had then.
type HandoffAsset struct {
	Path    string `json:"path"`
	Change  string `json:"change"`
	Version int    `json:"version"`
	Before  int    `json:"before"`
	Size    int64  `json:"size"`

	SizeBefore int64  `json:"size_before,omitempty"`
	Content    string `json:"content,omitempty"`
	Digest     string `json:"digest,omitempty"`

	MovedFrom string `json:"moved_from,omitempty"`
	// Now is the path by which the asset is known at present, where it was moved since.
	Now string `json:"now,omitempty"`
}

// RuleRequest is somebody's wish that a path which the rules leave out be an asset, and the answer of a lead.
type RuleRequest struct {
	ID         int64      `json:"id"`
	Path       string     `json:"path"`
	Person     string     `json:"person"`
	Reason     string     `json:"reason"`
	At         time.Time  `json:"at"`
	Answered   *time.Time `json:"answered,omitempty"`
	Accepted   bool       `json:"accepted,omitempty"`
	AnsweredBy string     `json:"answered_by,omitempty"`
	Word       string     `json:"word,omitempty"`
}

// RuleLine is one rule of a project, with where it stands and what it covers: the assets about whose kind or lock it decides.
type RuleLine struct {
	Match  []string `json:"match"`
	Kind   string   `json:"kind,omitempty"`
	Lock   string   `json:"lock,omitempty"`
	In     string   `json:"in"`
	Line   int      `json:"line,omitempty"`
	Assets int      `json:"assets"`
	Size   int64    `json:"size"`
}

// BranchLine is a rule about branches: Says is what it asks for, in words.
type BranchLine struct {
	Match []string `json:"match"`
	Says  string   `json:"says"`
	In    string   `json:"in"`
	Line  int      `json:"line,omitempty"`
}

// BranchLines are the rules about branches, in their order.
func BranchLines(r *rules.Rules) []BranchLine {
	out := make([]BranchLine, len(r.Branches))
	for i, b := range r.Branches {
		out[i] = BranchLine{Match: b.Match, Says: b.Says(), In: b.Origin.In, Line: b.Origin.Line}
	}
	return out
}

// Rules are those of a project. Version is that of tarn.toml, 0 where there is none. Uncovered counts the assets that no rule covers.
type Rules struct {
	Text      string        `json:"text"`
	Version   int           `json:"version"`
	Presets   []string      `json:"presets"`
	Otherwise string        `json:"otherwise"`
	PointOut  int64         `json:"point_out"`
	ReadOnly  bool          `json:"read_only"`
	Rules     []RuleLine    `json:"rules"`
	Branches  []BranchLine  `json:"branches"`
	Uncovered int           `json:"uncovered"`
	Requests  []RuleRequest `json:"requests"`
}

// RuleTest is what the rules say of a path, and which lines decide. Asset says that there is an asset of that path.
type RuleTest struct {
	Path   string `json:"path"`
	Kind   string `json:"kind"`
	KindBy string `json:"kind_by"`
	Lock   string `json:"lock"`
	LockBy string `json:"lock_by"`
	Asset  bool   `json:"asset"`
}

// Folder is one folder inside another, with what lies below it.
type Folder struct {
	Name   string `json:"name"`
	Assets int    `json:"assets"`
	Size   int64  `json:"size"`
}

// NewsKind is a kind of news, and how a person wants to hear of it: by mail at-once, daily or never, and on the desktop.
type NewsKind struct {
	Name    string `json:"name"`
	About   string `json:"about"`
	Mail    string `json:"mail"`
	Desktop bool   `json:"desktop"`
}

// NewsSettings is where and how a person hears of news. MailWorks says that the service can send mail.
type NewsSettings struct {
	Mail      string     `json:"mail"`
	MailWorks bool       `json:"mail_works"`
	Kinds     []NewsKind `json:"kinds"`
	// MailWanted is an address that letters go to once the code that was sent there has come back.
	MailWanted string `json:"mail_wanted,omitempty"`
}

// Hook is an address that gets a project's news of some kinds, signed with Secret, which is told once, when it is made. Delivered is when
// that last worked, Trouble why it did not, Waiting how much is still to go.
type Hook struct {
	ID        int64      `json:"id"`
	URL       string     `json:"url"`
	Kinds     []string   `json:"kinds"`
	Person    string     `json:"person"`
	Made      time.Time  `json:"made"`
	Secret    string     `json:"secret,omitempty"`
	Delivered *time.Time `json:"delivered,omitempty"`
	Trouble   string     `json:"trouble,omitempty"`
	Waiting   int        `json:"waiting"`
}

// Event is one entry of the record of everything that was done.
type Event struct {
	ID      string         `json:"id"`
	At      time.Time      `json:"at"`
	Person  string         `json:"person"`
	Kind    string         `json:"kind"`
	Subject map[string]any `json:"subject"`
	// News is the kind of news that it is to the one who reads, "" where it does not concern them, and Text tells it, where there is
	// anything to tell.
	News string `json:"news,omitempty"`
	Text string `json:"text,omitempty"`
}
