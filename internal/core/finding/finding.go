// Package finding takes texts apart into the words that they are found by, and puts questions together out of them. It knows no language: a
// word is a run of letters and digits, folded as paths are.
package finding

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"kettletarn/internal/core/assetpath"
)

// Bounds of a question and of what something is found by: words, and the bytes of one.
const (
	MaxAsked = 8
	MaxWords = 400
	MaxWord  = 60
)

// Words are the words of texts, each once, in order, at most MaxWords. Numbers with commas between their thousands are one; from a thousand
// on they are found rounded, too: 204,311 as 204k, 4096 as 4k, 2,500,000 as 3m.
func Words(texts ...string) []string {
	found := map[string]bool{}
	for _, text := range texts {
		for _, w := range split(text) {
			if len(found) >= MaxWords {
				break
			}
			if len(w) > MaxWord {
				w = cut(w)
			}
			found[w] = true
			if n, err := strconv.ParseFloat(w, 64); err == nil && n >= 1000 && n < 1e15 {
				found[strconv.FormatFloat(math.Round(n/1000), 'f', 0, 64)+"k"] = true
				if n >= 1e6 {
					found[strconv.FormatFloat(math.Round(n/1e6), 'f', 0, 64)+"m"] = true
				}
			}
		}
	}
	list := make([]string, 0, len(found))
	for w := range found {
		list = append(list, w)
	}
	slices.Sort(list)
	return list
}

// Asked are the words of a question, in its order, at most MaxAsked.
func Asked(text string) (list []string) {
	for _, w := range split(text) {
		if len(w) > MaxWord {
			w = cut(w)
		}
		if len(list) < MaxAsked && !slices.Contains(list, w) {
			list = append(list, w)
		}
	}
	return list
}

// Query is a question in PostgreSQL's own form of one (tsquery): all of the words, each of which may go on. Words are those of Asked, which
// have nothing in them that means something there.
func Query(words []string) string {
	parts := make([]string, len(words))
	for i, w := range words {
		parts[i] = "'" + w + "':*"
	}
	return strings.Join(parts, " & ")
}

// split is text in folded words.
func split(text string) []string {
	runes := []rune(assetpath.Fold(strings.ToValidUTF8(text, " ")))
	digit := func(i int) bool { return i >= 0 && i < len(runes) && unicode.IsDigit(runes[i]) }
	var words []string
	var word strings.Builder
	end := func() {
		if word.Len() > 0 {
			words = append(words, word.String())
			word.Reset()
		}
	}
	for i, r := range runes {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r) && word.Len() > 0:
			word.WriteRune(r)
		case r == ',' && digit(i-1) && digit(i+1) && digit(i+2) && digit(i+3) && !digit(i+4):
			// between thousands
		default:
			end()
		}
	}
	end()
	return words
}

// cut is the beginning of a word that is too long.
func cut(w string) string {
	for i := range w {
		if i > MaxWord-4 {
			return w[:i]
		}
	}
	return w
}
