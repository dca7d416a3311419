// Package spot reads and writes where on an asset a remark points: a place on a picture or a drawing, a point in a model, a moment in a
// sound, a line of a text, a part or a net of a schematic. A spot is kept and sent in the form that String gives.
package spot

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Kinds of spot.
const (
	Place  = "place"  // X and Y in percent of the width and of the height, from the upper left corner; Page of a document, from 1
	Point  = "point"  // X, Y and Z in the model's own units
	Moment = "moment" // At in seconds from the beginning
	Line   = "line"   // Line from 1
	Part   = "part"   // Name of a part, like R4
	Net    = "net"    // Name of a net, like GND
)

// Spot is one. Which fields mean something stands beside the kinds.
type Spot struct {
	Kind    string
	X, Y, Z float64
	At      float64
	Line    int
	Page    int // 0 where there are none, or it is the first
	Name    string
}

// ErrForm says how a spot is written.
var ErrForm = errors.New("a spot is a place (30%,45%, or page 2 30%,45%), a point (1.2,0,-3), a moment (0:12.5), a line (line 12), " +
	"a part (part R4) or a net (net GND)")

var (
	place  = regexp.MustCompile(`^(?:page (\d{1,5}) +)?(\d{1,3}(?:\.\d{1,4})?) ?% ?, ?(\d{1,3}(?:\.\d{1,4})?) ?%$`)
	point  = regexp.MustCompile(`^(-?\d{1,9}(?:\.\d{1,6})?) ?, ?(-?\d{1,9}(?:\.\d{1,6})?) ?, ?(-?\d{1,9}(?:\.\d{1,6})?)$`)
	moment = regexp.MustCompile(`^(?:(\d{1,3}):)?(\d{1,3}):(\d{1,2}(?:\.\d{1,3})?)$`)
	line   = regexp.MustCompile(`^line (\d{1,7})$`)
	named  = regexp.MustCompile(`^(part|net) (\S.*)$`)
)

// maxName is how long the name of a part or a net may be, in bytes.
const maxName = 200

// Parse reads a spot as somebody writes it. The error is ErrForm.
func Parse(text string) (Spot, error) {
	text = strings.TrimSpace(text)
	if !utf8.ValidString(text) || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return Spot{}, ErrForm
	}
	number := func(s string) float64 {
		n, _ := strconv.ParseFloat(s, 64)
		return n
	}
	if m := place.FindStringSubmatch(text); m != nil {
		s := Spot{Kind: Place, X: number(m[2]), Y: number(m[3])}
		page, _ := strconv.Atoi(m[1])
		if page > 1 {
			s.Page = page
		}
		if s.X <= 100 && s.Y <= 100 && (m[1] == "" || page > 0) {
			return s, nil
		}
		return Spot{}, ErrForm
	}
	if m := point.FindStringSubmatch(text); m != nil {
		return Spot{Kind: Point, X: number(m[1]), Y: number(m[2]), Z: number(m[3])}, nil
	}
	if m := moment.FindStringSubmatch(text); m != nil {
		minutes, seconds := number(m[2]), number(m[3])
		if seconds >= 60 || m[1] != "" && minutes >= 60 {
			return Spot{}, ErrForm
		}
		return Spot{Kind: Moment, At: math.Round((number(m[1])*3600+minutes*60+seconds)*1000) / 1000}, nil
	}
	if m := line.FindStringSubmatch(text); m != nil {
		if n, _ := strconv.Atoi(m[1]); n > 0 {
			return Spot{Kind: Line, Line: n}, nil
		}
		return Spot{}, ErrForm
	}
	if m := named.FindStringSubmatch(text); m != nil && len(m[2]) <= maxName {
		return Spot{Kind: m[1], Name: m[2]}, nil
	}
	return Spot{}, ErrForm
}

// String is the form in which a spot is kept: Parse reads it back.
func (s Spot) String() string {
	short := func(n float64, places int) string {
		text := strconv.FormatFloat(n, 'f', places, 64)
		if strings.Contains(text, ".") {
			text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
		}
		if text == "-0" {
			return "0"
		}
		return text
	}
	switch s.Kind {
	case Place:
		at := short(s.X, 4) + "%," + short(s.Y, 4) + "%"
		if s.Page > 1 {
			return fmt.Sprintf("page %d %s", s.Page, at)
		}
		return at
	case Point:
		return short(s.X, 6) + "," + short(s.Y, 6) + "," + short(s.Z, 6)
	case Moment:
		whole := math.Floor(s.At / 60)
		seconds := short(s.At-whole*60, 3)
		if at := strings.IndexByte(seconds+".", '.'); at < 2 {
			seconds = "0" + seconds
		}
		if whole >= 60 {
			return fmt.Sprintf("%d:%02d:%s", int(whole)/60, int(whole)%60, seconds)
		}
		return fmt.Sprintf("%d:%s", int(whole), seconds)
	case Line:
		return fmt.Sprintf("line %d", s.Line)
	case Part, Net:
		return s.Kind + " " + s.Name
	}
	return ""
}
