package media

import "math"

// loudness measures integrated loudness as ITU-R BS.1770-4 has it: two filters, the power of blocks of 400 ms that overlap by three
// quarters, and two gates. The filters are given there for 48 kHz; for other rates they are made from what they are in the analogue world.
type loudness struct {
	channels int
	weights  []float64
	shelf    biquad
	pass     biquad
	states   [][4]float64
	step     int // samples in 100 ms
	n        int
	power    []float64
	quarters []float64 // weighted power of each 100 ms
}

type biquad struct{ b0, b1, b2, a1, a2 float64 }

func newLoudness(rate, channels int) *loudness {
	l := &loudness{channels: channels, step: max(1, rate/10), states: make([][4]float64, channels), power: make([]float64, channels),
		weights: make([]float64, channels)}
	for c := range l.weights {
		l.weights[c] = 1
		if channels >= 5 && c >= channels-2 { // the surround channels of 5.0 and 5.1
			l.weights[c] = 1.41
		}
		if channels == 6 && c == 3 { // low frequency effects
			l.weights[c] = 0
		}
	}
	k := math.Tan(math.Pi * 1681.974450955533 / float64(rate))
	q, vh := 0.7071752369554196, math.Pow(10, 3.999843853973347/20)
	vb := math.Pow(vh, 0.4996667741545416)
	a0 := 1 + k/q + k*k
	l.shelf = biquad{(vh + vb*k/q + k*k) / a0, 2 * (k*k - vh) / a0, (vh - vb*k/q + k*k) / a0, 2 * (k*k - 1) / a0, (1 - k/q + k*k) / a0}
	k, q = math.Tan(math.Pi*38.13547087602444/float64(rate)), 0.5003270373238773
	a0 = 1 + k/q + k*k
	l.pass = biquad{1, -2, 1, 2 * (k*k - 1) / a0, (1 - k/q + k*k) / a0}
	return l
}

// run is one step of a filter, in the transposed direct form II.
func (f *biquad) run(x float64, s *[4]float64, at int) float64 {
	y := f.b0*x + s[at]
	s[at] = f.b1*x - f.a1*y + s[at+1]
	s[at+1] = f.b2*x - f.a2*y
	return y
}

func (l *loudness) add(block []float32) {
	for i := 0; i+l.channels <= len(block); i += l.channels {
		for c := range l.channels {
			s := &l.states[c]
			y := l.pass.run(l.shelf.run(float64(block[i+c]), s, 0), s, 2)
			l.power[c] += y * y
		}
		if l.n++; l.n == l.step {
			sum := 0.0
			for c := range l.power {
				sum += l.weights[c] * l.power[c] / float64(l.step)
				l.power[c] = 0
			}
			l.quarters, l.n = append(l.quarters, sum), 0
		}
	}
}

// integrated is in LUFS; -Inf where all of it is below the gate of -70 LUFS, or it is shorter than a block.
func (l *loudness) integrated() float64 {
	var blocks []float64
	for i := 0; i+4 <= len(l.quarters); i++ {
		blocks = append(blocks, (l.quarters[i]+l.quarters[i+1]+l.quarters[i+2]+l.quarters[i+3])/4)
	}
	of := func(power float64) float64 { return -0.691 + 10*math.Log10(power) }
	mean := func(gate float64) float64 {
		sum, n := 0.0, 0
		for _, b := range blocks {
			if of(b) > gate {
				sum, n = sum+b, n+1
			}
		}
		if n == 0 {
			return math.Inf(-1)
		}
		return of(sum / float64(n))
	}
	loud := mean(-70)
	if math.IsInf(loud, -1) {
		return loud
	}
	return mean(max(-70, loud-10))
}
