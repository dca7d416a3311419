package startmenu

import (
	"errors"
	"fmt"
	"html"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
)

// A link reaches a program on this system as an event, which only an application bundle gets: a small script, made by the system's own
// osacompile, hands it on. Start at sign-in is a launch agent (launchd.plist(5)).

func appFolder() (string, error) {
	home, err := os.UserHomeDir()
	return filepath.Join(home, "Applications", name+".app"), err
}

func agentFile() (string, error) {
	home, err := os.UserHomeDir()
	return filepath.Join(home, "Library", "LaunchAgents", "org.kettle-tarn.desk.plist"), err
}

// Install places the entries of a program.
func Install(program string) ([]Placed, error) {
	app, err := appFolder()
	if err != nil {
		return nil, err
	}
	agent, err := agentFile()
	if err != nil {
		return nil, err
	}
	for _, folder := range []string{filepath.Dir(app), filepath.Dir(agent)} {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return nil, err
		}
	}
	run := "do shell script quoted form of " + strconv.Quote(program) + " & \" desk "
	script := "on run\n" + run + "> /dev/null 2>&1 &\"\nend run\non open location link\n" + run +
		"\" & quoted form of link & \" > /dev/null 2>&1 &\"\nend open location\n"
	if out, err := exec.Command("osacompile", "-o", app, "-e", script).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("the application could not be made: %w: %s", err, out)
	}
	plist := filepath.Join(app, "Contents", "Info.plist")
	for _, change := range []string{"Add :CFBundleURLTypes array", "Add :CFBundleURLTypes:0 dict",
		"Add :CFBundleURLTypes:0:CFBundleURLName string " + name, "Add :CFBundleURLTypes:0:CFBundleURLSchemes array",
		"Add :CFBundleURLTypes:0:CFBundleURLSchemes:0 string tarn", "Set :CFBundleIdentifier org.kettle-tarn.desk"} {
		if out, err := exec.Command("/usr/libexec/PlistBuddy", "-c", change, plist).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%s: %w: %s", change, err, out)
		}
	}
	text := `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0"><dict><key>Label</key><string>org.kettle-tarn.desk</string><key>ProgramArguments</key><array><string>` +
		html.EscapeString(program) + `</string><string>desk</string><string>--stay</string></array><key>RunAtLoad</key><true/></dict></plist>
`
	if err := os.WriteFile(agent, []byte(text), 0o644); err != nil {
		return nil, err
	}
	return []Placed{{"application, and links", app}, {"start at sign-in", agent}}, nil
}

// Remove takes them away, and says which were there.
func Remove() ([]Placed, error) {
	placed := []Placed{}
	app, err := appFolder()
	if err != nil {
		return placed, err
	}
	agent, err := agentFile()
	if err != nil {
		return placed, err
	}
	if _, err := os.Lstat(app); err == nil {
		if err := os.RemoveAll(app); err != nil {
			return placed, err
		}
		placed = append(placed, Placed{"application, and links", app})
	}
	if err := os.Remove(agent); err == nil {
		placed = append(placed, Placed{"start at sign-in", agent})
	} else if !errors.Is(err, fs.ErrNotExist) {
		return placed, err
	}
	return placed, nil
}
