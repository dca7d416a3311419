package lines

import (
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff/lcs"
)

// Place is a stretch of lines that both sides of a merge changed, in two ways: from From to before To, from 0, in the text that they have
// in common; Here and There are what each made of it.
type Place struct {
	From  int      `json:"from"`
	To    int      `json:"to"`
	Here  []string `json:"here"`
	There []string `json:"there"`
}

// Merge puts the changes together that two texts make to a common one, line by line. Where both changed the same lines, or lines that
// touch, in two ways, that is a place, and here's lines stand in the text. What both changed alike is taken once.
func Merge(base, here, there []string) (text []string, places []Place) {
	ours, theirs := lcs.DiffLines(base, here), lcs.DiffLines(base, there)
	at := 0               // in base
	shift := [2]int{0, 0} // what lies at i in base, and is unchanged, lies at i + shift in each side
	for len(ours)+len(theirs) > 0 {
		// A stretch of base that changes which touch one another cover, together with what becomes of it on each side.
		from := len(base)
		for _, list := range [][]lcs.Diff{ours, theirs} {
			if len(list) > 0 {
				from = min(from, list[0].Start)
			}
		}
		to, took := from, [2]int{}
		for more := true; more; {
			more = false
			for side, list := range [][]lcs.Diff{ours, theirs} {
				if n := took[side]; n < len(list) && list[n].Start <= to {
					to, took[side], more = max(to, list[n].End), n+1, true
				}
			}
		}
		text = append(text, base[at:from]...)
		made := [2][]string{}
		for side, list := range [][]lcs.Diff{ours, theirs} {
			start, end := from+shift[side], to+shift[side]
			for _, d := range list[:took[side]] {
				end += (d.ReplEnd - d.ReplStart) - (d.End - d.Start)
			}
			shift[side] = end - to
			made[side] = [][]string{here, there}[side][start:end]
		}
		ours, theirs = ours[took[0]:], theirs[took[1]:]
		switch was := base[from:to]; {
		case slices.Equal(made[0], made[1]), slices.Equal(made[1], was):
			text = append(text, made[0]...)
		case slices.Equal(made[0], was):
			text = append(text, made[1]...)
		default:
			places = append(places, Place{from, to, slices.Clone(made[0]), slices.Clone(made[1])})
			text = append(text, made[0]...)
		}
		at = to
	}
	return append(text, base[at:]...), places
}

// Encode writes lines as UTF-8, each with an end, in the way of the text that like is: its byte order mark, and carriage returns where its
// first line has one.
func Encode(text []string, like []byte) []byte {
	end := "\n"
	if first, _, more := strings.Cut(string(like), "\n"); more && strings.HasSuffix(first, "\r") {
		end = "\r\n"
	}
	var out strings.Builder
	if strings.HasPrefix(string(like), "\ufeff") {
		out.WriteString("\ufeff")
	}
	for i, line := range text {
		out.WriteString(line)
		if i < len(text)-1 || len(like) == 0 || strings.HasSuffix(string(like), "\n") {
			out.WriteString(end)
		}
	}
	return []byte(out.String())
}
