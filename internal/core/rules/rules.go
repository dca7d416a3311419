// Package rules reads tarn.toml, the file at the root of a project that says what is tracked. At this stage it knows one key,
// ignore; a key that it does not know is an error, so that a misspelt rule is never silently without effect.
package rules

import (
	"errors"
	"fmt"
	"sort"
	"strings"

	"github.com/BurntSushi/toml"
	ignore "github.com/sabhiram/go-gitignore"
)

// File is the name of the rules file at the root of a project.
const File = "tarn.toml"

// MaxSize is the largest rules file that is read, in bytes.
const MaxSize = 1 << 20

// always stays out of every project: what file managers leave behind.
var always = []string{".DS_Store", "Thumbs.db", "desktop.ini", "._*", "*~", ".fuse_hidden*", ".nfs*"}

// Rules decide what stays out. The zero value is not usable; see Parse and Default. Safe for concurrent use.
type Rules struct {
	matcher *ignore.GitIgnore
}

// Default is what applies without a rules file.
func Default() *Rules { return compile(nil) }

func compile(patterns []string) *Rules {
	return &Rules{matcher: ignore.CompileIgnoreLines(append(append([]string{}, always...), patterns...)...)}
}

// Parse reads a rules file. Its errors name the line, and fit after "tarn.toml: ".
func Parse(text []byte) (*Rules, error) {
	if len(text) > MaxSize {
		return nil, fmt.Errorf("the file is larger than %d bytes", MaxSize)
	}
	var file struct {
		Ignore []string `toml:"ignore"`
	}
	meta, err := toml.Decode(string(text), &file)
	if err != nil {
		var parse toml.ParseError
		if errors.As(err, &parse) {
			return nil, fmt.Errorf("line %d: %s", parse.Position.Line, parse.Message)
		}
		return nil, errors.New(strings.TrimPrefix(err.Error(), "toml: "))
	}
	if unknown := meta.Undecoded(); len(unknown) > 0 {
		names := make([]string, len(unknown))
		for i, key := range unknown {
			names[i] = key.String()
		}
		sort.Strings(names)
		return nil, fmt.Errorf("the key %q is not known; at this stage there is one: ignore = [\"pattern\", …]", names[0])
	}
	for _, p := range file.Ignore {
		if strings.ContainsAny(p, "\x00\n\r") {
			return nil, fmt.Errorf("the pattern %q has a line break or a zero byte in it", p)
		}
	}
	return compile(file.Ignore), nil
}

// Ignored reports whether a path stays out. A folder is named without a slash at its end.
func (r *Rules) Ignored(path string, folder bool) bool {
	if path == File {
		return false
	}
	if folder {
		path += "/"
	}
	return r.matcher.MatchesPath(path)
}
