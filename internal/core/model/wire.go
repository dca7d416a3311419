package model

import (
	"time"

	"kettletarn/internal/core/chunk"
)

// The bodies of requests and answers of the API, beside the things above. docs/protocol.md tells which belongs where.

// SignInRequest asks for a token, or, for a console, for a cookie.
type SignInRequest struct {
	Handle     string `json:"handle"`
	Passphrase string `json:"passphrase"`
	From       string `json:"from"`
	Console    bool   `json:"console,omitempty"`
}

// Projects, Members, Workspaces and Handoffs are lists under their noun.
type Projects struct {
	Projects []Project `json:"projects"`
	// Deleted are those that were deleted, and can be brought back for a while.
	Deleted []DeletedProject `json:"deleted"`
}

type Members struct {
	Members []Member `json:"members"`
}

type Workspaces struct {
	Workspaces []Workspace `json:"workspaces"`
}

type Handoffs struct {
	Handoffs []Handoff `json:"handoffs"`
	// Total is how many fit in all.
	Total int `json:"total"`
}

// TokenRequest makes a token for a project, which holds for so many days.
type TokenRequest struct {
	Role  string `json:"role"`
	Days  int    `json:"days"`
	Label string `json:"label"`
}

// Tokens are those of a project that still hold.
type Tokens struct {
	Tokens []Token `json:"tokens"`
}

// PinnedCommits are commits that moved the pin, the latest first.
type PinnedCommits struct {
	Commits []PinnedCommit `json:"commits"`
}

// PastCommit is a commit of a git history to be brought in as a handoff. At absent stands for now, and Name and Mail that are empty for
// the one who brings it. Its changes have no base and no fence.
type PastCommit struct {
	Commit  string       `json:"commit"`
	Name    string       `json:"name"`
	Mail    string       `json:"mail"`
	At      *time.Time   `json:"at,omitempty"`
	Note    string       `json:"note"`
	Changes []SendChange `json:"changes"`
}

// PastRequest brings commits in, in their order, onto a branch; the workspace's where it is left out. Over says that what was handed off
// here since gives way: it stays as a version before.
type PastRequest struct {
	Workspace string       `json:"workspace"`
	Branch    string       `json:"branch,omitempty"`
	Over      bool         `json:"over,omitempty"`
	Commits   []PastCommit `json:"commits"`
}

// PastKnown asks which of some commits handoffs stand for.
type PastKnown struct {
	Commits []string `json:"commits"`
}

// PastHandoff is what came of a commit; Handoff is 0 where it changed nothing.
type PastHandoff struct {
	Commit  string `json:"commit"`
	Handoff int    `json:"handoff,omitempty"`
	Author  string `json:"author"`
	Known   bool   `json:"known_person"`
}

// PastReceipt is what came of commits.
type PastReceipt struct {
	Handoffs []PastHandoff `json:"handoffs"`
}

// Past is how far a git history was brought in, onto a branch: the commit of the newest handoff that stands for one, and that handoff; 0
// for none.
type Past struct {
	Commit  string `json:"commit,omitempty"`
	Handoff int    `json:"handoff,omitempty"`
}

// StartRequest names the project to make.
type StartRequest struct {
	Key string `json:"key"`
}

// RoleRequest gives a person a role.
type RoleRequest struct {
	Role string `json:"role"`
}

// WorkspaceRequest names the workspace to make.
type WorkspaceRequest struct {
	Name string `json:"name"`
}

// ChangesQuery asks what is different between handoffs Since and At (0 for before the first, and for the newest), within a scope. Locks
// asks for what is held and who has unsent changes, too.
type ChangesQuery struct {
	Since int
	At    string
	// Branch is the one whose newest state is meant where At is "", the first one where it is left out.
	Branch string
	Scope  []string
	Locks  bool
}

