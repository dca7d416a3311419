package desk

import (
	"time"

	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
	"kettletarn/internal/workspace/scan"
	"kettletarn/internal/workspace/watching"
)

// What is said at the local interface. Keys are those of --json and of the service's API; paths are those within the workspace, with
// slashes.

// About is who is at the desk.
type About struct {
	Version string `json:"version"`
	// Edition is that of the local interface: it grows where something is taken away or means something else.
	Edition int    `json:"edition"`
	Machine string `json:"machine"`
	// Service is the address of the service that is signed in to, and Handle as whom; "" where nobody is.
	Service string `json:"service"`
	Handle  string `json:"handle"`
}

// Edition is that of the local interface.
const Edition = 1

// Workspaces are those of this machine, by folder: each without its assets.
type Workspaces struct {
	Workspaces []Standing `json:"workspaces"`
}

// Standing is how a workspace stands.
type Standing struct {
	Workspace string `json:"workspace"`
	Folder    string `json:"folder"`
	// Known says that it was looked at, Online that the service is there, and Trouble why it is not watched.
	Known   bool   `json:"known"`
	Online  bool   `json:"online"`
	Trouble string `json:"trouble,omitempty"`
	// Rules is what is wrong with its rules, if something is.
	Rules string `json:"rules,omitempty"`
	// AutoUpdate says that what is newer comes by itself where nothing clashes.
	AutoUpdate bool `json:"auto_update"`
	workspace.Standing
}

// Changed is what is other in a followed workspace: everything of its standing, of its assets those that are other than before, and the
// paths of those that are not listed any more.
type Changed struct {
	Standing
	Away []string `json:"away"`
}

// Noticed is something that a watch had to say.
type Noticed struct {
	Workspace string `json:"workspace"`
	watching.Notice
}

// Progress is how far long work is: Work is the word that was given with the request, Total and Done bytes, Total 0 where that is not
// known.
type Progress struct {
	Work  string `json:"work"`
	Title string `json:"title"`
	Total int64  `json:"total"`
	Done  int64  `json:"done"`
}

// Nothing is what a method takes, or answers, that needs nothing.
type Nothing struct{}

// In names a workspace.
type In struct {
	Workspace string `json:"workspace"`
}

// Of names assets and folders in a workspace; none for all.
type Of struct {
	In
	Paths []string `json:"paths,omitempty"`
}

// Long is a request that may take its time: with a word for it, progress is told.
type Long struct {
	Work string `json:"work,omitempty"`
}

// Follow asks to be told of a workspace.
type Follow struct {
	In
}

// Begin asks for the newest version and the lock of assets, and opens them in their programs with Open.
type Begin struct {
	Of
	Long
	Note  string `json:"note,omitempty"`
	Set   bool   `json:"set,omitempty"`
	Any   bool   `json:"any,omitempty"`
	Bring bool   `json:"bring,omitempty"`
	Open  bool   `json:"open,omitempty"`
}

// Begun is what came of it.
type Begun struct {
	Locks    []model.Lock    `json:"locks"`
	Brought  []model.Asset   `json:"brought"`
	HeadsUp  []model.HeadsUp `json:"heads_up"`
	Refusals []model.Refusal `json:"refusals"`
	// Opened are the files that were opened.
	Opened []string `json:"opened"`
}

// TakeLocks asks for the locks of assets.
type TakeLocks struct {
	Of
	Note    string `json:"note,omitempty"`
	Wait    bool   `json:"wait,omitempty"`
	Set     bool   `json:"set,omitempty"`
	Any     bool   `json:"any,omitempty"`
	Diverge bool   `json:"diverge,omitempty"`
	Bring   bool   `json:"bring,omitempty"`
	Reserve bool   `json:"reserve,omitempty"`
}

// Locked is what came of it.
type Locked struct {
	Locks    []model.Lock    `json:"locks"`
	Waiting  []model.Waiting `json:"waiting"`
	HeadsUp  []model.HeadsUp `json:"heads_up"`
	Refusals []model.Refusal `json:"refusals"`
}

// Unlock gives locks back, or leaves the line. Edits says what becomes of changes that were not sent: leave or put-away; where there are
// some and it is not said, nothing is done.
type Unlock struct {
	Of
	Edits string `json:"edits,omitempty"`
}

// Unlocked is what came of it.
type Unlocked struct {
	Unlocked []string          `json:"unlocked"`
	Left     []string          `json:"left"`
	Next     map[string]string `json:"next,omitempty"`
}

