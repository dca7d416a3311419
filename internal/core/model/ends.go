package model

import "time"

// DeletedProject is a project that was deleted and is still there: it goes for good at Goes, and until then its owners, and stewards, can
// bring it back.
type DeletedProject struct {
	Key     string    `json:"key"`
	Role    string    `json:"role"`
	Stored  int64     `json:"stored"`
	Deleted time.Time `json:"deleted"`
	By      string    `json:"by"`
	Goes    time.Time `json:"goes"`
}

// DeleteRequest deletes a project, whose key is typed once more.
type DeleteRequest struct {
	Key string `json:"key"`
}

// ArchiveRequest makes a project one that is only looked at, or brings it back.
type ArchiveRequest struct {
	Archived bool `json:"archived"`
}

// Deed is one thing that was done, as the record has it: by whom ("" for the service itself), in which project ("" for none), of which
// kind, and in words. Paths are the first assets that it is about, Handoff the number of a handoff.
type Deed struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Project string    `json:"project,omitempty"`
	Person  string    `json:"person,omitempty"`
	Kind    string    `json:"kind"`
	Text    string    `json:"text"`
	Paths   []string  `json:"paths,omitempty"`
	Handoff int       `json:"handoff,omitempty"`
}

// Deeds is a page of the record, the latest first; Next is what to ask for as before, 0 at its end.
type Deeds struct {
	Record []Deed `json:"record"`
	Next   int64  `json:"next,omitempty"`
}