// Assets is one page of assets as of handoff At; where Next is there, another page follows behind it. Newest is the newest handoff of the
// branch that was asked about. The first page has, where it is asked for, the locks of the project, who has unsent changes, the digests of
// content that the service lost, and the uses of kits that are behind.
type Assets struct {
	At     int     `json:"at"`
	Newest int     `json:"newest"`
	Next   string  `json:"next,omitempty"`
	Assets []Asset `json:"assets"`
	Locks  []Lock  `json:"locks,omitempty"`
	// HeadsUps are all that the service knows of, the oldest first.
	HeadsUps []HeadsUp      `json:"heads_up,omitempty"`
	Wanted   []chunk.Digest `json:"wanted,omitempty"`
	// KitsBehind are those on the branch that follow the latest release and do not have it.
	KitsBehind []KitUse `json:"kits_behind,omitempty"`
}

// UnsentChanges tells the service which assets have unsent changes in a workspace: all of them, each time.
type UnsentChanges struct {
	Changes []UnsentChange `json:"changes"`
}

// UnsentChange is one of them.
type UnsentChange struct {
	Path  string    `json:"path"`
	State string    `json:"state"`
	Size  int64     `json:"size"`
	Since time.Time `json:"since"`
}

// RuleRequestNew asks the leads that a path be an asset; RuleAnswer is theirs.
type RuleRequestNew struct {
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

type RuleAnswer struct {
	Accept bool   `json:"accept"`
	Word   string `json:"word,omitempty"`
}

// HeadsUps is the answer to who has unsent changes.
type HeadsUps struct {
	HeadsUps []HeadsUp `json:"heads_up"`
}

// FolderPage is a page of what lies right in one folder, or below it, as of a handoff. Total is how many assets there are on all pages, and
// where More is set there are more than that; the folders in it are on the first.
type FolderPage struct {
	At      int      `json:"at"`
	Total   int      `json:"total"`
	More    bool     `json:"more,omitempty"`
	Folders []Folder `json:"folders"`
	Assets  []Asset  `json:"assets"`
}

// The orders in which assets are listed.
const (
	ByName    = "name"
	BySize    = "size"
	ByVersion = "version"
	ByDate    = "date"
	ByPerson  = "person"
)

// Orders are the orders in which assets are listed, the first being that of who says nothing.
var Orders = []string{ByName, BySize, ByVersion, ByDate, ByPerson}

// How an asset may stand in reviews: it has a remark that is not settled, in a review that is open; it had remarks, and all are settled;
// what changed it last, or a branch that changes it, is in a review that is open; what made its version was looked at, and all who were
// asked said yes to it.
const (
	ReviewRemarked = "remarked"
	ReviewSettled  = "settled"
	ReviewOpen     = "open"
	ReviewAgreed   = "agreed"
)

// ReviewStates are all of them.
var ReviewStates = []string{ReviewRemarked, ReviewSettled, ReviewOpen, ReviewAgreed}

// LimitRequest sets the most bytes that a project may take at the service, 0 for no limit.
type LimitRequest struct {
	StorageLimit int64 `json:"storage_limit"`
}

// AssetHistory is one asset with a page of its versions, the newest first, of Total.
type AssetHistory struct {
	Asset    Asset     `json:"asset"`
	Versions []Version `json:"versions"`
	Total    int       `json:"total"`
}

// LockWant is one asset to lock and the version that the workspace has (0 for none).
type LockWant struct {
	Path    string `json:"path"`
	Version int    `json:"version"`
}

// LockRequest locks all or none, but with Any those that can be. WillUpdate says that the newest versions are fetched next, Diverge that
// the person goes on from an older one knowingly. Wait joins the line where somebody else has the lock; Bring moves one's own lock here
// from another workspace; Reserve keeps paths for assets that come later.
type LockRequest struct {
	Workspace string `json:"workspace"`
	// Branch is the one that the workspace is on; where it is left out, the one that it was last said to be on.
	Branch     string     `json:"branch,omitempty"`
	Assets     []LockWant `json:"assets"`
	Note       string     `json:"note,omitempty"`
	WillUpdate bool       `json:"will_update,omitempty"`
	Any        bool       `json:"any,omitempty"`
	Wait       bool       `json:"wait,omitempty"`
	Diverge    bool       `json:"diverge,omitempty"`
	Bring      bool       `json:"bring,omitempty"`
	Reserve    bool       `json:"reserve,omitempty"`
}

// Locks is the answer to it: the locks that one has, the lines that one waits in, what was refused of Any, and the assets of which there is
// news (a newer version, somebody's unsent changes, a line). It is the list of what is held in a project, too.
type Locks struct {
	Locks    []Lock    `json:"locks"`
	Waiting  []Waiting `json:"waiting,omitempty"`
	Refusals []Refusal `json:"refusals,omitempty"`
	Assets   []Asset   `json:"assets,omitempty"`
	// Tally is how many there are of each kind of lock that one may ask for, where a list was asked for.
	Tally *LockTally `json:"tally,omitempty"`
}

// LockTally counts what is held or waited for.
type LockTally struct {
	All       int `json:"all"`
	Mine      int `json:"mine"`
	Waited    int `json:"waited"`
	Forgotten int `json:"forgotten"`
	// People are those who hold something, by handle, and how much each.
	People []Holding `json:"people"`
}

// Holding is how many locks somebody has.
type Holding struct {
	Handle string `json:"handle"`
	Held   int    `json:"held"`
}

// LeaveRequest takes one out of the lines for assets.
type LeaveRequest struct {
	Paths []string `json:"paths"`
}

// AskRequest asks the holder of a lock to let go.
type AskRequest struct {
	Workspace string `json:"workspace"`
	Path      string `json:"path"`
	Reason    string `json:"reason"`
}

// AskAnswer is the holder's answer: with Give, to the first in line or to To; else not yet, to all who ask or to To, with a word, and
// until when.
type AskAnswer struct {
	Path  string     `json:"path"`
	Give  bool       `json:"give,omitempty"`
	To    string     `json:"to,omitempty"`
	Word  string     `json:"word,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// Record is who held what, the latest taken first.
type Record struct {
	Holds []Hold `json:"holds"`
	Total int    `json:"total"`
}

// ContestedWeeks is what people waited for, by asset and week.
type ContestedWeeks struct {
	Contested []Contested `json:"contested"`
}

// UnlockRequest gives locks back, or, with Override, takes them away.
type UnlockRequest struct {
	Workspace string   `json:"workspace"`
	Paths     []string `json:"paths"`
	// Under are folders, assets and patterns (doublestar): beside Paths, all that the workspace holds or waits for there is given back and
	// left; with Override, all that is locked there. "" is the whole project.
	Under    []string `json:"under,omitempty"`
	Override bool     `json:"override,omitempty"`
	Reason   string   `json:"reason,omitempty"`
}

// Unlocked is what came of it: what was freed, of what was under something also who waits for it next, by path, and the lines that were
// left.
type Unlocked struct {
	Freed []string          `json:"freed"`
	Next  map[string]string `json:"next"`
	Left  []string          `json:"left"`
}

// HookRequest makes a hook.
type HookRequest struct {
	URL   string   `json:"url"`
	Kinds []string `json:"kinds"`
}

// Hooks are those of a project. Hosts are where hooks may go.
type Hooks struct {
	Hooks []Hook   `json:"hooks"`
	Hosts []string `json:"hosts"`
}

// Paths is a list of paths.
type Paths struct {
	Paths []string `json:"paths"`
}

// Digests is a list of digests of chunks or contents.
type Digests struct {
	Digests []chunk.Digest `json:"digests"`
}

// Stored is how many chunks an upload brought.
type Stored struct {
	Chunks int `json:"chunks"`
}

// SendChange is what a send does to one asset. MovedFrom is where it was, where it was moved: it keeps its identity. Content is the root
// of its manifest; Digest, where it is there, what the sender says that the BLAKE3 of all its bytes is.
type SendChange struct {
	Path       string        `json:"path"`
	MovedFrom  string        `json:"moved_from,omitempty"`
	Base       int           `json:"base"`
	Gone       bool          `json:"gone,omitempty"`
	Content    chunk.Digest  `json:"content"`
	Digest     *chunk.Digest `json:"digest,omitempty"`
	Size       int64         `json:"size"`
	Executable bool          `json:"executable,omitempty"`
	Fence      int64         `json:"fence,omitempty"`
}

// SendRequest is a send, to be checked or to be made. The key of a send to be made is in the header Idempotency-Key.
type SendRequest struct {
	Workspace string `json:"workspace"`
	// Branch is the one that the workspace is on; where it is left out, the one that it was last said to be on.
	Branch string `json:"branch,omitempty"`
	About
	KeepLocks bool `json:"keep_locks,omitempty"`
	// TakeFree takes, for the length of the send, the locks that it needs and nobody holds: for who has no folder to lock something in.
	TakeFree bool `json:"take_free,omitempty"`
	// Older says that going back to the content of an older version is meant.
	Older   bool         `json:"older,omitempty"`
	Changes []SendChange `json:"changes"`
}

// SendQuestion asks what would be refused of a send. Chunks are those that it may bring; Coming is how many bytes that may be; Rules is the
// text of the rules that it brings, by which the rest of it is looked at.
type SendQuestion struct {
	Send   SendRequest    `json:"send"`
	Chunks []chunk.Digest `json:"chunks,omitempty"`
	Coming int64          `json:"coming,omitempty"`
	Rules  *string        `json:"rules,omitempty"`
}

// SendCheck names the contents and the chunks that the project lacks, and content that the service lost and would like back.
type SendCheck struct {
	Missing []chunk.Digest `json:"missing"`
	Chunks  []chunk.Digest `json:"chunks"`
	Wanted  []chunk.Digest `json:"wanted,omitempty"`
}

// SendReceipt is the handoff that came of a send, and the locks that were kept.
type SendReceipt struct {
	Handoff Handoff `json:"handoff"`
	Locks   []Lock  `json:"locks"`
}

// SendClosed tells what became of a send: the handoff, or nothing now and later.
type SendClosed struct {
	Handoff *Handoff `json:"handoff,omitempty"`
}

// RollbackRequest makes a handoff that brings an old state back. Of the four, one is set: Version (of the one asset that Paths names), To
// (a handoff, a time or a milestone, for the assets and folders that Paths names, or, with All, for the whole project), or Without (a
// handoff that is undone). Seen is the newest handoff that the person knows of: what changed since is refused, unless it is 0. With
// Preview nothing is done.
type RollbackRequest struct {
	Workspace string `json:"workspace"`
	// Branch is as in SendRequest.
	Branch  string   `json:"branch,omitempty"`
	Paths   []string `json:"paths,omitempty"`
	Version int      `json:"version,omitempty"`
	To      string   `json:"to,omitempty"`
	All     bool     `json:"all,omitempty"`
	Without int      `json:"without,omitempty"`
	Seen    int      `json:"seen,omitempty"`
	Note    string   `json:"note,omitempty"`
	Preview bool     `json:"preview,omitempty"`
}

// RollbackChange is what a rollback does to one asset: back (an older content), returns (it was gone), moves (to where it was), or goes
// (it was not there; it stays in the history). Version is the one that it has now, 0 for none; To the one whose content it gets.
type RollbackChange struct {
	Path      string `json:"path"`
	Change    string `json:"change"`
	Version   int    `json:"version"`
	To        int    `json:"to"`
	Size      int64  `json:"size"`
	MovedFrom string `json:"moved_from,omitempty"`
}

// RollbackAnswer says what a rollback does, or, as a preview, would do: as of which handoff, with what note, to which assets, what stands
// in its way, and who has unsent changes to them. Handoff is there where it was done.
type RollbackAnswer struct {
	Seen     int              `json:"seen"`
	Note     string           `json:"note"`
	Changes  []RollbackChange `json:"changes"`
	Refusals []Refusal        `json:"refusals"`
	HeadsUps []HeadsUp        `json:"heads_up"`
	Handoff  *Handoff         `json:"handoff,omitempty"`
}

// WorkspaceTold is what a workspace says of itself, so that it can be made again elsewhere.
type WorkspaceTold struct {
	Machine string   `json:"machine"`
	Folder  string   `json:"folder"`
	Branch  string   `json:"branch"`
	Scope   []string `json:"scope"`
	Follows int      `json:"follows"`
	Pinned  bool     `json:"pinned"`
}

// MilestoneRequest names a handoff: the newest where At is left out, else a handoff or a time.
type MilestoneRequest struct {
	Name string `json:"name"`
	At   string `json:"at,omitempty"`
	Note string `json:"note,omitempty"`
}

// Milestones are a page of those of a project, of Total, the latest handoff first.
type Milestones struct {
	Total      int         `json:"total"`
	Milestones []Milestone `json:"milestones"`
}

// LineOrigins tells of each line of a version of a text asset where it comes from.
type LineOrigins struct {
	Path    string       `json:"path"`
	Version int          `json:"version"`
	Lines   []LineOrigin `json:"lines"`
}

// Between is what is different between two states, From and To: by folder, by kind of asset, and asset by asset (a page, in the order of
// paths; where Next is there, another one follows), and what people did from the earlier to the later one. A path's Version and Before are
// those that are compared.
type Between struct {
	From    Handoff        `json:"from"`
	To      Handoff        `json:"to"`
	Total   Tally          `json:"total"`
	Assets  []HandoffAsset `json:"assets"`
	Next    string         `json:"next,omitempty"`
	Folders []Tally        `json:"folders"`
	Kinds   []Tally        `json:"kinds"`
	People  []Worked       `json:"people"`
}

// ServiceInfo says what runs and whether it works.
type ServiceInfo struct {
	Service string `json:"service"`
	Version string `json:"version"`
	Ready   bool   `json:"ready"`
	// House is what the sign-on of the house is called; left out where there is none.
	House string `json:"house,omitempty"`
}

// ProblemDetails is the body of every error (RFC 9457). Type is "urn:kettletarn:" and one of the types above.
type ProblemDetails struct {
	Type     string    `json:"type"`
	Title    string    `json:"title"`
	Status   int       `json:"status"`
	Detail   string    `json:"detail"`
	Remedy   string    `json:"remedy,omitempty"`
	Request  string    `json:"request,omitempty"`
	Refusals []Refusal `json:"refusals,omitempty"`
	Missing  []string  `json:"missing,omitempty"`
}

// WorkspaceHeader names, on any request, the workspace that it comes from: the service notes that it was heard of.
const WorkspaceHeader = "Tarn-Workspace"

// ProblemPrefix stands before the type of a problem on the wire.
const ProblemPrefix = "urn:kettletarn:"

// Content types of bulk traffic: CBOR sequences (RFC 8742).
const CBORSequence = "application/cbor-seq"

// RecordsAccepted is what a client says it accepts that reads records of version 2, which may be S2 blocks. Others get none of those.
const RecordsAccepted = CBORSequence + "; records=2"

// PassphraseRequest changes one's own passphrase.
type PassphraseRequest struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// PassphraseChanged says how many other sign-ins ended with the old passphrase.
type PassphraseChanged struct {
	Ended int64 `json:"ended"`
}

// SignIns are one's own.
type SignIns struct {
	SignIns []SignedIn `json:"sign_ins"`
}

// MailCode is the code that came in a letter to the address that one wants letters at.
type MailCode struct {
	Code string `json:"code"`
}

// News is a page of what happened that concerns one, the newest first. Next is what the following page is asked for with, 0 where there is
// none.
type News struct {
	News   []NewsItem `json:"news"`
	Unread int        `json:"unread"`
	Next   int64      `json:"next,omitempty"`
}

// NewsRead says up to which item one has read.
type NewsRead struct {
	UpTo int64 `json:"up_to"`
}

// LifeHeader names, on any answer, which life of the service it is, and on a request from a workspace, the one that it knows: a service
// that was restored from a backup is in another one, and refuses what is meant for the one before.
const LifeHeader = "Tarn-Life"
