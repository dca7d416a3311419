// Package forecast says from how something grew when it will reach a limit: by a robust line through the measurements (Theil, 1950; Sen,
// "Estimates of the regression coefficient based on Kendall's tau", JASA 63, 1968), and by the spread of the lines through any two of them.
package forecast

import (
	"slices"
	"time"
)

// Point is a measurement.
type Point struct {
	At    time.Time
	Value float64
}

// Growth is how something grows: a day, in the middle, and slowly and fast, which nine of ten of the lines through two measurements lie
// above and below.
type Growth struct {
	PerDay, Slow, Fast float64
}

// Bounds of what a forecast is made from: fewer points, or a shorter span, say nothing; of more points some are left out evenly.
const (
	leastPoints = 4
	leastSpan   = 72 * time.Hour
	mostPoints  = 400
)

// Of is how something grew; ok is false where there is too little to say. points are in the order of their times.
func Of(points []Point) (g Growth, ok bool) {
	if len(points) < leastPoints || points[len(points)-1].At.Sub(points[0].At) < leastSpan {
		return g, false
	}
	if n := len(points); n > mostPoints {
		thin := make([]Point, 0, mostPoints)
		for i := range mostPoints {
			thin = append(thin, points[i*(n-1)/(mostPoints-1)])
		}
		points = thin
	}
	var slopes []float64
	for i, a := range points {
		for _, b := range points[i+1:] {
			if days := b.At.Sub(a.At).Hours() / 24; days > 0 {
				slopes = append(slopes, (b.Value-a.Value)/days)
			}
		}
	}
	if len(slopes) == 0 {
		return g, false
	}
	slices.Sort(slopes)
	at := func(share float64) float64 { return slopes[int(share*float64(len(slopes)-1)+0.5)] }
	return Growth{PerDay: at(0.5), Slow: at(0.1), Fast: at(0.9)}, true
}

// farthest is how far ahead anything is said.
const farthest = 10 * 365 * 24 * time.Hour

// Reaches says when a value that is now and grows so reaches a limit: likely, at the earliest, and at the latest. One that is not
// foreseeable, or farther than ten years, is the zero time.
func (g Growth) Reaches(now Point, limit float64) (likely, earliest, latest time.Time) {
	when := func(perDay float64) time.Time {
		left := limit - now.Value
		if left <= 0 {
			return now.At
		}
		if perDay <= 0 || left/perDay > farthest.Hours()/24 {
			return time.Time{}
		}
		return now.At.Add(time.Duration(left / perDay * 24 * float64(time.Hour)))
	}
	return when(g.PerDay), when(g.Fast), when(g.Slow)
}
