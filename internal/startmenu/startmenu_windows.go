package startmenu

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/windows/registry"
)

// Links: "Registering an Application to a URI Scheme"; start at sign-in: "Run and RunOnce Registry Keys"; the start menu's entry is an
// Internet shortcut, a text file, which goes by the link.
const (
	schemeKey = `Software\Classes\tarn`
	runKey    = `Software\Microsoft\Windows\CurrentVersion\Run`
)

func entryFile() string {
	return filepath.Join(os.Getenv("APPDATA"), "Microsoft", "Windows", "Start Menu", "Programs", name+".url")
}

func set(key, value, text string) error {
	k, _, err := registry.CreateKey(registry.CURRENT_USER, key, registry.SET_VALUE)
	if err != nil {
		return err
	}
	defer k.Close()
	return k.SetStringValue(value, text)
}

// Install places the entries of a program.
func Install(program string) ([]Placed, error) {
	command := syscall.EscapeArg(program)
	for _, s := range [][3]string{
		{schemeKey, "", "URL:" + name}, {schemeKey, "URL Protocol", ""}, {schemeKey + `\shell\open\command`, "", command + ` desk "%1"`},
		{schemeKey + `\DefaultIcon`, "", command + ",0"}, {runKey, name, command + " desk --stay"},
	} {
		if err := set(s[0], s[1], s[2]); err != nil {
			return nil, err
		}
	}
	if err := os.MkdirAll(filepath.Dir(entryFile()), 0o755); err != nil {
		return nil, err
	}
	if err := os.WriteFile(entryFile(), []byte("[InternetShortcut]\r\nURL=tarn:open\r\n"), 0o644); err != nil {
		return nil, err
	}
	return []Placed{{"start menu", entryFile()}, {"start at sign-in", `HKCU\` + runKey}, {"links", `HKCU\` + schemeKey}}, nil
}

// Remove takes them away, and says which were there.
func Remove() ([]Placed, error) {
	placed := []Placed{}
	if err := os.Remove(entryFile()); err == nil {
		placed = append(placed, Placed{"start menu", entryFile()})
	} else if !errors.Is(err, fs.ErrNotExist) {
		return placed, err
	}
	if k, err := registry.OpenKey(registry.CURRENT_USER, runKey, registry.SET_VALUE); err == nil {
		defer k.Close()
		if err := k.DeleteValue(name); err == nil {
			placed = append(placed, Placed{"start at sign-in", `HKCU\` + runKey})
		} else if !errors.Is(err, registry.ErrNotExist) {
			return placed, err
		}
	}
	for i, key := range []string{`\shell\open\command`, `\shell\open`, `\shell`, `\DefaultIcon`, ""} {
		err := registry.DeleteKey(registry.CURRENT_USER, schemeKey+key)
		if err != nil && !errors.Is(err, registry.ErrNotExist) {
			return placed, err
		}
		if err == nil && i == 4 {
			placed = append(placed, Placed{"links", `HKCU\` + schemeKey})
		}
	}
	return placed, nil
}

// HasLinks says that there is a program for links of the scheme.
func HasLinks() bool {
	k, err := registry.OpenKey(registry.CURRENT_USER, schemeKey+`\shell\open\command`, registry.QUERY_VALUE)
	if err != nil {
		return false
	}
	_ = k.Close()
	return true
}
