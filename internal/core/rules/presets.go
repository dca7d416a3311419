package rules

import (
	"embed"
	"fmt"
	"io/fs"
	"strings"
	"sync"
)

//go:embed presets
var presetFiles embed.FS

// Preset is a layer of rules for a kind of work.
type Preset struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Text  string `json:"text"`
	rules []Rule
}

// Presets lists those that there are, by name.
func Presets() []Preset { return presets() }

var presets = sync.OnceValue(func() []Preset {
	names, err := fs.Glob(presetFiles, "presets/*.toml")
	if err != nil {
		panic(err)
	}
	var list []Preset
	for _, file := range names {
		text, err := presetFiles.ReadFile(file)
		if err != nil {
			panic(err)
		}
		p := Preset{Name: strings.TrimSuffix(strings.TrimPrefix(file, "presets/"), ".toml"), Text: string(text)}
		first, _, _ := strings.Cut(p.Text, "\n")
		p.About = strings.TrimPrefix(first, "# ")
		r, err := parse(text, "preset "+p.Name, nil)
		if err != nil {
			panic(fmt.Sprintf("preset %s: %v", p.Name, err))
		}
		p.rules = r.List[len(builtIn):]
		list = append(list, p)
	}
	return list
})

// CheckPreset returns nil for the name of a preset, and else an error that says which one was probably meant.
func CheckPreset(name string) error {
	if find(Presets(), name) != nil {
		return nil
	}
	return unknownPreset(name, Presets())
}

func find(list []Preset, name string) *Preset {
	for i := range list {
		if list[i].Name == name {
			return &list[i]
		}
	}
	return nil
}

// Propose names the presets that fit a folder with these paths: those that would make assets of some of them, beyond what the ones
// before make.
func Propose(paths []string) (names []string) {
	taken := map[string]bool{}
	for _, p := range Presets() {
		alone := &Rules{Otherwise: Code, List: p.rules}
		fresh := 0
		for _, path := range paths {
			if !taken[path] && alone.Decide(path).Kind == Asset {
				taken[path] = true
				fresh++
			}
		}
		if fresh > 0 {
			names = append(names, p.Name)
		}
	}
	return names
}

// Compose is the text of a new rules file.
func Compose(presets []string, otherwise string) string {
	var b strings.Builder
	b.WriteString("# What Kettle Tarn tracks in this project. The last rule that matches decides; patterns are as in git ignore files.\n")
	b.WriteString("# tarn rules test PATH says which line decides about a path, tarn rules preset what the presets say.\n\n")
	fmt.Fprintf(&b, "presets = [%s]\n", quoted(presets))
	if otherwise == Code {
		b.WriteString("\n# What no rule covers is left to the main history; binaries from this size on are pointed out.\notherwise = " +
			"\"code\"\npoint-out = \"5 MB\"\n")
	}
	return b.String()
}

func quoted(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = quote(s)
	}
	return strings.Join(out, ", ")
}

// quote writes a TOML string, literal where that can be read more easily.
func quote(s string) string {
	if !strings.ContainsAny(s, "'\n\r\x00") && strings.ContainsAny(s, `"\`) {
		return "'" + s + "'"
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// Include is the text with one more rule at its end, which makes an asset of exactly this path.
func Include(text []byte, path string) []byte {
	out := strings.TrimRight(string(text), "\n")
	if out != "" {
		out += "\n\n"
	}
	return []byte(out + "[[rule]]\nmatch = " + quote(Exactly(path)) + "\nkind = \"asset\"\n")
}

// Exactly is the pattern that matches one path and no other.
func Exactly(path string) string {
	p := "/" + strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(path)
	if strings.HasSuffix(p, " ") {
		p = p[:len(p)-1] + `\ `
	}
	return p
}
