package workspace

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"time"

	"github.com/adrg/xdg"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/scan"
)

// Standing is a status as others get it: printed with --json, and told at the local interface.
type Standing struct {
	Project string `json:"project"`
	Service string `json:"service"`
	Branch  string `json:"branch"`
	// At is the handoff that the workspace is at, Newest the newest that is known, and Fetched when the service last said so.
	At      int       `json:"at"`
	Newest  int       `json:"newest"`
	Fetched time.Time `json:"fetched"`
	// Follows is the handoff that it stays at, 0 where it follows the newest; Pinned says that it is that of the pin.
	Follows int  `json:"follows,omitempty"`
	Pinned  bool `json:"pinned,omitempty"`
	// Assets are those of which there is something to say, or all that were asked for, by path; Same counts those that are the same here
	// and there.
	Assets []model.Asset `json:"assets"`
	Same   int           `json:"same"`
	// Odd are names that can't be tracked; Left how many files and folders the rules leave out, Code how many files are left to the main
	// history, and Uncovered large ones that it would take.
	Odd       []model.Refusal `json:"odd"`
	Left      int             `json:"left_out"`
	Code      int             `json:"code"`
	Uncovered []model.Asset   `json:"uncovered"`
	// Scope is which folders come down, none for all.
	Scope []string `json:"scope"`
	// Ignored lists what is left out, where that was asked for; Sending what goes on in the background.
	Ignored []scan.LeftOut `json:"ignored,omitzero"`
	Sending []UnderWay     `json:"sending,omitempty"`
	// KitsBehind are the uses of kits that do not have the latest release, and follow it.
	KitsBehind []model.KitUse `json:"kits_behind,omitempty"`
}

// UnderWay is a send that goes on in the background, or that was refused: Refusals say why then.
type UnderWay struct {
	ID string `json:"id"`
	model.About
	Since time.Time `json:"since"`
	// Size is that of what it sends, in bytes, and Percent how much of that has arrived.
	Size     int64           `json:"size"`
	Percent  int             `json:"percent"`
	Paths    []string        `json:"paths"`
	Refusals []model.Refusal `json:"refusals,omitempty"`
	// Trouble is why it does not go on, where somebody has to see to something first.
	Trouble string `json:"trouble,omitempty"`
}

// UnderWayOf tells a job.
func UnderWayOf(j *Job) UnderWay {
	u := UnderWay{ID: j.ID, About: j.About, Since: j.Since, Size: j.Size, Percent: j.Percent, Paths: []string{}, Refusals: j.Refusals,
		Trouble: j.Trouble}
	for _, f := range j.Files {
		u.Paths = append(u.Paths, f.Asset.Path)
	}
	return u
}

// Standing tells a status, with what goes on in the background as of now.
func (w *Workspace) Standing(s *Status) Standing {
	shown := *s
	shown.Assets = slices.Clone(s.Assets)
	var jobs []UnderWay
	for _, j := range w.sending(&shown) {
		jobs = append(jobs, UnderWayOf(&j))
	}
	return Standing{Project: w.Marker.Project, Service: w.Marker.Service, Branch: s.View.On(), At: s.At, Newest: s.View.Newest,
		Fetched: s.Fetched, Follows: s.Follows, Pinned: s.Pinned, Assets: append([]model.Asset{}, shown.Assets...), Same: s.Same,
		Odd: append([]model.Refusal{}, s.Odd...), Left: s.Left, Code: s.Code, Uncovered: append([]model.Asset{}, s.Uncovered...),
		Scope: append([]string{}, s.Scope...), Sending: jobs}
}

// Place is a workspace on this machine: the folder that it is in, and what its marker says.
type Place struct {
	Root   string
	Marker Marker
}

// Known lists the workspaces that a person has on this machine, by folder. One whose folder is gone, or is something else now, is none.
func Known() ([]Place, error) {
	folder := filepath.Join(xdg.StateHome, "kettle-tarn", "workspaces")
	entries, err := os.ReadDir(folder)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	var list []Place
	for _, e := range entries {
		var noted placed
		text, err := disk.ReadSmall(filepath.Join(folder, e.Name(), placeFile), 64<<10)
		if err != nil || json.Unmarshal(text, &noted) != nil || noted.Root == "" {
			continue
		}
		if m, err := ReadMarker(noted.Root); err == nil && m.Workspace == e.Name() {
			list = append(list, Place{Root: noted.Root, Marker: m})
		}
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Root < list[j].Root })
	return list, nil
}
