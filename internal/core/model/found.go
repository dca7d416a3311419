package model

import "time"

// Found is what a project has that fits words, the best of each first.
type Found struct {
	Assets     []FoundAsset `json:"assets"`
	Handoffs   []Handoff    `json:"handoffs"`
	Milestones []Milestone  `json:"milestones"`
	People     []string     `json:"people"`
	Branches   []string     `json:"branches"`
}

// FoundAsset is an asset, and what of its facts fits, where its path does not say it.
type FoundAsset struct {
	Asset
	Why string `json:"why,omitempty"`
}

// Twice is what a project has more than once, byte for byte: Total is how many such contents there are, Wasted how many bytes more they
// take on each disk than if each were there once. Of one asset it is what else has its content.
type Twice struct {
	Contents []TwiceContent `json:"contents"`
	Total    int            `json:"total"`
	Wasted   int64          `json:"wasted"`
}

// TwiceContent is one of them: its size in bytes, how many assets have it, and the first of those.
type TwiceContent struct {
	Size   int64   `json:"size"`
	Count  int     `json:"count"`
	Assets []Asset `json:"assets"`
}

// Alike is what looks or sounds like an asset, the nearest first.
type Alike struct {
	Assets []AlikeAsset `json:"assets"`
}

// AlikeAsset is one of them; Apart is how many of 64 bits of the two prints differ.
type AlikeAsset struct {
	Asset
	Apart int `json:"apart"`
}

// View is a filter of assets under a name: the team's, or one's own. Query is what the filters in the address of the page are, as an
// address has them.
type View struct {
	Name   string    `json:"name"`
	Team   bool      `json:"team"`
	Folder string    `json:"folder"`
	Query  string    `json:"query"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// ViewRequest keeps one.
type ViewRequest struct {
	Team   bool   `json:"team"`
	Folder string `json:"folder"`
	Query  string `json:"query"`
}

// Views are those that one has in a project, by name.
type Views struct {
	Views []View `json:"views"`
}
