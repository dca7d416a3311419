package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	"io"
	"math"
	"time"

	"gonum.org/v1/gonum/dsp/fourier"
)

// Limits of a sound: channels, samples a channel, and bytes of it that go to a page to be played.
const (
	maxChannels = 16
	maxSamples  = 4 * 3600 * 192000
	maxPlayed   = 96 << 20
)

// sound is a sound that is read from its start, as often as wanted. length is in samples a channel.
type sound struct {
	format   string
	rate     int
	channels int
	depth    string
	length   int64
	play     func() (samples, error)
}

// samples gives a sound piece by piece: up to len(block)/channels samples of all channels in turn, from -1 to 1. At the end it gives
// io.EOF.
type samples interface {
	next(block []float32) (n int, err error)
}

func readSound(s Subject) (seen, error) {
	if s.Size > maxSound {
		return nil, unreadable("it is larger than what is looked into")
	}
	var one *sound
	var err error
	switch s.ext() {
	case ".wav":
		one, err = readWAV(s)
	case ".flac":
		one, err = readFLAC(s)
	case ".mp3":
		one, err = readMP3(s)
	default:
		one, err = readOgg(s)
	}
	if err != nil {
		return nil, err
	}
	if one.rate < 1000 || one.rate > 768000 || one.channels < 1 || one.channels > maxChannels || one.length < 0 || one.length > maxSamples {
		return nil, unreadable("it says that it has %d channels, %d Hz and %d samples", one.channels, one.rate, one.length)
	}
	return one, nil
}

// heard is what one listening to a sound finds out.
type heard struct {
	length   int64
	peak     float64
	loudness float64
	clipped  int
	low      []float32 // of columns of the waveform
	high     []float32
	spectrum [][]float64 // of columns of the spectrogram, in dB
}

const (
	waveWidth = 1200
	window    = 2048
)

