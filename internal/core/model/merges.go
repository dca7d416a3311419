package model

import "kettletarn/internal/core/lines"

// Ways in which a merge settles an asset that both sides changed.
const (
	WayHere  = "here"  // as the branch has it that stays
	WayThere = "there" // as the branch has it that comes
	WayBoth  = "both"  // both stay, the one that comes under a name that says its branch
	WayLines = "lines" // line by line, where it is text
)

// Ways are all of them.
var Ways = []string{WayHere, WayThere, WayBoth, WayLines}

// Decision says what becomes of the assets that a pattern, as the rules have them, matches. Of several, the last one counts.
type Decision struct {
	Pattern string `json:"pattern"`
	Way     string `json:"way"`
}

// MergeRequest brings a branch into another one, or, with Preview, says what that would do.
type MergeRequest struct {
	// Workspace is who asks, from where; Into is the branch that stays, the one that the workspace is on where it is left out.
	Workspace string `json:"workspace"`
	Into      string `json:"into,omitempty"`
	// From is the branch that comes.
	From    string     `json:"from"`
	Decide  []Decision `json:"decide,omitempty"`
	Note    string     `json:"note,omitempty"`
	Preview bool       `json:"preview,omitempty"`
	// Seen and SeenFrom are the handoffs that the two branches were at when somebody decided; where one has moved on since, the merge is
	// refused. 0 for any.
	Seen     int `json:"seen,omitempty"`
	SeenFrom int `json:"seen_from,omitempty"`
	// Whole asks for all that would change, where a preview lists the first MaxMergeListed: up to MaxMergeWhole.
	Whole bool `json:"whole,omitempty"`
}

// MergeAnswer says what a merge does, or, as a preview, would do.
type MergeAnswer struct {
	From string `json:"from"`
	Into string `json:"into"`
	// At and AtFrom are the handoffs that the two branches are at, and Since is their newest common state, 0 where there is none.
	At     int    `json:"at"`
	AtFrom int    `json:"at_from"`
	Since  int    `json:"since"`
	Note   string `json:"note"`
	// Comes are the assets that change on the branch that stays, by path, at most MaxMergeListed; Count and Size are how many that are, and
	// how many bytes those have that are new there. Made is how many of them get a new version.
	Comes []MergeChange `json:"comes"`
	Count int           `json:"count"`
	Made  int           `json:"made"`
	Size  int64         `json:"size"`
	// Undecided are the assets that somebody has to decide about, at most MaxMergeListed of them; Open is how many those are.
	Undecided []MergeClash `json:"undecided"`
	Open      int          `json:"open"`
	// Refusals are what else stands in the way: locks of others, rights, rules.
	Refusals []Refusal `json:"refusals"`
	// Answers are what people said of the branch that comes, in its reviews.
	Answers []MergeVerdict `json:"answers,omitempty"`
	// Handoff is there where it was done.
	Handoff *Handoff `json:"handoff,omitempty"`
}

// MergeVerdict is what somebody said of a branch, in which review. Old says that the branch has moved on since.
type MergeVerdict struct {
	Review int    `json:"review"`
	Person string `json:"person"`
	Yes    bool   `json:"yes"`
	Why    string `json:"why,omitempty"`
	Old    bool   `json:"old,omitempty"`
}

// MaxMergeListed is how many assets of a merge are listed, and MaxMergeWhole how many are where all of it is asked for.
const (
	MaxMergeListed = 5000
	MaxMergeWhole  = 200_000
)

// MergeChange is an asset that changes on the branch that stays: new, edited, moved or gone. Version is the one that it has there after,
// Before the one before, 0 for none; Made says that it is a new one, made of both sides.
type MergeChange struct {
	Path      string `json:"path"`
	Change    string `json:"change"`
	MovedFrom string `json:"moved_from,omitempty"`
	Version   int    `json:"version"`
	Before    int    `json:"before"`
	Size      int64  `json:"size"`
	Made      bool   `json:"made,omitempty"`
	// Content is what it has there after, "" where it is gone.
	Content    string `json:"content,omitempty"`
	Executable bool   `json:"executable,omitempty"`
}

// MergeClash is an asset that both sides changed. Why is one of both-edited, both-moved, gone-here, gone-there, place-taken and
// file-folder; Other is what is in its way for the latter two. Ways are those of Ways that are open.
type MergeClash struct {
	Path  string     `json:"path"`
	Why   string     `json:"why"`
	Other string     `json:"other,omitempty"`
	Ways  []string   `json:"ways"`
	Base  *MergeSide `json:"base,omitempty"`
	Here  *MergeSide `json:"here,omitempty"`
	There *MergeSide `json:"there,omitempty"`
	// Message says what is to be decided, in a sentence.
	Message string `json:"message"`
	// Places are the stretches of lines that both changed, where it was to be merged line by line.
	Places []lines.Place `json:"places,omitempty"`
}

// MergeSide is what one side has of an asset.
type MergeSide struct {
	Path       string `json:"path"`
	Version    int    `json:"version"`
	Size       int64  `json:"size"`
	Content    string `json:"content"`
	Executable bool   `json:"executable,omitempty"`
}
