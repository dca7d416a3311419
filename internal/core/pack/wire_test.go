package pack

import (
	"bytes"
	"errors"
	"io"
	"testing"
	"testing/iotest"

	"github.com/fxamacker/cbor/v2"
	"github.com/klauspost/compress/zstd"

	"kettletarn/internal/core/chunk"
)

func TestRecordsTravelAndAnyCBORLibraryReadsThem(t *testing.T) {
	var body []byte
	for i, data := range samples() {
		if i%2 == 0 {
			body = AppendEncoded(body, Chunk, chunk.Sum(data), data)
		} else {
			body = AppendRecord(body, Encode(Manifest, chunk.Sum(data), data))
		}
	}
	d := NewReader(iotest.HalfReader(bytes.NewReader(body)))
	general := cbor.NewDecoder(bytes.NewReader(body))
	for i, data := range samples() {
		r, err := d.Next()
		if err != nil {
			t.Fatal(err)
		}
		if got, err := r.Decode(nil); err != nil || !bytes.Equal(got, data) || int(r.Kind) != i%2 {
			t.Errorf("record %d does not come back: %v", i, err)
		}
		var other struct {
			_      struct{} `cbor:",toarray"`
			Kind   uint8
			Digest []byte
			Codec  uint8
			Size   int
			Data   []byte
		}
		if err := general.Decode(&other); err != nil || !bytes.Equal(other.Digest, r.Digest[:]) || other.Kind != r.Kind ||
			other.Codec != r.Codec || other.Size != r.Size || !bytes.Equal(other.Data, r.Data) {
			t.Errorf("record %d reads otherwise with another library: %v", i, err)
		}
	}
	if _, err := d.Next(); err != io.EOF {
		t.Errorf("at the end: %v", err)
	}
	for n := 1; n < 48; n++ {
		if _, err := NewReader(bytes.NewReader(body[:n])).Next(); err == nil || err == io.EOF {
			t.Errorf("cut off after %d bytes: %v", n, err)
		}
	}
}

func TestShortFormsOfNumbersAreReadToo(t *testing.T) {
	short, err := cbor.Marshal([]any{0, chunk.Sum([]byte("salt")), 0, 4, []byte("salt")})
	if err != nil {
		t.Fatal(err)
	}
	r, err := NewReader(bytes.NewReader(short)).Next()
	if err != nil {
		t.Fatal(err)
	}
	if data, err := r.Decode(nil); err != nil || string(data) != "salt" {
		t.Errorf("read as %q, %v", data, err)
	}
}

func TestAForeignFrameIsEncodedAnew(t *testing.T) {
	data := samples()[1]
	frame := func(options ...zstd.EOption) []byte {
		e, err := zstd.NewWriter(nil, options...)
		if err != nil {
			t.Fatal(err)
		}
		return e.EncodeAll(data, nil)
	}
	var streamed bytes.Buffer
	e, _ := zstd.NewWriter(&streamed)
	_, _ = e.Write(data)
	_ = e.Close()
	skippable := append([]byte{0x50, 0x2a, 0x4d, 0x18, 4, 0, 0, 0}, "junk"...)
	for name, c := range map[string]struct {
		frame []byte
		kept  bool
	}{
		"ours":            {Encode(Chunk, chunk.Sum(data), data).Data, true},
		"another level":   {frame(zstd.WithEncoderLevel(zstd.SpeedBestCompression), zstd.WithWindowSize(chunk.Max)), true},
		"without a size":  {streamed.Bytes(), false},
		"junk behind":     {append(frame(), skippable...), false},
		"junk in front":   {append(append([]byte{}, skippable...), frame()...), false},
		"two frames":      {append(frame(), frame()...), false},
		"a large window":  {frame(zstd.WithWindowSize(8<<20), zstd.WithSingleSegment(false)), false},
		"bytes left over": {append(frame(), 0), false},
	} {
		r := Record{Digest: chunk.Sum(data), Codec: Zstd, Size: len(data), Data: c.frame}
		own := r.Own(data)
		if kept := bytes.Equal(own.Data, c.frame); kept != c.kept && name != "a large window" {
			t.Errorf("%s: kept as it is: %v", name, kept)
		}
		if got, err := own.Decode(nil); err != nil || !bytes.Equal(got, data) {
			t.Errorf("%s: does not come back: %v", name, err)
		}
	}
}

func FuzzReader(f *testing.F) {
	f.Add(AppendEncoded(nil, Chunk, chunk.Sum([]byte("salt")), []byte("salt")))
	f.Add([]byte{0x85, 0, 0x58, 32})
	f.Fuzz(func(t *testing.T, body []byte) {
		d := NewReader(bytes.NewReader(body))
		var again []byte
		for {
			r, err := d.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				if !errors.Is(err, ErrMalformed) && err != io.ErrUnexpectedEOF {
					t.Errorf("an error of another kind: %v", err)
				}
				return
			}
			again = AppendRecord(again, r)
		}
		second := NewReader(bytes.NewReader(again))
		for {
			if _, err := second.Next(); err == io.EOF {
				return
			} else if err != nil {
				t.Fatalf("what was read can't be written: %v", err)
			}
		}
	})
}

func FuzzPlainFrame(f *testing.F) {
	f.Add(Encode(Chunk, chunk.Digest{}, samples()[1]).Data, len(samples()[1]))
	f.Fuzz(func(t *testing.T, data []byte, size int) { plainFrame(data, size) })
}
