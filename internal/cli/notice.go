package cli

import (
	"strings"
	"unicode"
)

// notice is a text of nothing but letters, digits, spaces and the plainest signs: what of a teammate's words goes into a notice on
// Windows, where the notifier's library may put it into a script or a document. Nothing in it can end a quotation, begin a variable or
// name an entity, however it is used.
func notice(words string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case unicode.IsLetter(r), unicode.IsMark(r), r >= '0' && r <= '9', strings.ContainsRune(" .,:/_-", r):
			return r
		}
		return ' '
	}, words)
}