// listen reads a sound once.
func (o *sound) listen(each func([]float32) error) (*heard, error) {
	in, err := o.play()
	if err != nil {
		return nil, err
	}
	h := &heard{low: make([]float32, waveWidth), high: make([]float32, waveWidth)}
	meter := newLoudness(o.rate, o.channels)
	block := make([]float32, 4096/o.channels*o.channels)
	columns := newSpectra(o.length)
	runs := make([]int, o.channels)
	for {
		n, err := in.next(block)
		for i := 0; i < n; i += o.channels {
			mono := float32(0)
			column := min(waveWidth-1, int(h.length*waveWidth/max(1, o.length)))
			for c := range min(o.channels, n-i) {
				v := block[i+c]
				mono += v / float32(o.channels)
				h.peak = max(h.peak, math.Abs(float64(v)))
				h.low[column], h.high[column] = min(h.low[column], v), max(h.high[column], v)
				if math.Abs(float64(v)) >= 0.99996 {
					if runs[c]++; runs[c] == 3 {
						h.clipped++
					}
				} else {
					runs[c] = 0
				}
			}
			columns.add(mono)
			h.length++
		}
		meter.add(block[:n])
		if each != nil && n > 0 {
			if err := each(block[:n]); err != nil {
				return nil, err
			}
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		if h.length > maxSamples {
			return nil, unreadable("it does not end")
		}
	}
	h.loudness, h.spectrum = meter.integrated(), columns.done()
	return h, nil
}

func (o *sound) report(d Drawn) (Report, error) {
	r := Report{Kind: Sound, Format: o.format, Seconds: float64(o.length) / float64(o.rate)}
	facts := func() []Fact {
		return []Fact{{"format", o.format}, {"length", clock(r.Seconds)}, {"rate", fmt.Sprintf("%s Hz", number(o.rate))},
			{"channels", channelWords(o.channels)}, {"samples", o.depth}}
	}
	var wav *wavWriter
	if o.length*int64(min(o.channels, 2))*2 <= maxPlayed {
		wav = &wavWriter{channels: o.channels}
	}
	h, err := o.listen(func(block []float32) error {
		if wav != nil {
			wav.add(block)
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	o.length = h.length
	r.Seconds, r.Print = float64(h.length)/float64(o.rate), soundPrint(h.spectrum, o.rate)
	loud := "below −70 LUFS"
	if !math.IsInf(h.loudness, -1) {
		loud = fmt.Sprintf("%.1f LUFS", h.loudness)
	}
	clipping := "none"
	if h.clipped > 0 {
		clipping = fmt.Sprintf("%s places", number(h.clipped))
	}
	r.Facts = append(facts(), Fact{"peak", decibels(h.peak)}, Fact{"loudness", loud}, Fact{"clipping", clipping})
	if wav != nil {
		d["sound.wav"] = Drawing{data: wav.done(o.rate)}
	}
	d.png("spectrogram.png", drawSpectrum(h.spectrum, o.rate))
	d.png("whole.png", drawWave(h))
	return r, nil
}

func clock(seconds float64) string {
	if seconds < 60 {
		return fmt.Sprintf("%.2f s", seconds)
	}
	return time.Duration(seconds * float64(time.Second)).Round(10 * time.Millisecond).String()
}

func channelWords(n int) string {
	switch n {
	case 1:
		return "1 (mono)"
	case 2:
		return "2 (stereo)"
	}
	return fmt.Sprint(n)
}

func decibels(amplitude float64) string {
	if amplitude == 0 {
		return "silence"
	}
	return fmt.Sprintf("%.1f dBFS", math.Round(200*math.Log10(amplitude))/10+0)
}

func (o *sound) compare(after seen, c *Comparison, _ Drawn) error {
	other := after.(*sound)
	if o.rate != other.rate || o.channels != other.channels {
		return nil
	}
	a, err := o.play()
	if err != nil {
		return err
	}
	b, err := other.play()
	if err != nil {
		return err
	}
	x, y := newPieces(a, o.channels), newPieces(b, other.channels)
	var n, changed, first int64 = 0, 0, -1
	sum := 0.0
	for {
		u, err1 := x.one()
		v, err2 := y.one()
		if err1 == io.EOF && err2 == io.EOF {
			break
		}
		if err1 != nil && err1 != io.EOF || err2 != nil && err2 != io.EOF {
			return errors.Join(err1, err2)
		}
		if u != v {
			changed++
			if first < 0 {
				first = n
			}
		}
		sum += float64(u-v) * float64(u-v)
		n++
	}
	c.Same = changed == 0
	c.Measures = append(c.Measures, Fact{"samples changed", percent(float64(changed) / float64(max(n, 1)))})
	if changed > 0 {
		c.Measures = append(c.Measures, Fact{"first difference at", clock(float64(first/int64(o.channels)) / float64(o.rate))},
			Fact{"level of the difference", decibels(math.Sqrt(sum / float64(n)))})
	}
	return nil
}

// pieces gives a sound sample by sample; behind its end it is silence.
type pieces struct {
	in    samples
	block []float32
	have  []float32
	ended bool
}

func newPieces(in samples, channels int) *pieces {
	return &pieces{in: in, block: make([]float32, 4096/channels*channels)}
}

func (p *pieces) one() (float32, error) {
	for len(p.have) == 0 {
		if p.ended {
			return 0, io.EOF
		}
		n, err := p.in.next(p.block)
		if p.have = p.block[:n]; err == io.EOF {
			p.ended = true
		} else if err != nil {
			return 0, err
		}
	}
	v := p.have[0]
	p.have = p.have[1:]
	return v, nil
}

// wavWriter makes a WAV of 16 bits for a page to play; of more than two channels the first two.
type wavWriter struct {
	channels int
	data     []byte
}

func (w *wavWriter) add(block []float32) {
	for i := 0; i+w.channels <= len(block); i += w.channels {
		for c := range min(w.channels, 2) {
			v := math.Max(-1, math.Min(1, float64(block[i+c])))
			w.data = binary.LittleEndian.AppendUint16(w.data, uint16(int16(v*32767)))
		}
	}
}

func (w *wavWriter) done(rate int) []byte {
	n := min(w.channels, 2)
	out := append([]byte("RIFF"), binary.LittleEndian.AppendUint32(nil, uint32(36+len(w.data)))...)
	out = append(out, "WAVEfmt \x10\x00\x00\x00\x01\x00"...)
	out = binary.LittleEndian.AppendUint16(out, uint16(n))
	out = binary.LittleEndian.AppendUint32(out, uint32(rate))
	out = binary.LittleEndian.AppendUint32(out, uint32(rate*n*2))
	out = binary.LittleEndian.AppendUint16(out, uint16(n*2))
	out = append(out, "\x10\x00data"...)
	out = binary.LittleEndian.AppendUint32(out, uint32(len(w.data)))
	return append(out, w.data...)
}

// spectra takes spectra at evenly spread places while a sound goes by.
type spectra struct {
	step    int64
	at      int64
	ring    []float64
	fft     *fourier.FFT
	weights []float64 // Hann's window
	block   []float64
	lines   []complex128
	columns [][]float64
}

func newSpectra(length int64) *spectra {
	s := &spectra{step: max(length/waveWidth, window/8), ring: make([]float64, window), fft: fourier.NewFFT(window),
		weights: make([]float64, window), block: make([]float64, window)}
	for i := range s.weights {
		s.weights[i] = 0.5 - 0.5*math.Cos(2*math.Pi*float64(i)/window)
	}
	return s
}

func (s *spectra) add(v float32) {
	s.ring[s.at%window] = float64(v)
	s.at++
	if s.at%s.step == 0 && len(s.columns) < 4*waveWidth {
		s.take()
	}
}

func (s *spectra) take() {
	for i, weight := range s.weights {
		s.block[i] = s.ring[(s.at+int64(i))%window] * weight
	}
	s.lines = s.fft.Coefficients(s.lines, s.block)
	column := make([]float64, len(s.lines))
	for i, c := range s.lines {
		column[i] = 10 * math.Log10((real(c)*real(c)+imag(c)*imag(c))/(window/4*window/4)+1e-18)
	}
	s.columns = append(s.columns, column)
}

func (s *spectra) done() [][]float64 {
	if len(s.columns) == 0 {
		s.take()
	}
	return s.columns
}

func drawWave(h *heard) image.Image {
	const height = 320
	c := newCanvas(waveWidth, height)
	for x := range waveWidth {
		c.SetRGBA(x, height/2, gridLine)
	}
	for x := range waveWidth {
		top, bottom := int(float64(height/2)*(1-float64(min(h.high[x], 1)))), int(float64(height/2)*(1-float64(max(h.low[x], -1))))
		for y := max(top, 0); y <= min(bottom, height-1); y++ {
			ink := went
			if h.high[x] >= 0.99996 || h.low[x] <= -0.99996 {
				ink = came
			}
			c.SetRGBA(x, y, ink)
		}
	}
	return c.RGBA
}

// drawSpectrum draws 20 Hz to half the rate, each octave as high as the next, from -90 to 0 dB.
func drawSpectrum(columns [][]float64, rate int) image.Image {
	const height = 320
	m := image.NewNRGBA(image.Rect(0, 0, waveWidth, height))
	low, high := math.Log(20), math.Log(float64(rate)/2)
	for y := range height {
		f := math.Exp(high - (high-low)*float64(y)/height)
		bin := f / float64(rate) * window
		for x := range waveWidth {
			column := columns[min(len(columns)-1, x*len(columns)/waveWidth)]
			i := min(int(bin), len(column)-2)
			v := column[i] + (column[i+1]-column[i])*(bin-float64(i))
			m.SetNRGBA(x, y, glow(math.Max(0, math.Min(1, (v+90)/90))))
		}
	}
	return m
}

// glow goes from the ground over ice to copper and white.
func glow(t float64) color.NRGBA {
	stops := [][3]float64{{0x12, 0x18, 0x1b}, {0x2a, 0x55, 0x62}, {0xa6, 0xd8, 0xe0}, {0xe0, 0x9a, 0x60}, {0xff, 0xf4, 0xe6}}
	at := t * float64(len(stops)-1)
	i := min(int(at), len(stops)-2)
	var v [3]uint8
	for c := range v {
		v[c] = uint8(stops[i][c] + (stops[i+1][c]-stops[i][c])*(at-float64(i)))
	}
	return color.NRGBA{v[0], v[1], v[2], 255}
}
