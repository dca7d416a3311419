package model

import "time"

// Review is a conversation on a branch, or on one handoff, with people who are asked to look, and what they answer.
type Review struct {
	Number int `json:"number"`
	// Branch is the branch that it is about, "" where it is about Handoff alone. Head is the handoff that the branch is at.
	Branch  string `json:"branch,omitempty"`
	Handoff int    `json:"handoff,omitempty"`
	Head    int    `json:"head"`
	// Person opened it, at At, and Text is what they said.
	Person string    `json:"person"`
	At     time.Time `json:"at"`
	Text   string    `json:"text"`
	// Closed is when it was closed, by Closer.
	Closed *time.Time `json:"closed,omitempty"`
	Closer string     `json:"closer,omitempty"`
	// Asked are those who were asked to look, by handle; Answers the last of everybody who answered.
	Asked []string `json:"asked"`
	// Waits are those of Asked who have not answered as it is now.
	Waits   []string       `json:"waits"`
	Answers []ReviewAnswer `json:"answers"`
	// Remarks are there where one review is shown; Said counts them, and Open those that point at something and are not settled.
	Remarks []Remark `json:"remarks,omitempty"`
	Said    int      `json:"said"`
	Open    int      `json:"open"`
}

// ReviewAnswer is what somebody said of the whole. Old says that the branch has moved on since.
type ReviewAnswer struct {
	Person string    `json:"person"`
	Yes    bool      `json:"yes"`
	Why    string    `json:"why,omitempty"`
	At     time.Time `json:"at"`
	Head   int       `json:"head"`
	Old    bool      `json:"old"`
}

// Remark is one thing said in a review, numbered from 1. Path and Version are what it points at, "" and 0 for nothing, and Where is the
// spot on it (package spot). Answers is the remark that it answers.
type Remark struct {
	Number  int        `json:"number"`
	Person  string     `json:"person"`
	At      time.Time  `json:"at"`
	Text    string     `json:"text"`
	Path    string     `json:"path,omitempty"`
	Version int        `json:"version,omitempty"`
	Where   string     `json:"where,omitempty"`
	Answers int        `json:"answers,omitempty"`
	Settled *time.Time `json:"settled,omitempty"`
	Settler string     `json:"settler,omitempty"`
}

// RemarkSpot is where on a version of an asset a remark is that points at it: Where is "" for one about the asset as a whole.
type RemarkSpot struct {
	Remark  int    `json:"remark"`
	Path    string `json:"path"`
	Version int    `json:"version"`
	Where   string `json:"where,omitempty"`
}

// RemarkSpots are those of one review.
type RemarkSpots struct {
	Spots []RemarkSpot `json:"spots"`
}

// Reviews are those of a project, the open ones first, and the latest first among them.
type Reviews struct {
	Reviews []Review `json:"reviews"`
}

// ReviewRequest opens a review of a branch or of a handoff (h40).
type ReviewRequest struct {
	Of   string   `json:"of"`
	Ask  []string `json:"ask"`
	Text string   `json:"text"`
}

// RemarkRequest says something in a review. Version is that of the asset which it points at, the newest of the review's state where it is
// left out.
type RemarkRequest struct {
	Text    string `json:"text"`
	Path    string `json:"path,omitempty"`
	Version int    `json:"version,omitempty"`
	Where   string `json:"where,omitempty"`
	Answers int    `json:"answers,omitempty"`
}

// SettleRequest settles a remark, or takes that back.
type SettleRequest struct {
	Remark  int  `json:"remark"`
	Settled bool `json:"settled"`
}

// AnswerRequest answers a review.
type AnswerRequest struct {
	Yes bool   `json:"yes"`
	Why string `json:"why,omitempty"`
}
