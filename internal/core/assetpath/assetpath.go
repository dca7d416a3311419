// Package assetpath decides, in one place, what a legal asset path is, and when two paths mean the same asset.
//
// An asset path is relative to the root of its project, uses "/" between its parts, and has to be writable on Linux, macOS and
// Windows alike, because a team uses all three. The service and the client run the same rules; neither trusts the other.
package assetpath

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/zeebo/blake3"
	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"kettletarn/internal/core/text"
)

// Limits in bytes of UTF-8, the smallest among the file systems in use.
const (
	MaxPart = 255
	MaxPath = 1024
)

// Marker is the file at the root of a workspace that ties the folder to its project. Everything whose name starts with
// ReservedPrefix belongs to the client and is never an asset.
const (
	Marker         = ".tarn-workspace"
	ReservedPrefix = ".tarn-"
)

// Problem says why a path can't be an asset's. Reason is a stable word; Message a sentence for people; Remedy what to do.
type Problem struct {
	Reason  string
	Message string
	Remedy  string
}

func (p *Problem) Error() string { return p.Message + "; " + p.Remedy }

func problem(reason, remedy, format string, args ...any) *Problem {
	return &Problem{Reason: reason, Message: fmt.Sprintf(format, args...), Remedy: remedy}
}

// Check returns nil for a legal asset path, and otherwise the first thing that is wrong with it.
func Check(path string) *Problem {
	const rename = "give it another name"
	switch {
	case path == "":
		return problem("path-empty", "name a file", "the path is empty")
	case len(path) > MaxPath:
		return problem("path-too-long", "use shorter names or fewer folders", "the path is %d bytes long, and the limit is %d", len(path),
			MaxPath)
	case !utf8.ValidString(path):
		return problem("path-not-text", rename, "the path %q is not valid UTF-8", path)
	case path[0] == '/':
		return problem("path-absolute", "name it from the root of the project", "%s is an absolute path", path)
	}
	for _, part := range strings.Split(path, "/") {
		if p := checkPart(part, path); p != nil {
			return p
		}
	}
	return nil
}

func checkPart(part, path string) *Problem {
	const rename = "give it another name"
	switch {
	case part == "":
		return problem("path-malformed", "use one slash between folders", "%q has an empty part", path)
	case part == "." || part == "..":
		return problem("path-outside", "name it from the root of the project, without dots", "%q leaves its folder with %q", path, part)
	case len(part) > MaxPart:
		return problem("path-too-long", "use a shorter name", "the name %s… is %d bytes long, and the limit is %d", firstRunes(part, 24),
			len(part), MaxPart)
	}
	for _, r := range part {
		switch {
		case r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069' || r == '\u200e' || r == '\u200f' || r == '\u061c':
			return problem("path-control-character", rename, "the name %q has an invisible mark that turns the writing direction", part)
		case r < 0x20 || r >= 0x7f && r < 0xa0 || r == '\u2028' || r == '\u2029':
			return problem("path-control-character", rename, "the name %q has a control character in it", part)
		case strings.ContainsRune(`\:*?"<>|`, r):
			return problem("path-character", rename, "the name %q has the character %q, which Windows can't take", part, r)
		}
	}
	if last := part[len(part)-1]; last == '.' || last == ' ' {
		return problem("path-trailing", rename, "the name %q ends in a dot or a space, which Windows drops", part)
	}
	plain := Alias(part)
	base, _, _ := strings.Cut(plain, ".")
	if devices[strings.TrimRight(base, " ")] {
		return problem("path-device", rename, "the name %q means a device on Windows", part)
	}
	if gitsOwn[plain] || shortAlias(plain, "git~") || shortAlias(plain, "gitatt~") || shortAlias(plain, "gitmod~") ||
		shortAlias(plain, "gi7eba~") || shortAlias(plain, "gi7d29~") {
		return problem("path-reserved", "leave it to git", "%q belongs to git's own files", path)
	}
	if strings.HasPrefix(plain, ReservedPrefix) || shortAlias(plain, "tarn-w~") || shortAlias(plain, "tarn-i~") {
		return problem("path-reserved", rename, "%q belongs to the workspace's own files", path)
	}
	return nil
}

// gitsOwn are the names under which git looks for what it runs or obeys. Beside the folder itself, these are the files that name programs
// and other repositories; a git ignore file only hides, and is a project's to keep.
var gitsOwn = map[string]bool{".git": true, ".gitattributes": true, ".gitmodules": true}

// Alias is the form in which paths are compared for standing in each other's way on a disk: Fold, without the code points that HFS+ leaves
// out of names. Two paths with one alias are not put beside each other.
func Alias(path string) string { return Fold(dropIgnorable(path)) }

// shortAlias reports whether name is prefix and digits: the short names that Windows invents for long ones.
func shortAlias(name, prefix string) bool {
	rest, ok := strings.CutPrefix(name, prefix)
	return ok && rest != "" && strings.Trim(rest, "0123456789") == ""
}

