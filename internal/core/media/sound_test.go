package media

import (
	"encoding/binary"
	"image/color"
	"math"
	"path/filepath"
	"strings"
	"testing"
)

// tone is a WAV of 16 bits with a sine of a height from 0 to 1.
func tone(rate, channels int, seconds, hertz, height float64) []byte {
	w := &wavWriter{channels: channels}
	block := make([]float32, channels)
	for i := range int(seconds * float64(rate)) {
		v := float32(height * math.Sin(2*math.Pi*hertz*float64(i)/float64(rate)))
		for c := range block {
			block[c] = v
		}
		w.add(block)
	}
	return w.done(rate)
}

// ITU-R BS.1770-4: a sine of 997 Hz at full scale in one front channel has −3.01 LUFS, in two 0.
func TestLoudnessOfTheReference(t *testing.T) {
	for _, rate := range []int{44100, 48000, 96000} {
		for channels, want := range map[int]float64{1: -3.01, 2: 0} {
			r, _ := look(t, of("a.wav", tone(rate, channels, 5, 997, 1)))
			if got := number0(t, fact(r.Facts, "loudness")); math.Abs(got-want) > 0.06 {
				t.Errorf("%d Hz, %d channels: %g LUFS, want %g", rate, channels, got, want)
			}
		}
	}
	// Silence between does not count: it is below the gate.
	loud := tone(48000, 1, 5, 997, 0.1)
	long := append(append([]byte{}, loud...), make([]byte, 48000*2*20)...)
	binary.LittleEndian.PutUint32(long[40:], uint32(len(long)-44))
	a, _ := look(t, of("a.wav", loud))
	b, _ := look(t, of("b.wav", long))
	if x, y := number0(t, fact(a.Facts, "loudness")), number0(t, fact(b.Facts, "loudness")); math.Abs(x-y) > 0.4 || math.Abs(x+23.01) > 0.1 {
		t.Errorf("%g and %g LUFS", x, y)
	}
}

// Sounds that sox, flac and lame wrote are read as what they were made from.
func TestSoundsOfAnotherProgram(t *testing.T) {
	dir := t.TempDir()
	made(t, dir, "sox", "-n", "-r", "44100", "-b", "16", "-c", "2", "a.wav", "synth", "1.5", "sine", "440", "vol", "0.5")
	for name, args := range map[string][]string{"24.wav": {"-b", "24"}, "8.wav": {"-b", "8"}, "32.wav": {"-b", "32", "-e", "signed"},
		"float.wav": {"-b", "32", "-e", "floating-point"}, "mono.wav": {"-c", "1"}} {
		made(t, dir, append(append([]string{"sox", "a.wav"}, args...), name)...)
	}
	made(t, dir, "flac", "-s", "-o", "a.flac", "a.wav")
	made(t, dir, "lame", "--quiet", "-b", "192", "a.wav", "a.mp3")
	made(t, dir, "oggenc", "-Q", "-o", "a.ogg", "a.wav")
	for name, want := range map[string][]string{
		"a.wav":  {"format=WAV", "length=1.50 s", "rate=44,100 Hz", "channels=2 (stereo)", "samples=16 bits", "peak=-6.0 dBFS", "clipping=none"},
		"24.wav": {"samples=24 bits", "peak=-6.0 dBFS"},
		"8.wav":  {"samples=8 bits", "length=1.50 s"}, "32.wav": {"samples=32 bits", "peak=-6.0 dBFS"},
		"float.wav": {"samples=32 bits, floating point", "peak=-6.0 dBFS"},
		"mono.wav":  {"channels=1 (mono)", "peak=-6.0 dBFS"}, "a.flac": {"format=FLAC", "length=1.50 s", "peak=-6.0 dBFS", "samples=16 bits"},
		"a.mp3": {"format=MP3", "rate=44,100 Hz"}, "a.ogg": {"format=Ogg Vorbis", "length=1.50 s", "channels=2 (stereo)"},
	} {
		facts(t, subject(t, filepath.Join(dir, name)), want...)
	}
	// The peak that another program measures is ours.
	made(t, dir, "lame", "--quiet", "--decode", "a.mp3", "decoded.wav")
	stat := made(t, dir, "sh", "-c", "sox decoded.wav -n stat 2>&1")
	for line := range strings.Lines(stat) {
		if value, ok := strings.CutPrefix(line, "Maximum amplitude:"); ok {
			r, _ := look(t, subject(t, filepath.Join(dir, "a.mp3")))
			if got, want := number0(t, fact(r.Facts, "peak")), 20*math.Log10(number0(t, value)); math.Abs(got-want) > 0.3 {
				t.Errorf("MP3: peak %g dBFS, want %g", got, want)
			}
		}
	}
	// What was packed with loss is as loud as what it was made from.
	plain, _ := look(t, subject(t, filepath.Join(dir, "a.wav")))
	packed, drawn := look(t, subject(t, filepath.Join(dir, "a.ogg")))
	for name, far := range map[string]float64{"loudness": 0.2, "peak": 0.3} {
		if a, b := number0(t, fact(plain.Facts, name)), number0(t, fact(packed.Facts, name)); math.Abs(a-b) > far {
			t.Errorf("%s is %g, and packed %g", name, a, b)
		}
	}
	if drawn["whole.png"] == nil || drawn["spectrogram.png"] == nil || drawn["sound.wav"] == nil {
		t.Errorf("of Ogg Vorbis is drawn %v", sorted(drawn))
	}
	if c, _ := compared(t, subject(t, filepath.Join(dir, "a.wav")), subject(t, filepath.Join(dir, "a.flac"))); !c.Same {
		t.Errorf("what flac packed is not the same: %+v", c.Measures)
	}
}

