// Package model holds the things that people talk about (project, asset, version, handoff, lock …) in the one form in which the
// service answers with them, the API carries them and the client prints them with --json. Sizes are bytes, times RFC 3339 in UTC,
// digests 64 hex digits of BLAKE3-256. It has no behaviour beyond that of plain data.
package model

import "time"

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

// States of an asset in a workspace.
const (
	Same    = "same"
	New     = "new"
	Edited  = "edited"
	Gone    = "gone"
	Behind  = "behind"
	Clash   = "clash"
	Ignored = "ignored"
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
}

// Member is a person's part in a project.
type Member struct {
	Handle string `json:"handle"`
	Role   string `json:"role"`
}

// Workspace is one person's copy of a project on one machine, or their seat at the console.
type Workspace struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Kind    string    `json:"kind"`
	Owner   string    `json:"owner"`
	Project string    `json:"project"`
	Seen    time.Time `json:"seen"`
}

// Lock is the right to send new versions of an asset. Fence grows with every change of holder, and a send has to present it.
type Lock struct {
	Path        string    `json:"path"`
	Holder      string    `json:"holder"`
	Workspace   string    `json:"workspace"`
	WorkspaceID string    `json:"workspace_id"`
	Since       time.Time `json:"since"`
	Note        string    `json:"note"`
	Fence       int64     `json:"fence"`
	Waitlist    []string  `json:"waitlist"`
}

// Asset is one tracked file. The service fills what it knows; state and version (the one here) are a workspace's own. Content names
// what is in it, by the root of its manifest; Digest is the BLAKE3 of all its bytes, absent until the service has read it through.
type Asset struct {
	Path       string     `json:"path"`
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
}

// Version is one content of an asset.
type Version struct {
	Version    int       `json:"version"`
	Path       string    `json:"path"`
	Handoff    int       `json:"handoff"`
	Author     string    `json:"author"`
	At         time.Time `json:"at"`
	Note       string    `json:"note"`
	Tasks      []string  `json:"tasks"`
	Stage      string    `json:"stage,omitempty"`
	Size       int64     `json:"size"`
	Content    string    `json:"content,omitempty"`
	Digest     string    `json:"digest,omitempty"`
	Executable bool      `json:"executable,omitempty"`
	Gone       bool      `json:"gone,omitempty"`
}

// Handoff is the unit of change. Root names the state that it leads to; Digest covers that, the parent, and all that is said here.
type Handoff struct {
	Number int            `json:"number"`
	Branch string         `json:"branch"`
	Author string         `json:"author"`
	Note   string         `json:"note"`
	At     time.Time      `json:"at"`
	Tasks  []string       `json:"tasks"`
	Stage  string         `json:"stage,omitempty"`
	Parent int            `json:"parent"`
	Root   string         `json:"root"`
	Digest string         `json:"digest"`
	Count  int            `json:"count"`
	Size   int64          `json:"size"`
	Assets []HandoffAsset `json:"assets"`
}

// HandoffAsset is what a handoff did to one asset. Change is new, edited or gone; Before is the version it followed, 0 for none.
type HandoffAsset struct {
	Path    string `json:"path"`
	Change  string `json:"change"`
	Version int    `json:"version"`
	Before  int    `json:"before"`
	Size    int64  `json:"size"`
	Content string `json:"content,omitempty"`
	Digest  string `json:"digest,omitempty"`
}

// Folder is one folder inside another, with what lies below it.
type Folder struct {
	Name   string `json:"name"`
	Assets int    `json:"assets"`
	Size   int64  `json:"size"`
}

// Event is one entry of the record of everything that was done.
type Event struct {
	ID      string         `json:"id"`
	At      time.Time      `json:"at"`
	Person  string         `json:"person"`
	Kind    string         `json:"kind"`
	Subject map[string]any `json:"subject"`
}
