package assetpath

import (
	"regexp"
	"strings"
)

// IsGlob reports whether somebody means a pattern by a path.
func IsGlob(path string) bool { return strings.ContainsAny(path, "*?") }

// Glob is a pattern for whole folded paths as a regular expression that means the same to package regexp and to PostgreSQL: * is any part
// of a name, ** any number of folders, ? one character. A pattern without a slash stands for names in any folder.
func Glob(pattern string) string {
	pattern = Fold(strings.ToValidUTF8(strings.TrimPrefix(pattern, "./"), "\uFFFD"))
	if !strings.Contains(pattern, "/") {
		pattern = "**/" + pattern
	}
	var out strings.Builder
	out.WriteString("^")
	for len(pattern) > 0 {
		switch {
		case strings.HasPrefix(pattern, "**/"):
			out.WriteString("(.*/)?")
			for strings.HasPrefix(pattern, "**/") {
				pattern = pattern[3:] // any folders, and again any folders, are any folders
			}
		case strings.HasPrefix(pattern, "**"):
			out.WriteString(".*")
			pattern = strings.TrimLeft(pattern, "*")
		case pattern[0] == '*':
			out.WriteString("[^/]*")
			pattern = pattern[1:]
		case pattern[0] == '?':
			out.WriteString("[^/]")
			pattern = pattern[1:]
		default:
			n := strings.IndexAny(pattern, "*?")
			if n < 0 {
				n = len(pattern)
			}
			out.WriteString(regexp.QuoteMeta(pattern[:n]))
			pattern = pattern[n:]
		}
	}
	out.WriteString("$")
	return out.String()
}
