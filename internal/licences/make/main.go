// Make writes the notices of everything that the two programs and the console are built upon, from the modules and packages themselves.
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
)

// part is a module of Go or a package of the console.
type part struct {
	name, version, folder string
}

func (p part) String() string { return p.name + " " + p.version }

func main() {
	text, err := notices()
	if err == nil {
		err = os.WriteFile("notices.txt", text, 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// parts are what is in the programs for any of the three systems, and in the console. It runs in a folder of the module root.
func parts(root string) ([]part, error) {
	found := map[part]bool{{name: "Go, its standard library and runtime", version: strings.TrimPrefix(runtime.Version(), "go"),
		folder: runtimeRoot()}: true}
	for _, system := range []string{"linux", "darwin", "windows"} {
		programs := []string{"./cmd/tarn"}
		if system == "linux" {
			programs = append(programs, "./cmd/tarnd")
		}
		cmd := exec.Command("go", append([]string{"list", "-deps", "-f",
			"{{with .Module}}{{if not .Main}}{{.Path}}\t{{.Version}}\t{{.Dir}}{{end}}{{end}}"}, programs...)...)
		cmd.Dir, cmd.Env = root, append(os.Environ(), "GOOS="+system)
		out, err := cmd.Output()
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(string(out)) {
			if f := strings.Split(strings.TrimSpace(line), "\t"); len(f) == 3 {
				found[part{f[0], f[1], f[2]}] = true
			}
		}
	}
	data, err := os.ReadFile(filepath.Join(root, "web", "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version             string
			Dev, Optional, Peer bool
		}
	}
	if err := json.Unmarshal(data, &lock); err != nil {
		return nil, err
	}
	for path, p := range lock.Packages {
		if at := strings.LastIndex(path, "node_modules/"); at >= 0 && !p.Dev && !p.Optional && !p.Peer {
			found[part{path[at+len("node_modules/"):], p.Version, filepath.Join(root, "web", path)}] = true
		}
	}
	list := make([]part, 0, len(found))
	for p := range found {
		list = append(list, p)
	}
	slices.SortFunc(list, func(a, b part) int { return strings.Compare(a.String(), b.String()) })
	return slices.CompactFunc(list, func(a, b part) bool { return a.String() == b.String() }), nil
}

func runtimeRoot() string {
	out, _ := exec.Command("go", "env", "GOROOT").Output()
	return strings.TrimSpace(string(out))
}

var named = regexp.MustCompile(`(?i)^((?:un)?licen[cs]e|copying|notice|copyright|patents)([-._].*)?$`)

// declared is what a package of the console says of its licence where it carries no text of it.
func declared(p part) (string, error) {
	data, err := os.ReadFile(filepath.Join(p.folder, "package.json"))
	var v struct {
		License string
		Author  any
	}
	if err == nil {
		err = json.Unmarshal(data, &v)
	}
	if err == nil && v.License == "" {
		err = errors.New("no licence is named")
	}
	if err != nil {
		return "", fmt.Errorf("%s has no licence in it: %w", p, err)
	}
	return strings.TrimSpace(fmt.Sprintf("Licence: %s, as its package says. %v", v.License, author(v.Author))), nil
}

func author(v any) string {
	switch v := v.(type) {
	case string:
		return "By " + v
	case map[string]any:
		return fmt.Sprint("By ", v["name"])
	}
	return ""
}

func notices() ([]byte, error) {
	list, err := parts(filepath.Join("..", ".."))
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, "Kettle Tarn is built upon the work of others, with thanks. Below are %d parts of tarn, tarnd and the console, and "+
		"then their licences.\n\n", len(list))
	var texts []string
	by := map[string][]string{}
	for _, p := range list {
		fmt.Fprintln(&out, p)
		entries, err := os.ReadDir(p.folder)
		if err != nil {
			return nil, err
		}
		any := false
		for _, e := range entries {
			if e.IsDir() || !named.MatchString(e.Name()) {
				continue
			}
			data, err := os.ReadFile(filepath.Join(p.folder, e.Name()))
			if err != nil {
				return nil, err
			}
			text := strings.TrimSpace(strings.ReplaceAll(string(data), "\r\n", "\n"))
			if _, known := by[text]; !known {
				texts = append(texts, text)
			}
			by[text], any = append(by[text], p.String()), true
		}
		if !any {
			text, err := declared(p)
			if err != nil {
				return nil, err
			}
			if _, known := by[text]; !known {
				texts = append(texts, text)
			}
			by[text] = append(by[text], p.String())
		}
	}
	for _, text := range texts {
		fmt.Fprintf(&out, "\n%s\n%s\n\n%s\n", strings.Repeat("=", 78), strings.Join(by[text], "\n"), text)
	}
	return out.Bytes(), nil
}
