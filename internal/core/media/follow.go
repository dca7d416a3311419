package media

import (
	"math"
	"slices"

	"kettletarn/internal/core/spot"
)

// spots are the kinds of spot that there are on the kinds of asset. What is of no known kind may have any.
var spots = map[string][]string{
	Texture: {spot.Place}, Model: {spot.Point}, Sound: {spot.Moment}, Document: {spot.Place}, Text: {spot.Line}, Tabular: {spot.Line},
	Data: {spot.Line, spot.Place}, Schematic: {spot.Place, spot.Part, spot.Net}, Board: {spot.Place, spot.Part, spot.Net},
}

// Spots are the kinds of spot that there are on what has a name, nil for any.
func Spots(name string) []string { return spots[KindOf(name)] }

// Follow says where a spot that was set on one version of an asset is on another one, going by what both are; false where nothing says
// that it is there, too. Lines of texts are followed by package lines.
func Follow(at spot.Spot, was, is Report) (spot.Spot, bool) {
	if was.Kind != is.Kind || is.Trouble != "" {
		return at, false
	}
	switch at.Kind {
	case spot.Place:
		if was.Kind == Document {
			return at, max(at.Page, 1) <= is.Pages
		}
		if len(was.Frame) == 4 && len(is.Frame) == 4 {
			return moved(at, was.Frame, is.Frame)
		}
		// A picture of other proportions was cut, or turned.
		a, b := float64(was.Width)*float64(is.Height), float64(is.Width)*float64(was.Height)
		return at, a > 0 && math.Abs(a-b) <= max(a, b)/100
	case spot.Point:
		return at, len(is.Bounds) == 6 && inside(at, is.Bounds)
	case spot.Moment:
		return at, at.At <= is.Seconds
	case spot.Part:
		return at, slices.ContainsFunc(is.Parts, func(e Extent) bool { return e.Name == at.Name })
	case spot.Net:
		return at, slices.ContainsFunc(is.Nets, func(e Extent) bool { return e.Name == at.Name })
	}
	return at, false
}

// moved is a place on a drawing that shows another stretch of the same sheet.
func moved(at spot.Spot, was, is []float64) (spot.Spot, bool) {
	along := func(percent, low, high, low2, high2 float64) float64 {
		return math.Round((low+percent/100*(high-low)-low2)/(high2-low2)*1e6) / 1e4
	}
	at.X, at.Y = along(at.X, was[0], was[2], is[0], is[2]), along(at.Y, was[1], was[3], is[1], is[3])
	return at, at.X >= 0 && at.X <= 100 && at.Y >= 0 && at.Y <= 100
}

// inside reports whether a point lies within bounds, or no more than a hundredth of their size outside.
func inside(at spot.Spot, bounds []float64) bool {
	p := []float64{at.X, at.Y, at.Z}
	room := math.Hypot(math.Hypot(bounds[3]-bounds[0], bounds[4]-bounds[1]), bounds[5]-bounds[2]) / 100
	for k := range p {
		if p[k] < bounds[k]-room || p[k] > bounds[k+3]+room {
			return false
		}
	}
	return true
}
