package media

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	"io"
	"math"
	"math/cmplx"
	"strings"
	"time"

	"github.com/hajimehoshi/go-mp3"
	"github.com/mewkiz/flac"
	"gonum.org/v1/gonum/dsp/fourier"

	"kettletarn/internal/core/vorbis"
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

// samples gives a sound piece by piece: up to len(block)/channels samples of all channels in turn, from -1 to 1. At the end it gives io.EOF.
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

// readWAV reads RIFF/WAVE (Multimedia Programming Interface and Data Specifications 1.0, 1991; WAVE_FORMAT_EXTENSIBLE): whole numbers of 8 to 32 bits,
// and floating point.
func readWAV(s Subject) (*sound, error) {
	var head [12]byte
	r := s.reader()
	if _, err := io.ReadFull(r, head[:]); err != nil || string(head[:4]) != "RIFF" || string(head[8:]) != "WAVE" {
		return nil, unreadable("it does not start like a WAV file")
	}
	one := &sound{format: "WAV"}
	bits, kind, block := 0, 0, 0
	for at := int64(12); ; {
		var chunk [8]byte
		if n, _ := s.Content.ReadAt(chunk[:], at); n < 8 {
			return nil, unreadable("it has no samples, or was cut off before them")
		}
		size := int64(binary.LittleEndian.Uint32(chunk[4:]))
		switch string(chunk[:4]) {
		case "fmt ":
			var f [40]byte
			n, _ := s.Content.ReadAt(f[:min(size, 40)], at+8)
			if n < 16 {
				return nil, unreadable("it was cut off")
			}
			kind, one.channels, one.rate = int(binary.LittleEndian.Uint16(f[:])), int(binary.LittleEndian.Uint16(f[2:])), int(binary.LittleEndian.Uint32(f[4:]))
			block, bits = int(binary.LittleEndian.Uint16(f[12:])), int(binary.LittleEndian.Uint16(f[14:]))
			if kind == 0xfffe && n >= 26 {
				kind = int(binary.LittleEndian.Uint16(f[24:]))
			}
		case "data":
			wide := bits / 8
			known := kind == 1 && (bits == 8 || bits == 16 || bits == 24 || bits == 32) || kind == 3 && (bits == 32 || bits == 64)
			if !known || one.channels < 1 || block != wide*one.channels {
				return nil, unreadable("its samples are of a kind that is not looked into (format %d, %d bits)", kind, bits)
			}
			size = min(size, s.Size-at-8)
			one.depth = fmt.Sprintf("%d bits", bits)
			if kind == 3 {
				one.depth += ", floating point"
			}
			one.length = size / int64(block)
			start := at + 8
			one.play = func() (samples, error) {
				return &wavSamples{in: io.NewSectionReader(s.Content, start, one.length*int64(block)), wide: wide, float: kind == 3}, nil
			}
			return one, nil
		}
		at += 8 + size + size&1
	}
}

type wavSamples struct {
	in    io.Reader
	wide  int
	float bool
	raw   []byte
}