// AskToLetGo asks the holder of a lock to let go.
type AskToLetGo struct {
	In
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

// AnswerAsk answers those who ask for a lock that one holds: Give, or not yet, with a word and until when.
type AnswerAsk struct {
	In
	Path  string     `json:"path"`
	Give  bool       `json:"give"`
	To    string     `json:"to,omitempty"`
	Word  string     `json:"word,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// Send hands changes off. What is set aside for it goes on in the background, and editing with it.
type Send struct {
	Of
	Long
	model.About
	KeepLocks bool `json:"keep_locks,omitempty"`
	WithGone  bool `json:"with_gone,omitempty"`
	Older     bool `json:"older,omitempty"`
	Set       bool `json:"set,omitempty"`
	// Without says that changed files which the ones to be sent name stay behind, knowingly.
	Without bool `json:"without,omitempty"`
}

// Sending is what came of it: the job, absent where there was nothing to send; or, where nothing was done yet, the changed files that are
// named and would stay behind.
type Sending struct {
	Job   *workspace.UnderWay   `json:"job,omitempty"`
	Apart []workspace.Reference `json:"apart"`
}

// Canceled is what came of taking sends back: Handoffs are those that had arrived already.
type Canceled struct {
	Handoffs []model.Handoff `json:"handoffs"`
}

// Update brings what is newer; with Preview it only says what would come.
type Update struct {
	Of
	Long
	Preview bool `json:"preview,omitempty"`
	Newest  bool `json:"newest,omitempty"`
	To      int  `json:"to,omitempty"`
}

// Settle ends a clash: see workspace.Settle.
type Settle struct {
	In
	Path string `json:"path"`
	Use  string `json:"use"`
}

// LeftOutList are files and whole folders that the rules leave out.
type LeftOutList struct {
	LeftOut []scan.LeftOut `json:"left_out"`
}

// Include makes assets of paths that the rules leave out; the leads see the reason where they are asked.
type Include struct {
	Of
	Reason string `json:"reason,omitempty"`
}

// Kept are files that were put away, the newest first.
type Kept struct {
	PutAway []workspace.PutAway `json:"put_away"`
}

// Restore brings put-away files back, by their names in the list or their paths.
type Restore struct {
	In
	Names []string `json:"names"`
}

// Restored are those that came back.
type Restored struct {
	Restored []workspace.PutAway `json:"restored"`
}

// Scope says which folders come down, none for all.
type Scope struct {
	Scope []string `json:"scope"`
}

// SetScope takes folders in, or out.
type SetScope struct {
	In
	Long
	Add    []string `json:"add,omitempty"`
	Remove []string `json:"remove,omitempty"`
}

// Switch brings the workspace over to a branch.
type Switch struct {
	In
	Long
	Branch string `json:"branch"`
}

// Settings of a workspace at the desk.
type Settings struct {
	In
	// AutoUpdate brings what is newer by itself where nothing clashes.
	AutoUpdate bool `json:"auto_update"`
}

// One names an asset.
type One struct {
	In
	Path string `json:"path"`
}

// Open opens a file in its program. One of a kind that nobody knows might be a program itself: that is refused, but with Anyway.
type Open struct {
	One
	Anyway bool `json:"anyway,omitempty"`
}

// Compared is a file here beside the version that it was made from: Path and Version are those of that one.
type Compared struct {
	Path       string           `json:"path"`
	Version    int              `json:"version"`
	Comparison media.Comparison `json:"comparison"`
}

// SignIn signs in to a service on this machine. Service is its address, or the link of an invitation, by which one joins with that: with
// New as somebody who chooses handle and passphrase only now.
type SignIn struct {
	Service    string `json:"service"`
	New        bool   `json:"new,omitempty"`
	Handle     string `json:"handle"`
	Passphrase string `json:"passphrase"`
	// Plain says that what goes there is not encrypted, and that this is known.
	Plain bool `json:"plain_http,omitempty"`
	// Secret and Every are those of a sign-in elsewhere, in place of handle and passphrase: it is waited for until somebody says yes or no.
	Secret string `json:"secret,omitempty"`
	Every  int    `json:"every,omitempty"`
}

// SignInAt names the service of a sign-in elsewhere, as SignIn does.
type SignInAt struct {
	Service string `json:"service"`
	Plain   bool   `json:"plain_http,omitempty"`
}

// Elsewhere is a sign-in that one says yes to on the page Address of the service, where one types the Code; sign_in takes its Secret and
// Every.
type Elsewhere struct {
	Address string `json:"address"`
	Code    string `json:"code"`
	Secret  string `json:"secret"`
	Every   int    `json:"every"`
}

// InvitationLink is the link of an invitation, as somebody got it.
type InvitationLink struct {
	Link string `json:"link"`
}

// InFolder names a folder of this machine; "" for the person's own.
type InFolder struct {
	Folder string `json:"folder"`
}

// Folders are those in a folder, by name; Up is the one above, "" where there is none. Files counts what else is there.
type Folders struct {
	Folder  string   `json:"folder"`
	Up      string   `json:"up"`
	Folders []string `json:"folders"`
	Files   int      `json:"files"`
	// Workspace is the project of which the folder is a workspace, or lies in one.
	Workspace string `json:"workspace,omitempty"`
}

// Join brings a project down into a folder, which is made; with Here, into one that has the files already, of which none is overwritten.
type Join struct {
	Long
	Project string   `json:"project"`
	Folder  string   `json:"folder"`
	Scope   []string `json:"scope,omitempty"`
	Branch  string   `json:"branch,omitempty"`
	Here    bool     `json:"here,omitempty"`
}

// Joined is what came of it.
type Joined struct {
	Workspace string             `json:"workspace"`
	Brought   int                `json:"brought"`
	Refusals  []model.Refusal    `json:"refusals"`
	Adopted   *workspace.Adopted `json:"adopted,omitempty"`
}

// Start makes a project of a folder. Presets are those of the rules that it gets, where it has none.
type Start struct {
	Long
	Project string   `json:"project"`
	Folder  string   `json:"folder"`
	Presets []string `json:"presets,omitempty"`
	Note    string   `json:"note,omitempty"`
}

// Started is what came of it.
type Started struct {
	Workspace string         `json:"workspace"`
	Handoff   *model.Handoff `json:"handoff,omitempty"`
}

// WouldStart asks what making a project of a folder would track.
type WouldStart struct {
	Folder  string   `json:"folder"`
	Presets []string `json:"presets,omitempty"`
}
