package rules

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"kettletarn/internal/core/assetpath"
)

// The lines of a git ignore file that Kettle Tarn keeps stand between these two. What git hides for that reason alone is an asset still:
// ParseGitIgnore leaves them out.
const (
	FenceBegin = "# kettle tarn: the assets, begin (kept by tarn; what stands outside is yours)"
	FenceEnd   = "# kettle tarn: the assets, end"
)

// fences finds the two lines: their first byte and the byte behind each. ok is false where there are none.
func fences(text []byte) (begin, end int, ok bool, err error) {
	begin, end = -1, -1
	at := 0
	for line := range bytes.Lines(text) {
		switch string(bytes.TrimRight(line, " \t\r\n")) {
		case FenceBegin:
			if begin >= 0 {
				return 0, 0, false, errors.New("the line that begins the block of assets is there twice; take one of the two blocks out")
			}
			begin = at
		case FenceEnd:
			if begin < 0 || end >= 0 {
				return 0, 0, false, errors.New("the line that ends the block of assets stands where no block is open; take it out")
			}
			end = at + len(line)
		}
		at += len(line)
	}
	if begin >= 0 && end < 0 {
		return 0, 0, false, fmt.Errorf("the line that ends the block of assets is gone; put it back (%s), or take the line that begins the "+
			"block out", FenceEnd)
	}
	return begin, end, begin >= 0, nil
}

// Fenced reports whether a git ignore file has the block.
func Fenced(text []byte) bool {
	_, _, ok, err := fences(text)
	return ok || err != nil
}

// Fence writes the block into a git ignore file: in place of the one that is there, or else at its beginning, so that what the team says
// stands behind it and prevails. No byte outside is touched. A block that is damaged is an error.
func Fence(text []byte, lines []string) ([]byte, error) {
	begin, end, ok, err := fences(text)
	if err != nil {
		return nil, err
	}
	eol := "\n"
	if i := bytes.IndexByte(text, '\n'); i > 0 && text[i-1] == '\r' {
		eol = "\r\n"
	}
	block := strings.Join(append(append([]string{FenceBegin}, lines...), FenceEnd), eol) + eol
	if !ok {
		if len(text) > 0 {
			block += eol
		}
		return append([]byte(block), text...), nil
	}
	return append(append(append([]byte{}, text[:begin]...), block...), text[end:]...), nil
}

// fencedLines tells which lines of a git ignore file, counted from 0, are the block.
func fencedLines(text []byte) (from, to int) {
	begin, end, ok, err := fences(text)
	if err != nil || !ok {
		return 0, 0
	}
	from = bytes.Count(text[:begin], []byte("\n"))
	return from, from + bytes.Count(text[begin:end], []byte("\n"))
}

// GitIgnore gives the patterns, in the language of git ignore files, that keep the assets out of git and hide nothing that the rules leave
// to the main history. Letters stand for both cases, since the rules take them for one. Two things can't be said in that language, and
// what they concern is left for git to see: where a pattern with "!" takes something back within one rule; and in a folder whose name ends
// like a file's that is an asset ("x.png/"), what a later rule would leave to the main history is hidden.
func (r *Rules) GitIgnore() []string {
	last := -1 // the last rule that leaves something to the main history
	for i := range r.List {
		if r.List[i].Kind == Code {
			last = i
		}
	}
	var out []string
	if r.Otherwise == Asset {
		out = append(out, "/**", "!/**/")
	}
	for i := range r.List {
		rule := &r.List[i]
		switch rule.Kind {
		case Asset:
			if len(rule.Match) == 1 && rule.Match[0] == "/"+File {
				continue // it is named below
			}
			back := -1 // the last pattern that takes something back
			for k := range rule.patterns {
				if rule.patterns[k].negated {
					back = k
				}
			}
			for k, p := range rule.patterns {
				if p.negated {
					out = append(out, p.shown()...)
				} else {
					out = append(out, p.hidden(i < last || k < back)...)
				}
			}
		case Code:
			for _, p := range rule.patterns {
				if !p.negated && len(out) > 0 {
					out = append(out, p.shown()...)
				}
			}
		}
	}
	return append(out, MarkerIgnore()...)
}

// MarkerIgnore are the patterns for what is the client's own in a workspace.
func MarkerIgnore() []string { return []string{"/" + File, "/" + assetpath.ReservedPrefix + "*"} }

// hidden are the lines that hide what a pattern matches. open says that something in a folder that it matches may be shown again: git never
// looks into a folder that is hidden as a whole.
func (p pattern) hidden(open bool) []string {
	glob, inside := p.forGit()
	at, below := p.anchored(glob)
	switch {
	case inside && open:
		return []string{below + "/**", "!" + below + "/**/"}
	case inside:
		return []string{at + "/"}
	case p.fileLike() || !open:
		return []string{at}
	}
	return []string{at, "!" + at + "/", below + "/**", "!" + below + "/**/"}
}

// shown are the lines that show it again.
func (p pattern) shown() []string {
	glob, inside := p.forGit()
	at, below := p.anchored(glob)
	switch {
	case inside:
		return []string{"!" + below + "/**"}
	case p.fileLike():
		return []string{"!" + at}
	}
	return []string{"!" + at, "!" + below + "/**"}
}

// fileLike reports whether a pattern is about the ends of names, which folders seldom have.
func (p pattern) fileLike() bool { return strings.HasPrefix(p.suffix, ".") }

// anchored is a glob as git wants it, alone and with something below it.
func (p pattern) anchored(glob string) (at, below string) {
	if p.placed {
		return "/" + glob, "/" + glob
	}
	if below = "**/" + glob; glob[0] == '#' || glob[0] == '!' {
		glob = `\` + glob
	}
	return glob, below
}

// forGit is the glob with both cases of each letter; inside says that it names a folder of which all that lies in it is meant.
func (p pattern) forGit() (glob string, inside bool) {
	glob, inside = strings.CutSuffix(p.glob, "/**/*")
	var b strings.Builder
	class := false
	for i := 0; i < len(glob); i++ {
		c := glob[i]
		letter := c >= 'a' && c <= 'z'
		switch {
		case c == '\\' && i+1 < len(glob):
			b.WriteByte(c)
			i++
			b.WriteByte(glob[i])
		case !class && c == '[':
			class = true
			b.WriteByte(c)
			if i+1 < len(glob) && (glob[i+1] == '!' || glob[i+1] == '^') {
				i++
				b.WriteByte('!')
			}
		case class && c == ']':
			class = false
			b.WriteByte(c)
		case class && i+2 < len(glob) && glob[i+1] == '-' && glob[i+2] != ']':
			b.WriteString(glob[i : i+3])
			if letter && glob[i+2] >= 'a' && glob[i+2] <= 'z' {
				b.WriteString(strings.ToUpper(glob[i : i+3]))
			}
			i += 2
		case class && letter:
			b.WriteByte(c)
			b.WriteByte(c - 'a' + 'A')
		case letter:
			b.WriteByte('[')
			b.WriteByte(c)
			b.WriteByte(c - 'a' + 'A')
			b.WriteByte(']')
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), inside || p.folders
}
