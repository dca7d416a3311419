package forecast

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

var start = time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC)

func series(days int, value func(day int) float64) []Point {
	var list []Point
	for d := range days {
		list = append(list, Point{start.AddDate(0, 0, d), value(d)})
	}
	return list
}

// TestForecasts holds what is foreseen to histories whose end is known.
func TestForecasts(t *testing.T) {
	// A straight line is foreseen to the hour.
	line := series(28, func(d int) float64 { return 100 + 10*float64(d) })
	g, ok := Of(line)
	if !ok || math.Abs(g.PerDay-10) > 1e-9 || math.Abs(g.Slow-10) > 1e-9 || math.Abs(g.Fast-10) > 1e-9 {
		t.Fatalf("%+v, %v", g, ok)
	}
	likely, earliest, latest := g.Reaches(line[27], 470)
	if want := start.AddDate(0, 0, 37); likely.Sub(want).Abs() > time.Second || !likely.Equal(earliest) || !likely.Equal(latest) {
		t.Errorf("%s, want %s (%s to %s)", likely, want, earliest, latest)
	}
	// One day on which much came, and one on which much was removed, move it little.
	jumps := series(28, func(d int) float64 {
		v := 100 + 10*float64(d)
		if d == 9 {
			v += 5000
		}
		if d == 20 {
			v -= 90
		}
		return v
	})
	if g, ok := Of(jumps); !ok || math.Abs(g.PerDay-10) > 0.5 {
		t.Errorf("%+v", g)
	}
	// With noise the true day lies within the spread, most of the time.
	within, all := 0, 200
	for seed := range all {
		r := rand.New(rand.NewPCG(uint64(seed), 1))
		level := 100.0
		noisy := series(35, func(int) float64 { level += 10 + 6*r.NormFloat64(); return level })
		g, ok := Of(noisy)
		if !ok {
			t.Fatal("nothing is foreseen")
		}
		true_, limit := noisy[34].At.AddDate(0, 0, 30), noisy[34].Value+300
		likely, earliest, latest := g.Reaches(noisy[34], limit)
		if earliest.After(likely) || !latest.IsZero() && latest.Before(likely) {
			t.Fatalf("%s, %s, %s", earliest, likely, latest)
		}
		if !earliest.After(true_) && (latest.IsZero() || !latest.Before(true_)) {
			within++
		}
	}
	if within < all*9/10 {
		t.Errorf("the true day is within the spread %d times of %d", within, all)
	}
	// What does not grow is never full; what is full is so now; too little says nothing.
	flat := series(28, func(int) float64 { return 100 })
	if g, ok := Of(flat); !ok {
		t.Error("nothing is said of what stays")
	} else if likely, _, _ := g.Reaches(flat[27], 200); !likely.IsZero() {
		t.Errorf("%s", likely)
	} else if likely, _, _ := g.Reaches(flat[27], 100); !likely.Equal(flat[27].At) {
		t.Errorf("%s", likely)
	}
	for _, few := range [][]Point{nil, line[:3], {{start, 1}, {start, 2}, {start, 3}, {start, 4}, {start.Add(time.Hour), 5}}} {
		if _, ok := Of(few); ok {
			t.Errorf("something is foreseen from %d points", len(few))
		}
	}
	if g, ok := Of(series(3000, func(d int) float64 { return float64(d) })); !ok || math.Abs(g.PerDay-1) > 1e-9 {
		t.Errorf("%+v", g)
	}
}
