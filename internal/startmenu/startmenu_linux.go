package startmenu

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/adrg/xdg"

	"kettletarn/web"
)

// The freedesktop.org specifications: Desktop Entry 1.5, Desktop Application Autostart 0.5, Icon Theme 0.13, Association between MIME types
// and applications 1.0.

func entryFile() string {
	return filepath.Join(xdg.DataHome, "applications", id+".desktop")
}
func startFile() string {
	return filepath.Join(xdg.ConfigHome, "autostart", id+"-desk.desktop")
}
func iconFile() string {
	return filepath.Join(xdg.DataHome, "icons", "hicolor", "scalable", "apps", id+".svg")
}

// quoted is an argument in Exec (Desktop Entry, "The Exec key").
func quoted(arg string) string {
	inner := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "`", "\\`", "$", `\$`).Replace(arg)
	return strings.ReplaceAll(`"`+strings.ReplaceAll(inner, "%", "%%")+`"`, `\`, `\\`)
}

// Install places the entries of a program.
func Install(program string) ([]Placed, error) {
	icon, err := fs.ReadFile(web.Files(), "tarn.svg")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	entry := "[Desktop Entry]\nType=Application\nVersion=1.5\nName=" + name + "\nComment=Your work, your locks, and what came in\n" +
		"Exec=" + quoted(program) + " desk %u\nIcon=" + id + "\nTerminal=false\nCategories=Graphics;Development;\n" +
		"MimeType=x-scheme-handler/tarn;\nStartupNotify=true\n"
	start := "[Desktop Entry]\nType=Application\nVersion=1.5\nName=" + name + "\nComment=Watches your workspaces\nExec=" + quoted(program) +
		" desk --stay\nIcon=" + id + "\nTerminal=false\nNoDisplay=true\n"
	for _, f := range []struct {
		name string
		text []byte
	}{{iconFile(), icon}, {entryFile(), []byte(entry)}, {startFile(), []byte(start)}} {
		if err := os.MkdirAll(filepath.Dir(f.name), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(f.name, f.text, 0o644); err != nil {
			return nil, err
		}
	}
	placed := []Placed{{"start menu", entryFile()}, {"start at sign-in", startFile()}}
	if noteEntries() {
		placed = append(placed, Placed{"links", "tarn: opens " + name})
	}
	return placed, nil
}

// noteEntries has the desktop note which entries there are for which links (Desktop Entry, "MimeType"), where it has the tool for that.
func noteEntries() bool {
	path, err := exec.LookPath("update-desktop-database")
	return err == nil && exec.Command(path, filepath.Dir(entryFile())).Run() == nil
}

// Remove takes them away, and says which were there.
func Remove() ([]Placed, error) {
	placed := []Placed{}
	for _, p := range []Placed{{"start menu", entryFile()}, {"start at sign-in", startFile()}, {"icon", iconFile()}} {
		err := os.Remove(p.Where)
		switch {
		case err == nil:
			placed = append(placed, p)
		case !errors.Is(err, fs.ErrNotExist):
			return placed, err
		}
	}
	if len(placed) > 0 {
		noteEntries()
	}
	return placed, nil
}
