package model

import "time"

// States of a branch.
const (
	Live   = "live"
	Done   = "done"   // ready to come in
	Closed = "closed" // keeps everything, takes nothing more, and counts for no lock
)

// BranchStates are all of them, as the records number them.
var BranchStates = []string{Live, Done, Closed}

// Branch is a named line of handoffs.
type Branch struct {
	Name string `json:"name"`
	// From is the branch that it was made from, and At the handoff that it began at; "" and 0 for the first.
	From string `json:"from,omitempty"`
	At   int    `json:"at,omitempty"`
	// State is one of BranchStates.
	State string `json:"state"`
	// Why says what it is for; Person made it, and Made says when.
	Why    string    `json:"why,omitempty"`
	Person string    `json:"person,omitempty"`
	Made   time.Time `json:"made"`
	// Head is its newest handoff, made by Author at the time Moved; 0 where there is none yet.
	Head   int        `json:"head"`
	Author string     `json:"author,omitempty"`
	Moved  *time.Time `json:"moved,omitempty"`
	// Assets and Size are what it holds, in assets and bytes.
	Assets int64 `json:"assets"`
	Size   int64 `json:"size"`
	// Ahead is how many handoffs it has that the branch it came from has not, and Behind how many that one has and it has not.
	Ahead  int `json:"ahead"`
	Behind int `json:"behind"`
	// Workspaces are those that are on it, with whose they are; only where one branch is shown.
	Workspaces []BranchWorkspace `json:"workspaces,omitempty"`
	// Since is the common state from which the two went their own ways, the newest where there are several. Here is what changed on this
	// branch since, There what changed on the other; only where one branch is shown.
	Since int            `json:"since,omitempty"`
	Here  *BranchChanges `json:"here,omitempty"`
	There *BranchChanges `json:"there,omitempty"`
	// Clashes are assets that both changed, in different ways; at most MaxClashes are listed, and Clashing counts them.
	Clashes  []string `json:"clashes,omitempty"`
	Clashing int      `json:"clashing,omitempty"`
}

// MaxClashes is how many clashes a branch is shown with at most.
const MaxClashes = 100

// BranchWorkspace is somebody's workspace on a branch.
type BranchWorkspace struct {
	Handle    string `json:"handle"`
	Workspace string `json:"workspace"`
}

// BranchChanges counts assets that are new, changed, moved and gone since a common state. One that is moved and changed counts as both.
type BranchChanges struct {
	New     int `json:"new"`
	Changed int `json:"changed"`
	Moved   int `json:"moved"`
	Gone    int `json:"gone"`
}

// Branches are those of a project: the first, then those that are live or done, by name, then those that are closed.
type Branches struct {
	Branches []Branch `json:"branches"`
}

// BranchRequest makes a branch, from the newest state of the first one where At is left out, else from a handoff, a milestone or a branch.
type BranchRequest struct {
	Name string `json:"name"`
	At   string `json:"at,omitempty"`
	Why  string `json:"why,omitempty"`
}

// BranchStateRequest says in which state a branch is from now on.
type BranchStateRequest struct {
	State string `json:"state"`
}
