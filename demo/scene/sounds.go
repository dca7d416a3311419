package scene

import (
	"bytes"
	"encoding/binary"
	"math"
	"math/rand/v2"
)

const rate = 44100

// Sound synthesises a WAV file, 16 bit, mono.
func Sound(name string, pass int) []byte {
	r := rand.New(rand.NewPCG(uint64(len(name)), uint64(pass)))
	low := 0.0
	hiss := func(cut float64) float64 {
		low += cut * (r.Float64()*2 - 1 - low)
		return low
	}
	seconds := 2.5
	var voice func(t float64) float64
	switch name {
	case "fog-horn":
		seconds = 4
		voice = func(t float64) float64 {
			f := (82 - 9*step(2.6, 3.2, t)) * (1 - 0.2*float64(min(pass, 2)))
			env := step(0, 0.25, t) * step(3.9, 3.1, t)
			s := 0.0
			for h := 1; h < 9; h++ {
				s += math.Sin(2*math.Pi*f*float64(h)*t+0.4*math.Sin(5*t)) / float64(h)
			}
			return env * (0.5*s + 0.06*hiss(0.2))
		}
	case "oar-stroke":
		voice = func(t float64) float64 {
			return hiss(0.05+0.3*step(0.2, 0.6, t)) * 3 * step(0.05, 0.5, t) * step(1.6+0.2*float64(pass), 0.7, t)
		}
	case "hull-creak":
		seconds -= 0.6 * float64(min(pass, 2))
		voice = func(t float64) float64 {
			f := 180 + 60*math.Sin(2.3*t) + 20*math.Sin(31*t)
			return 0.6 * math.Tanh(4*math.Sin(2*math.Pi*f*t)) * math.Pow(math.Sin(math.Pi*math.Min(1, t/(seconds-0.3))),
				2) * (0.4 + 0.6*hiss(0.01)*20)
		}
	case "gull-call":
		voice = func(t float64) float64 {
			c := math.Mod(t, 0.62)
			return 0.5 * math.Sin(2*math.Pi*(1500*c-900*c*c+700*float64(1+pass)*c)) * step(0, 0.05, c) * step(0.5, 0.3, c)
		}
	case "buoy-bell":
		voice = func(t float64) float64 {
			s := 0.0
			for i, f := range []float64{523, 1247, 1864, 2710} {
				s += math.Sin(2*math.Pi*f*(1-0.25*float64(min(pass, 2)))*t) * math.Exp(-t*(1.2+float64(i))/float64(1+pass)) / float64(i+1)
			}
			return 0.6 * s
		}
	default: // surf
		seconds = 6
		voice = func(t float64) float64 { return 3 * hiss(0.08) * (0.4 + 0.6*math.Pow(math.Sin(math.Pi*t/6), 2)) }
	}
	n := int(seconds * rate)
	var b bytes.Buffer
	for _, v := range []any{[]byte("RIFF"), uint32(36 + 2*n), []byte("WAVEfmt "), uint32(16), uint16(1), uint16(1), uint32(rate),
		uint32(2 * rate), uint16(2), uint16(16), []byte("data"), uint32(2 * n)} {
		_ = binary.Write(&b, binary.LittleEndian, v)
	}
	samples := make([]int16, n)
	for i := range samples {
		samples[i] = int16(math.Max(-1, math.Min(1, voice(float64(i)/rate))) * 32000)
	}
	_ = binary.Write(&b, binary.LittleEndian, samples)
	return b.Bytes()
}
