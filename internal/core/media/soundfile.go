package media

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/hajimehoshi/go-mp3"
	"github.com/mewkiz/flac"

	"kettletarn/internal/core/vorbis"
)

// readWAV reads RIFF/WAVE (Multimedia Programming Interface and Data Specifications 1.0, 1991; WAVE_FORMAT_EXTENSIBLE): whole numbers of 8
// to 32 bits, and floating point.
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
			kind, one.channels, one.rate = int(binary.LittleEndian.Uint16(f[:])), int(binary.LittleEndian.Uint16(f[2:])),
				int(binary.LittleEndian.Uint32(f[4:]))
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
	one = &sound{format: "FLAC", rate: int(stream.Info.SampleRate), channels: int(stream.Info.NChannels),
		depth: fmt.Sprintf("%d bits", stream.Info.BitsPerSample), length: int64(stream.Info.NSamples)}
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
