package rules

import (
	"errors"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"kettletarn/internal/core/assetpath"
)

// pattern is one pattern of a git ignore file, taken apart. glob is folded; it is matched against the whole of a path where the pattern
// is placed (has a slash before its end), and else against a name.
type pattern struct {
	text    string
	glob    string
	suffix  string // glob is "*" and this
	literal string // the part of a placed glob before its first wildcard
	head    string // what every match begins with, and tail what it ends with
	tail    string
	line    int
	negated bool
	placed  bool
	folders bool // matches folders only
	exact   bool // glob has no wildcard
}

var errEmptyPattern = errors.New("the pattern is empty")

// compile takes a pattern apart. Comments and blank lines of git ignore files are no patterns.
func compile(text string) (pattern, error) { return compileAs(text, assetpath.Fold) }

func compileAs(text string, fold func(string) string) (pattern, error) {
	p := pattern{text: text}
	if strings.ContainsAny(text, "\x00\n\r") {
		return p, errors.New("the pattern has a line break or a zero byte in it")
	}
	if len(text) > assetpath.MaxPath {
		return p, errors.New("the pattern is longer than a path may be")
	}
	glob := trimSpaces(text)
	if glob, p.negated = cut(glob, "!"); strings.HasPrefix(glob, `\!`) || strings.HasPrefix(glob, `\#`) {
		glob = glob[1:]
	}
	if trimmed, ok := strings.CutSuffix(glob, "/"); ok {
		glob, p.folders = trimmed, true
	}
	p.placed = strings.Contains(glob, "/")
	glob = strings.TrimPrefix(glob, "/")
	if glob == "" {
		return p, errEmptyPattern
	}
	// Braces are plain characters in git ignore files.
	glob = strings.NewReplacer("{", `\{`, "}", `\}`).Replace(fold(glob))
	if p.placed && strings.HasSuffix(glob, "/**") {
		glob += "/*" // what is in the folder, not the folder
	}
	p.glob, p.exact = glob, !strings.ContainsAny(glob, `*?[\`)
	p.literal = glob
	if i := strings.IndexAny(glob, `*?[\`); i >= 0 {
		p.literal = glob[:i]
	}
	// Beside a slash, ** may be nothing, and so may the slash.
	p.head = strings.TrimSuffix(p.literal, "/")
	p.tail = strings.TrimPrefix(glob[strings.LastIndexAny(glob, `*?]\`)+1:], "/")
	if rest, ok := strings.CutPrefix(glob, "*"); ok && !p.placed && !strings.ContainsAny(rest, `*?[\`) {
		p.suffix = rest
	}
	if !doublestar.ValidatePattern(glob) {
		return p, errors.New("the pattern is not a pattern: a bracket is not closed, or a backslash has nothing behind it")
	}
	return p, nil
}

func mustCompile(text string) pattern {
	p, err := compile(text)
	if err != nil {
		panic(err)
	}
	return p
}

func cut(s, prefix string) (string, bool) { return strings.CutPrefix(s, prefix) }

// trimSpaces drops spaces at the end, but for one behind a backslash.
func trimSpaces(s string) string {
	for strings.HasSuffix(s, " ") && !strings.HasSuffix(s, `\ `) {
		s = s[:len(s)-1]
	}
	return s
}

// match tries the pattern on a path, whose last part is name.
func (p *pattern) match(path, name string) bool {
	if !p.placed {
		path = name
	}
	switch {
	case p.exact:
		return path == p.glob
	case p.suffix != "":
		return strings.HasSuffix(path, p.suffix)
	case !strings.HasPrefix(path, p.head) || !strings.HasSuffix(path, p.tail):
		return false
	}
	ok, err := doublestar.Match(p.glob, path)
	return ok && err == nil
}

// GitIgnore is a git ignore file in a folder of the workspace ("" for its root).
type GitIgnore struct {
	folder   string
	name     string
	patterns []pattern
}

// ParseGitIgnore reads a git ignore file. A line that is no pattern is left out, as git does, and so is the block that Kettle Tarn keeps
// in it.
func ParseGitIgnore(folder string, text []byte) *GitIgnore {
	g := &GitIgnore{folder: folder, name: ".gitignore"}
	if folder != "" {
		g.name = folder + "/.gitignore"
	}
	from, to := fencedLines(text)
	for i, line := range strings.Split(string(text), "\n") {
		line = strings.TrimSuffix(line, "\r")
		if i >= from && i < to || line == "" || strings.HasPrefix(line, "#") || len(g.patterns) == MaxPatterns {
			continue
		}
		p, err := compileAs(line, func(s string) string { return s })
		if err != nil {
			continue
		}
		p.line = i + 1
		g.patterns = append(g.patterns, p)
	}
	return g
}

// Look says whether the file hides a path below its folder; said is false where no line of it matches. Only the path itself is looked
// at: whoever walks asks for each folder on the way.
func (g *GitIgnore) Look(path string, folder bool) (hidden, said bool, by Origin) {
	rel := path
	if g.folder != "" {
		rel = strings.TrimPrefix(path, g.folder+"/")
	}
	name := rel[strings.LastIndexByte(rel, '/')+1:]
	for i := len(g.patterns) - 1; i >= 0; i-- {
		p := &g.patterns[i]
		if (folder || !p.folders) && p.match(rel, name) {
			return !p.negated, true, Origin{In: g.name, Line: p.line, Pattern: p.text}
		}
	}
	return false, false, by
}

// Opens reports whether a rule names a place in a folder that a git ignore file hides, or the folder: the folder has to be looked into.
func (r *Rules) Opens(folder string) bool {
	f := assetpath.Fold(folder)
	for i := range r.List {
		if r.List[i].Kind == Asset && r.List[i].Origin.In != builtInName && r.List[i].mayLieIn(f) {
			return true
		}
	}
	return false
}

// Pattern is one pattern as the rules have them, for what else is chosen by its path: a name, a path with * and **, a folder with a slash
// behind it.
type Pattern struct{ p pattern }

// ParsePattern reads a pattern.
func ParsePattern(text string) (Pattern, error) {
	p, err := compile(text)
	if err == nil && p.negated {
		err = errors.New("a pattern that takes others back has no place here")
	}
	return Pattern{p}, err
}

// String is the pattern as it was written.
func (p Pattern) String() string { return p.p.text }

// Match reports whether a folded path, or a folder that it lies in, matches.
func (p Pattern) Match(folded string) bool {
	_, ok := newTarget(folded, false).matches(&p.p)
	return ok
}
