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
	Sending []Job          `json:"sending,omitempty"`
}

// Standing tells a status, with what goes on in the background as of now.
func (w *Workspace) Standing(s *Status) Standing {
	shown := *s
	shown.Assets = slices.Clone(s.Assets)
	jobs := w.sending(&shown)
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
