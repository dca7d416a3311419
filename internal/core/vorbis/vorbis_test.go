package vorbis

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// wav is a sound with tones, noise, silence and clicks, so that blocks of both sizes are used.
func wav(rate, channels int, seconds float64) []byte {
	r := rand.New(rand.NewPCG(7, 8))
	n := int(seconds * float64(rate))
	var b bytes.Buffer
	for _, v := range []any{[]byte("RIFF"), uint32(36 + 2*n*channels), []byte("WAVEfmt "), uint32(16), uint16(1), uint16(channels),
		uint32(rate), uint32(2 * rate * channels), uint16(2 * channels), uint16(16), []byte("data"), uint32(2 * n * channels)} {
		_ = binary.Write(&b, binary.LittleEndian, v)
	}
	for i := range n {
		t := float64(i) / float64(rate)
		for c := range channels {
			v := 0.4 * math.Sin(2*math.Pi*(220+110*float64(c))*t)
			switch {
			case i%(rate/3) < 40:
				v = 0.9 * (r.Float64()*2 - 1)
			case t > seconds/2 && t < seconds*0.6:
				v = 0
			case t > seconds*0.6:
				v = v*0.3 + 0.2*(r.Float64()*2-1)
			}
			_ = binary.Write(&b, binary.LittleEndian, int16(v*32000))
		}
	}
	return b.Bytes()
}

// encoded is a sound as another program writes it, and as that one reads it back.
func encoded(t testing.TB, rate, channels int, seconds float64, args ...string) (ogg, back []byte) {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "in.wav"), wav(rate, channels, seconds), 0o600); err != nil {
		t.Fatal(err)
	}
	run := func(args ...string) {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %v\n%s", args, err, out)
		}
	}
	run(append(append([]string{"oggenc", "-Q"}, args...), "-o", "a.ogg", "in.wav")...)
	run("oggdec", "-Q", "-b", "16", "-o", "back.wav", "a.ogg")
	ogg, err1 := os.ReadFile(filepath.Join(dir, "a.ogg"))
	back, err2 := os.ReadFile(filepath.Join(dir, "back.wav"))
	if err1 != nil || err2 != nil {
		t.Fatal(err1, err2)
	}
	return ogg, back[44:]
}

func all(data []byte) (d *Decoder, samples []float32, err error) {
	if d, err = NewDecoder(bytes.NewReader(data)); err != nil {
		return nil, nil, err
	}
	block := make([]float32, 1000)
	for {
		n, err := d.Read(block)
		samples = append(samples, block[:n]...)
		if err == io.EOF {
			return d, samples, nil
		}
		if err != nil {
			return d, samples, err
		}
	}
}

// Every sample is, to within a step of 16 bits, what the reference decoder gives.
func TestDecodedAsTheReferenceDecodes(t *testing.T) {
	for _, c := range []struct {
		rate, channels int
		args           []string
	}{{44100, 2, nil}, {44100, 1, []string{"-q", "-1"}}, {48000, 2, []string{"-q", "10"}}, {22050, 2, []string{"-q", "2"}}, {8000, 1, nil},
		{48000, 6, nil}, {44100, 2, []string{"--managed", "-b", "96"}}} {
		t.Run(fmt.Sprint(c.rate, c.channels, c.args), func(t *testing.T) {
			ogg, back := encoded(t, c.rate, c.channels, 1.7, c.args...)
			d, samples, err := all(ogg)
			if err != nil || d.Rate != c.rate || d.Channels != c.channels {
				t.Fatalf("%+v, %v", d, err)
			}
			if len(samples) != len(back)/2 {
				t.Fatalf("%d samples, and %d from the reference", len(samples), len(back)/2)
			}
			// The reference writes the six channels of a surround sound in an order of its own.
			order := []int{0, 1, 2, 3, 4, 5}
			if c.channels == 6 {
				order = []int{0, 2, 1, 4, 5, 3}
			}
			worst := 0.0
			for i := range samples {
				at := i/c.channels*c.channels + order[i%c.channels]
				want := float64(int16(binary.LittleEndian.Uint16(back[2*i:])))
				got := math.Max(-32768, math.Min(32767, float64(samples[at])*32768))
				worst = math.Max(worst, math.Abs(got-want))
			}
			if worst > 1.5 {
				t.Errorf("a sample is %.2f steps off", worst)
			}
		})
	}
}

func TestDamagedStreamsSayWhy(t *testing.T) {
	ogg, _ := encoded(t, 44100, 2, 0.6)
	flipped := bytes.Clone(ogg)
	flipped[len(flipped)-300] ^= 0x40
	for name, data := range map[string][]byte{"empty": nil, "text": []byte("no sound at all, but a text that goes on for a while"),
		"cut": ogg[:len(ogg)-100], "headers only": ogg[:200], "a bit wrong": flipped} {
		if _, _, err := all(data); !errors.Is(err, ErrDamaged) && !(err == io.EOF && name == "empty") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// resummed gives pages the check sums that they have now, so that fuzzing gets behind them.
func resummed(data []byte) []byte {
	data = bytes.Clone(data)
	for at := 0; at+27 <= len(data) && string(data[at:at+4]) == "OggS"; {
		end := at + 27 + int(data[at+26])
		if end > len(data) {
			break
		}
		for _, s := range data[at+27 : end] {
			end += int(s)
		}
		if end > len(data) {
			break
		}
		clear(data[at+22 : at+26])
		binary.LittleEndian.PutUint32(data[at+22:], sum(0, data[at:end]))
		at = end
	}
	return data
}

func FuzzDecoder(f *testing.F) {
	ogg, _ := encoded(f, 8000, 1, 0.3)
	f.Add(ogg)
	f.Fuzz(func(t *testing.T, data []byte) {
		_, samples, _ := all(resummed(data))
		if len(samples) > 1000*len(data)+1<<20 {
			t.Errorf("%d bytes become %d samples", len(data), len(samples))
		}
	})
}
