package model

import "time"

// Shown is what a showing shows: one path as of a handoff; where With is not empty, another beside it; where Path is empty, all of the
// handoff, which whoever chose it named State.
type Shown struct {
	State       string `json:"state,omitempty"`
	Path        string `json:"path,omitempty"`
	Version     int    `json:"version,omitempty"`
	Handoff     int    `json:"handoff"`
	With        string `json:"with,omitempty"`
	WithVersion int    `json:"with_version,omitempty"`
	WithHandoff int    `json:"with_handoff,omitempty"`
	// Files says that the files themselves may be taken along.
	Files bool `json:"files"`
}

// Showing is a link by which somebody outside looks at something without an account. It holds until its end, while nobody ended it, the
// project's showings are not switched off, and who made it is in the project and was not let go. Address, from the root of the service, is
// told once: to who makes it.
type Showing struct {
	Number int    `json:"number"`
	For    string `json:"for"`
	By     string `json:"by"`
	Shown
	Made       time.Time  `json:"made"`
	Until      time.Time  `json:"until"`
	Holds      bool       `json:"holds"`
	Ended      *time.Time `json:"ended,omitempty"`
	EndedBy    string     `json:"ended_by,omitempty"`
	Opened     int        `json:"opened"`
	OpenedLast *time.Time `json:"opened_last,omitempty"`
	Address    string     `json:"address,omitempty"`
}

// Showings are a page of those of a project, of Total, the newest first. Off says that they are switched off.
type Showings struct {
	Total    int       `json:"total"`
	Off      bool      `json:"off"`
	Showings []Showing `json:"showings"`
}

// ShowingRequest asks for a showing of one version (Path, and Version, 0 for the newest), of that compared with another one (With, ""  for
// the same asset, and WithVersion), or of a state (At: a handoff, a milestone, a branch as it is now). For says for whom it is; it holds
// for Days.
type ShowingRequest struct {
	At          string `json:"at,omitempty"`
	Path        string `json:"path,omitempty"`
	Version     int    `json:"version,omitempty"`
	Compare     bool   `json:"compare,omitempty"`
	With        string `json:"with,omitempty"`
	WithVersion int    `json:"with_version,omitempty"`
	For         string `json:"for"`
	Days        int    `json:"days"`
	Files       bool   `json:"files,omitempty"`
}

// ShowingsOff switches the showings of a project off, or on again.
type ShowingsOff struct {
	Off bool `json:"off"`
}

// Exhibit is what somebody outside is told of a showing: of which project, what, by whom, and how long. Assets and Size are those of a
// state.
type Exhibit struct {
	Project string `json:"project"`
	By      string `json:"by"`
	For     string `json:"for"`
	Shown
	Until  time.Time `json:"until"`
	Assets int       `json:"assets,omitempty"`
	Size   int64     `json:"size,omitempty"`
}

// ExhibitPage is a page of the assets of a state that is shown, in the order of their paths; where Next is there, another one follows it.
type ExhibitPage struct {
	Assets []ExhibitAsset `json:"assets"`
	Next   string         `json:"next,omitempty"`
}

// ExhibitAsset is one of them.
type ExhibitAsset struct {
	Path    string `json:"path"`
	Version int    `json:"version"`
	Size    int64  `json:"size"`
}
