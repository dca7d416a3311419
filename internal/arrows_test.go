// Package internal_test holds the house to its plan: which package may know which (docs/architecture.md, "The house").
package internal_test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// arrows are, for each package or folder of packages, what of ours it may import besides core. Nothing else is allowed: arrows run
// downwards only.
var arrows = map[string][]string{
	"core":      {},
	"version":   {},
	"licences":  {},
	"prompt":    {},
	"localpg":   {},
	"rig":       {},
	"postbox":   {},
	"store":     {},
	"apart":     {},
	"courier":   {},
	"house":     {},
	"mainline":  {},
	"admission": {},
	"records":   {},
	"client":    {},
	"pages":     {},
	"schemas":   {},
	"startmenu": {"web"},
	"signins":   {"client"},
	"service":   {"records", "store", "apart"},
	"api":       {"service", "admission", "pages", "schemas"},
	"backup":    {"records", "store"},
	"metrics":   {"service", "records"},
	"daemon": {"metrics", "backup", "api", "admission", "service", "records", "store", "courier", "house", "prompt", "licences", "version",
		"web"},
	"workspace":   {"client", "mainline", "apart"},
	"projectfile": {"client"},
	"desk":        {"workspace", "client", "signins", "apart", "pages"},
	"cli": {"desk", "projectfile", "startmenu", "workspace", "client", "signins", "mainline", "apart", "prompt", "licences", "version",
		"web"},
	// For tests.
	"testbed": {"api", "client", "localpg", "records", "service", "store", "web"},
	"contest": {"client"},
}

// rooms are, for each room of the service, the rooms that it may know. All know the ground.
var rooms = map[string][]string{
	"ground":    {},
	"contents":  {},
	"ruling":    {"contents"},
	"locks":     {"ruling"},
	"handoffs":  {"contents", "ruling", "locks", "looking"},
	"people":    {"locks"},
	"history":   {"contents"},
	"branching": {},
	"reviewing": {"looking"},
	"looking":   {"contents"},
	"showing":   {"contents"},
	"telling":   {},
	"metering":  {},
	"keeping":   {"contents", "ruling", "looking"},
	"sharing":   {"contents", "handoffs", "branching", "reviewing"},
}

// workspaceRooms are the same for the workspace.
var workspaceRooms = map[string][]string{
	"disk":     {},
	"index":    {},
	"scan":     {"disk", "index"},
	"outbox":   {"disk", "index", "placing", "scan"},
	"placing":  {"disk", "index", "scan"},
	"transfer": {"disk", "index", "placing", "scan"},
	"watching": {"", "scan"},
}

func TestRooms(t *testing.T) {
	holdRooms(t, "service", rooms, "ground")
	holdRooms(t, "workspace", workspaceRooms, "")
}

// holdRooms looks at the packages in a folder: each imports only those of its neighbours that the table says, and the ground.
func holdRooms(t *testing.T, house string, rooms map[string][]string, ground string) {
	t.Helper()
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "./"+house+"/...").CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	seen := 0
	for line := range strings.Lines(string(out)) {
		words := strings.Fields(line)
		from, is := strings.CutPrefix(words[0], "kettletarn/internal/"+house+"/")
		if !is {
			continue
		}
		may, known := rooms[from]
		if seen++; !known {
			t.Errorf("%s has no place among the rooms", from)
		}
		for _, to := range words[1:] {
			if to, is := strings.CutPrefix(to, "kettletarn/internal/"+house); is && (ground == "" || to != "/"+ground) &&
				!slices.Contains(may, strings.TrimPrefix(to, "/")) {
				t.Errorf("%s imports %s", from, to)
			}
		}
	}
	if seen != len(rooms) {
		t.Errorf("%d rooms, and %d in the table", seen, len(rooms))
	}
}

func TestArrowsRunDownwards(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "./...").CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	seen := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		words := strings.Fields(line)
		from := room(words[0])
		if from == "internal" {
			continue // this test
		}
		may, known := arrows[from]
		if seen[from] = true; !known {
			t.Errorf("%s has no place in the house: give it one, here and in docs/architecture.md", words[0])
			continue
		}
		for _, to := range words[1:] {
			if to, ours := strings.CutPrefix(to, "kettletarn/"); ours {
				if to = room("kettletarn/" + to); to != from && to != "core" && !slices.Contains(may, to) {
					t.Errorf("%s imports %s", words[0], to)
				}
			} else if from == "core" && slices.Contains([]string{"net", "net/http", "os", "os/exec", "io/ioutil", "database/sql", "math/rand",
				"math/rand/v2"}, to) {
				t.Errorf("%s imports %s: the core does nothing outside", words[0], to)
			}
		}
	}
	for name := range arrows {
		if !seen[name] {
			t.Errorf("there is no %s any more", name)
		}
	}
}

// room is the folder below internal that a package is in, or its whole name where it is elsewhere.
func room(path string) string {
	inside, is := strings.CutPrefix(path, "kettletarn/internal/")
	if !is {
		return strings.TrimPrefix(path, "kettletarn/")
	}
	name, _, _ := strings.Cut(inside, "/")
	return name
}