func (w *wavSamples) next(block []float32) (int, error) {
	if len(w.raw) < len(block)*w.wide {
		w.raw = make([]byte, len(block)*w.wide)
	}
	n, err := io.ReadFull(w.in, w.raw[:len(block)*w.wide])
	if n /= w.wide; n == 0 {
		return 0, io.EOF
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	for i := range n {
		b := w.raw[i*w.wide:]
		switch {
		case w.wide == 1:
			block[i] = (float32(b[0]) - 128) / 128
		case w.wide == 2:
			block[i] = float32(int16(binary.LittleEndian.Uint16(b))) / (1 << 15)
		case w.wide == 3:
			block[i] = float32(int32(uint32(b[0])<<8|uint32(b[1])<<16|uint32(b[2])<<24)>>8) / (1 << 23)
		case w.wide == 4 && w.float:
			block[i] = math.Float32frombits(binary.LittleEndian.Uint32(b))
		case w.wide == 4:
			block[i] = float32(float64(int32(binary.LittleEndian.Uint32(b))) / (1 << 31))
		default:
			block[i] = float32(math.Float64frombits(binary.LittleEndian.Uint64(b)))
		}
		if v := float64(block[i]); math.IsNaN(v) || math.IsInf(v, 0) {
			block[i] = 0
		}
	}
	return n, err
}

func readFLAC(s Subject) (one *sound, err error) {
	stream, err := flac.New(s.reader())
	if err != nil {
		return nil, unreadable("it is no FLAC file, or its start is damaged (%v)", err)
	}
	one = &sound{format: "FLAC", rate: int(stream.Info.SampleRate), channels: int(stream.Info.NChannels), depth: fmt.Sprintf("%d bits", stream.Info.BitsPerSample), length: int64(stream.Info.NSamples)}
	if stream.Info.BitsPerSample < 4 || stream.Info.BitsPerSample > 32 {
		return nil, unreadable("its samples have %d bits", stream.Info.BitsPerSample)
	}
	one.play = func() (samples, error) {
		stream, err := flac.New(s.reader())
		if err != nil {
			return nil, unreadable("%v", err)
		}
		return &flacSamples{stream: stream, scale: 1 / float32(math.Pow(2, float64(stream.Info.BitsPerSample)-1)), channels: one.channels}, nil
	}
	return one, nil
}

type flacSamples struct {
	stream   *flac.Stream
	scale    float32
	channels int
	left     []float32
}

func (f *flacSamples) next(block []float32) (n int, err error) {
	for len(f.left) == 0 {
		frame, err := f.stream.ParseNext()
		if err == io.EOF {
			return 0, err
		}
		if err != nil {
			return 0, unreadable("it is damaged: %v", err)
		}
		if len(frame.Subframes) != f.channels {
			return 0, unreadable("it is damaged: a part of it has %d channels", len(frame.Subframes))
		}
		count := frame.Subframes[0].NSamples
		f.left = make([]float32, 0, count*f.channels)
		for i := range count {
			for _, sub := range frame.Subframes {
				if i >= len(sub.Samples) {
					return 0, unreadable("it is damaged")
				}
				f.left = append(f.left, float32(sub.Samples[i])*f.scale)
			}
		}
	}
	n = copy(block, f.left)
	f.left = f.left[n:]
	return n, nil
}

func readMP3(s Subject) (*sound, error) {
	d, err := mp3.NewDecoder(s.reader())
	if err != nil {
		return nil, unreadable("it is no MP3 file, or its start is damaged (%v)", err)
	}
	one := &sound{format: "MP3", rate: d.SampleRate(), channels: 2, depth: "as MP3 has it", length: d.Length() / 4}
	one.play = func() (samples, error) {
		d, err := mp3.NewDecoder(s.reader())
		if err != nil {
			return nil, unreadable("%v", err)
		}
		return &mp3Samples{wavSamples{in: d, wide: 2}}, nil
	}
	return one, nil
}

type mp3Samples struct{ wavSamples }

func (m *mp3Samples) next(block []float32) (int, error) {
	n, err := m.wavSamples.next(block)
	if err != nil && err != io.EOF {
		err = unreadable("it is damaged: %v", err)
	}
	return n, err
}

// readOgg reads Ogg Vorbis. Its length is what its last page says.
func readOgg(s Subject) (*sound, error) {
	d, err := vorbis.NewDecoder(s.reader())
	if err != nil {
		return nil, oggTrouble(err)
	}
	one := &sound{format: "Ogg Vorbis", channels: d.Channels, rate: d.Rate, depth: "as Vorbis has it"}
	tail := make([]byte, min(s.Size, 128<<10))
	if _, err := s.Content.ReadAt(tail, s.Size-int64(len(tail))); err != nil && err != io.EOF {
		return nil, err
	}
	if i := bytes.LastIndex(tail, []byte("OggS")); i >= 0 && i+14 <= len(tail) {
		one.length = max(0, int64(binary.LittleEndian.Uint64(tail[i+6:])))
	}
	one.play = func() (samples, error) {
		d, err := vorbis.NewDecoder(s.reader())
		if err != nil {
			return nil, oggTrouble(err)
		}
		return &oggSamples{in: d}, nil
	}
	return one, nil
}

func oggTrouble(err error) error {
	if errors.Is(err, vorbis.ErrDamaged) {
		return unreadable("%s", strings.TrimPrefix(err.Error(), vorbis.ErrDamaged.Error()+": "))
	}
	if err == io.EOF {
		return unreadable("it is empty")
	}
	return err
}

// oggOrders puts the channels of Vorbis (Vorbis I, 4.3.9) into the order of WAV, by their number.
var oggOrders = map[int][]int{3: {0, 2, 1}, 5: {0, 2, 1, 3, 4}, 6: {0, 2, 1, 5, 3, 4}}

type oggSamples struct {
	in  *vorbis.Decoder
	raw []float32
}

func (o *oggSamples) next(block []float32) (int, error) {
	n := o.in.Channels
	block = block[:len(block)/n*n]
	got, err := o.in.Read(block)
	if err != nil && err != io.EOF {
		err = oggTrouble(err)
	}
	if order := oggOrders[n]; order != nil {
		o.raw = append(o.raw[:0], block[:got]...)
		for i := 0; i+n <= got; i += n {
			for c, from := range order {
				block[i+c] = o.raw[i+from]
			}
		}
	}
	return got, err
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
		return []Fact{{"format", o.format}, {"length", clock(r.Seconds)}, {"rate", fmt.Sprintf("%s Hz", number(o.rate))}, {"channels", channelWords(o.channels)}, {"samples", o.depth}}
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
	r.Seconds = float64(h.length) / float64(o.rate)
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
		d["sound.wav"] = wav.done(o.rate)
	}
	if err := d.png("spectrogram.png", drawSpectrum(h.spectrum, o.rate)); err != nil {
		return r, err
	}
	return r, d.png("whole.png", drawWave(h))
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
		c.Measures = append(c.Measures, Fact{"first difference at", clock(float64(first/int64(o.channels)) / float64(o.rate))}, Fact{"level of the difference", decibels(math.Sqrt(sum / float64(n)))})
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
	columns [][]float64
}

func newSpectra(length int64) *spectra {
	return &spectra{step: max(length/waveWidth, window/8), ring: make([]float64, window), fft: fourier.NewFFT(window)}
}

func (s *spectra) add(v float32) {
	s.ring[s.at%window] = float64(v)
	s.at++
	if s.at%s.step == 0 && len(s.columns) < 4*waveWidth {
		s.take()
	}
}

func (s *spectra) take() {
	block := make([]float64, window)
	for i := range block { // Hann
		block[i] = s.ring[(s.at+int64(i))%window] * (0.5 - 0.5*math.Cos(2*math.Pi*float64(i)/window))
	}
	coefficients := s.fft.Coefficients(nil, block)
	column := make([]float64, len(coefficients))
	for i, c := range coefficients {
		column[i] = 20 * math.Log10(cmplx.Abs(c)/(window/4)+1e-9)
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