// dropIgnorable removes the invisible code points that HFS+ leaves out when it compares names.
func dropIgnorable(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '\u200c' && r <= '\u200f' || r >= '\u202a' && r <= '\u202e' || r >= '\u206a' && r <= '\u206f' || r == '\ufeff' {
			return -1
		}
		return r
	}, s)
}

var devices = func() map[string]bool {
	m := map[string]bool{"con": true, "prn": true, "aux": true, "nul": true, "conin$": true, "conout$": true, "clock$": true}
	for _, d := range []string{"0", "1", "2", "3", "4", "5", "6", "7", "8", "9", "¹", "²", "³"} {
		m["com"+d], m["lpt"+d] = true, true
	}
	return m
}()

// Fold maps a path to the form in which paths are compared: Unicode normalisation form C, then full case folding, then form C
// again. Two legal paths with the same folded form would be one file on some system. The tables are those of the version of
// golang.org/x/text that go.mod fixes; they are part of the format (docs/formats.md).
func Fold(path string) string {
	if plain := asciiLower(path); plain != "" || path == "" {
		return plain
	}
	return norm.NFC.String(cases.Fold().String(norm.NFC.String(path)))
}

// asciiLower is Fold for pure ASCII, and "" for anything else.
func asciiLower(s string) string {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return ""
		}
	}
	return strings.ToLower(s)
}

// Folders lists the folders above path, outermost first: "a/b/c.png" gives "a", "a/b".
func Folders(path string) []string {
	var out []string
	for i, r := range path {
		if r == '/' {
			out = append(out, path[:i])
		}
	}
	return out
}

func firstRunes(s string, n int) string {
	count := 0
	for i := range s {
		if count == n {
			return s[:i]
		}
		count++
	}
	return s
}

// Printable is what of a path, or of any text within a line, may be shown: see [text.Line].
func Printable(path string) string { return text.Line(path) }

// Fit is path where that is legal, and else a legal path that stands for it, always the same one. Each character that can't be is an
// underscore, a name that means a device has one behind it, what is too long is cut, and the name ends in "~" and six hex digits of the
// BLAKE3-256 of the whole path as it was, before its extension, so that two paths never come to stand for one.
func Fit(path string) string {
	if Check(path) == nil {
		return path
	}
	parts := strings.Split(strings.Trim(path, "/"), "/")
	fitted := parts[:0]
	for _, part := range parts {
		if part != "" && part != "." {
			fitted = append(fitted, fitPart(part))
		}
	}
	for len(fitted) > 1 && len(strings.Join(fitted, "/")) > MaxPath-16 {
		fitted = fitted[1:]
	}
	if len(fitted) == 0 {
		fitted = []string{"_"}
	}
	return mark(strings.Join(fitted, "/"), path)
}

// Mark is a path that stands for another one where that is taken by something else that would be one with it on some systems. It has the
// same form as what Fit gives.
func Mark(path string) string { return mark(path, path) }

func mark(path, of string) string {
	sum := blake3.Sum256([]byte(of))
	name := path[strings.LastIndexByte(path, '/')+1:]
	stem, ext := name, ""
	if i := strings.LastIndexByte(name, '.'); i > 0 && len(name)-i <= 32 {
		stem, ext = name[:i], name[i:]
	}
	return path[:len(path)-len(name)] + fmt.Sprintf("%s~%x%s", stem, sum[:3], ext)
}

func fitPart(part string) string {
	part = strings.Map(func(r rune) rune {
		if r == utf8.RuneError || r < 0x20 || r >= 0x7f && r < 0xa0 || r == '\u2028' || r == '\u2029' || strings.ContainsRune(`\:*?"<>|`, r) ||
			!text.Shown(r) {
			return '_'
		}
		return r
	}, part)
	const most = MaxPart - 16
	if len(part) > most {
		ext := part[max(strings.LastIndexByte(part, '.'), 0):]
		if len(ext) > 32 {
			ext = ""
		}
		part = strings.ToValidUTF8(part[:most-len(ext)], "") + ext
	}
	if last := part[len(part)-1]; last == '.' || last == ' ' {
		part = part[:len(part)-1] + "_"
	}
	switch p := checkPart(part, part); {
	case p == nil:
		return part
	case p.Reason == "path-device":
		stem, ext, dotted := strings.Cut(part, ".")
		if part = strings.TrimRight(stem, " ") + "_"; dotted {
			part += "." + ext
		}
	default:
		part = "_" + part
	}
	if checkPart(part, part) != nil {
		return "_"
	}
	return part
}

// Below reports whether a path is folder, or lies in it; everything does in "". Both are spelled, or both folded.
func Below(path, folder string) bool {
	return folder == "" || path == folder || strings.HasPrefix(path, folder) && len(path) > len(folder) && path[len(folder)] == '/'
}
