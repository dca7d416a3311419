package model

import "time"

// KitRelease is what a kit was in the state of a handoff, under its number: what matched Match there. It never changes.
type KitRelease struct {
	Kit     string    `json:"kit"`
	Number  int       `json:"number"`
	Handoff int       `json:"handoff"`
	Digest  string    `json:"digest"`
	Match   []string  `json:"match"`
	Note    string    `json:"note"`
	Person  string    `json:"person"`
	At      time.Time `json:"at"`
}

// KitReleaseRequest releases a kit as it is in a state (h40, a milestone); in the newest of the first branch where At is left out.
type KitReleaseRequest struct {
	Kit  string `json:"kit"`
	At   string `json:"at,omitempty"`
	Note string `json:"note"`
}

// Kit is one that a project makes, with its releases, the latest first. Match is what the rules say of it now, empty where they name it no
// more.
type Kit struct {
	Name     string       `json:"name"`
	Match    []string     `json:"match"`
	Releases []KitRelease `json:"releases"`
}

// KitUse is a folder of a project that came from a kit: Dir, which Kit (PROJECT/NAME), which Release of it, whether it keeps to that, and
// how many Assets. Changed are those that are not as they came any more, by their paths; Newest is the kit's latest release, 0 where the
// one who asks may not see its project, or it is gone.
type KitUse struct {
	Dir     string   `json:"dir"`
	Kit     string   `json:"kit"`
	Release int      `json:"release"`
	Stay    bool     `json:"stay,omitempty"`
	Newest  int      `json:"newest,omitempty"`
	Assets  int      `json:"assets"`
	Changed []string `json:"changed"`
}

// Kits are those that a project makes, and its uses of others.
type Kits struct {
	Made []Kit    `json:"made"`
	Uses []KitUse `json:"uses"`
}

// KitState is a release with its assets, and, by path, what was different in the release before it.
type KitState struct {
	KitRelease
	Assets []KitAsset `json:"assets"`
	Size   int64      `json:"size"`
}

// KitAsset is an asset of a release; Content stands for its content, and Change says what it is beside the release before: new, changed,
// moved (also changed then, where its content is another one) or gone, "" for the same. Was is where one that was moved was, Before the
// version that it had in the release before, and Asset what it is known by in the project that made it.
type KitAsset struct {
	Path       string `json:"path"`
	Version    int    `json:"version"`
	Content    string `json:"content"`
	Size       int64  `json:"size"`
	Executable bool   `json:"executable,omitempty"`
	Change     string `json:"change,omitempty"`
	Was        string `json:"was,omitempty"`
	Before     int    `json:"before,omitempty"`
	Asset      int64  `json:"-"`
}

// KitUsed is a use of a kit in a project, for whoever asks where it is used.
type KitUsed struct {
	Project string `json:"project"`
	KitUse
}

// KitUsers are all that one may see.
type KitUsers struct {
	Uses []KitUsed `json:"uses"`
}

// KitOfferRequest puts what was changed in the use in Dir, on Branch, to the project that made the kit. Why says what for.
type KitOfferRequest struct {
	Dir    string `json:"dir"`
	Why    string `json:"why"`
	Branch string `json:"branch,omitempty"`
}

// KitOffer is what came of it, in Project, which makes the kit: a branch with a handoff of what was changed, and a review of it. Paths are
// the assets, as they are called there.
type KitOffer struct {
	Project string   `json:"project"`
	Kit     string   `json:"kit"`
	Branch  string   `json:"branch"`
	Handoff int      `json:"handoff"`
	Review  int      `json:"review"`
	Asked   []string `json:"asked"`
	Paths   []string `json:"paths"`
}

// KitRequest uses a kit, or brings a use to another release, or detaches it. Dir is the folder; Kit is PROJECT/NAME, for a use that is new;
// To is the release, 0 for the latest; Stay keeps to it. Preview says only what it would do.
type KitRequest struct {
	Kit       string `json:"kit,omitempty"`
	Dir       string `json:"dir"`
	To        int    `json:"to,omitempty"`
	Stay      bool   `json:"stay,omitempty"`
	Detach    bool   `json:"detach,omitempty"`
	Note      string `json:"note,omitempty"`
	Workspace string `json:"workspace"`
	Branch    string `json:"branch,omitempty"`
	Preview   bool   `json:"preview,omitempty"`
}

// KitAnswer is what came of that, or would: the use as it is then, what changes, what stands in the way, and the handoff.
type KitAnswer struct {
	Use      KitUse     `json:"use"`
	Was      int        `json:"was,omitempty"`
	Changes  []KitAsset `json:"changes"`
	Kept     []string   `json:"kept"`
	Refusals []Refusal  `json:"refusals"`
	Handoff  *Handoff   `json:"handoff,omitempty"`
}