func TestSoundsAreDrawnAndCompared(t *testing.T) {
	r, d := look(t, of("a.wav", tone(48000, 1, 2, 1000, 1.2)))
	if fact(r.Facts, "clipping") == "none" || fact(r.Facts, "peak") != "0.0 dBFS" || d["sound.wav"] == nil {
		t.Errorf("%+v", r.Facts)
	}
	wave := decoded(t, d["whole.png"])
	if wave.NRGBAAt(600, 160) == color.NRGBA(ground) || wave.NRGBAAt(600, 1) == color.NRGBA(ground) {
		t.Error("the waveform does not fill its height")
	}
	// The spectrogram is brightest where the tone is.
	m := decoded(t, d["spectrogram.png"])
	best, row := 0, 0
	for y := range m.Bounds().Dy() {
		if v := int(m.NRGBAAt(600, y).R); v > best {
			best, row = v, y
		}
	}
	if hertz := math.Exp(math.Log(24000) - (math.Log(24000)-math.Log(20))*float64(row)/320); math.Abs(hertz-1000) > 60 {
		t.Errorf("the tone is drawn at %.0f Hz", hertz)
	}
	later := tone(48000, 1, 2, 1000, 0.5)
	first := append([]byte{}, later...)
	for i := 44 + 48000*2; i < 44+48000*2+2000; i++ {
		later[i] = 0
	}
	c, _ := compared(t, of("a.wav", first), of("b.wav", later))
	if at := number0(t, fact(c.Measures, "first difference at")); c.Same || at < 0.99 || at > 1.02 ||
		fact(c.Measures, "samples changed") == "0 %" {
		t.Errorf("%+v", c.Measures)
	}
}

func TestDamagedSoundsSayWhy(t *testing.T) {
	good := tone(8000, 1, 0.2, 440, 0.5)
	many := append([]byte{}, good...)
	binary.LittleEndian.PutUint16(many[22:], 60000)
	for name, data := range map[string][]byte{"text.wav": []byte("no sound"), "cut.wav": good[:30], "many.wav": many, "empty.flac": nil,
		"no.flac": []byte("fLaC\x80\x00\x00\x22"), "no.mp3": []byte("hello"), "no.ogg": []byte("OggS")} {
		if r, _ := look(t, of(name, data)); r.Trouble == "" {
			t.Errorf("%s: %+v", name, r)
		}
	}
	// One that says it is longer than it is, is as long as it is.
	long := append([]byte{}, good...)
	binary.LittleEndian.PutUint32(long[40:], 1<<31)
	facts(t, of("long.wav", long), "length=0.20 s")
}

func FuzzSounds(f *testing.F) {
	f.Add(uint8(0), tone(8000, 2, 0.05, 440, 0.5))
	f.Add(uint8(1), []byte("fLaC\x80\x00\x00\x22\x10\x00\x10\x00"))
	f.Add(uint8(2), []byte("\xff\xfb\x90\x64"))
	f.Add(uint8(3), []byte("OggS"))
	names := []string{"a.wav", "a.flac", "a.mp3", "a.ogg"}
	f.Fuzz(func(t *testing.T, kind uint8, data []byte) {
		look(t, of(names[int(kind)%len(names)], data))
	})
}
