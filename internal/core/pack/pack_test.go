package pack

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"kettletarn/internal/core/chunk"
)

func samples() [][]byte {
	random := make([]byte, 100_000)
	_, _ = rand.NewChaCha8([32]byte{7}).Read(random)
	return [][]byte{[]byte("x"), []byte(strings.Repeat("brine ", 40_000)), random}
}

func TestAPackGivesBackWhatWasPutIn(t *testing.T) {
	var buf bytes.Buffer
	w := NewWriter(&buf)
	for _, data := range samples() {
		if err := w.Add(Encode(Chunk, chunk.Sum(data), data)); err != nil {
			t.Fatal(err)
		}
	}
	written, err := w.Close()
	if err != nil {
		t.Fatal(err)
	}
	entries, err := ReadIndex(bytes.NewReader(buf.Bytes()), int64(buf.Len()))
	if err != nil {
		t.Fatal(err)
	}
	for i, data := range samples() {
		e := entries[i]
		if e != written[i] {
			t.Errorf("entry %d reads %+v, was written %+v", i, e, written[i])
		}
		r := Record{Kind: e.Kind, Digest: e.Digest, Codec: e.Codec, Size: e.Size, Data: buf.Bytes()[e.Offset : e.Offset+int64(e.Stored)]}
		if got, err := r.Decode(nil); err != nil || !bytes.Equal(got, data) {
			t.Errorf("chunk %d does not come back: %v", i, err)
		}
	}
	if entries[1].Codec != S2 || entries[1].Stored > entries[1].Size/10 {
		t.Error("repetitive data was not compressed")
	}
	if entries[2].Codec != Plain {
		t.Error("noise was compressed")
	}
}

// A pack of the version before, and what it has: nothing of it is an S2 block.
func TestAPackOfVersion2IsRead(t *testing.T) {
	var numbers []byte
	for i := range 40_000 {
		numbers = fmt.Appendln(numbers, i*i)
	}
	var buf bytes.Buffer
	w := NewWriter(&buf)
	kept := [][]byte{samples()[0], numbers, samples()[2]}
	for _, data := range kept {
		r := Encode(Chunk, chunk.Sum(data), data)
		_ = w.Add(r.Pressed(nil, data))
	}
	if _, err := w.Close(); err != nil {
		t.Fatal(err)
	}
	old := bytes.ReplaceAll(buf.Bytes(), []byte(magic), []byte(magicV2))
	entries, err := ReadIndex(bytes.NewReader(old), int64(len(old)))
	if err != nil || len(entries) != 3 || entries[1].Codec != Zstd {
		t.Fatalf("%+v, %v", entries, err)
	}
	for i, e := range entries {
		r := Record{Kind: e.Kind, Digest: e.Digest, Codec: e.Codec, Size: e.Size, Data: old[e.Offset : e.Offset+int64(e.Stored)]}
		if got, err := r.Decode(nil); err != nil || !bytes.Equal(got, kept[i]) {
			t.Errorf("chunk %d does not come back: %v", i, err)
		}
	}
}

// TestRecordsLieAsTheyTravel: a stretch of a pack is a stretch of an answer, byte for byte.
func TestRecordsLieAsTheyTravel(t *testing.T) {
	var buf bytes.Buffer
	w := NewWriter(&buf)
	var wire []byte
	for i, data := range samples() {
		r := Encode(uint8(i%4), chunk.Sum(data), data)
		wire = AppendRecord(wire, r)
		if err := w.Add(r); err != nil {
			t.Fatal(err)
		}
	}
	entries, err := w.Close()
	if err != nil {
		t.Fatal(err)
	}
	last := entries[len(entries)-1]
	start, end := entries[0].Offset-HeadSize, last.Offset+int64(last.Stored)
	if got := buf.Bytes()[start:end]; !bytes.Equal(got, wire) || start != int64(len(magic)) {
		t.Errorf("the records lie from %d to %d, and %d bytes travel", start, end, len(wire))
	}
	for pack, want := range map[string]bool{magic: true, magicV3: false, magicV2: false} {
		if got, err := Travels(strings.NewReader(pack + "and so on")); err != nil || got != want {
			t.Errorf("%s: %v, %v", pack, got, err)
		}
	}
}

// TestAPackIsWhatItWas holds the format to a pack that was written once.
func TestAPackIsWhatItWas(t *testing.T) {
	var buf bytes.Buffer
	w := NewWriter(&buf)
	text := []byte("brine")
	if err := w.Add(Encode(Manifest, chunk.Sum(text), text)); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Close(); err != nil {
		t.Fatal(err)
	}
	const digest = "4af802bf57170a4eb1cfd5d24459f8f2322c25ef03d8265bfd3055d95087c533" // what b3sum says of brine
	if got, want := hex.EncodeToString(buf.Bytes()), "4b545041434b3034"+              // KTPACK04
		"8501"+"5820"+digest+"00"+"1a00000005"+"5a00000005"+"6272696e65"+ // the record as it travels, and brine
		"3700000000000000"+"01"+"00"+"05000000"+"05000000"+digest+ // the index: it lies at 55
		"01000000"+"9440c31a42aa0827951f6ae8d99e5bb6dd3ed290185a23df97c124245d4cc7e5"+"4b545041434b3034"; got != want {
		t.Errorf("it is %s", got)
	}
}

// The codecs as others write them: what was kept once is read for ever.
func TestVectors(t *testing.T) {
	text := strings.Repeat("brine and ", 8)
	for codec, stored := range map[uint8]string{
		Plain: hex.EncodeToString([]byte(text)),
		S2:    "50246272696e6520616e6420110a150036",
		Zstd:  "28b52ffd00008d0000506272696e6520616e642001540a0328d3",
	} {
		data, err := hex.DecodeString(stored)
		if err != nil {
			t.Fatal(err)
		}
		r := Record{Digest: chunk.Sum([]byte(text)), Codec: codec, Size: len(text), Data: data}
		if got, err := r.Decode(nil); err != nil || string(got) != text {
			t.Errorf("codec %d: %q, %v", codec, got, err)
		}
	}
}

// What is kept for long is no S2 block.
func TestPressing(t *testing.T) {
	for i, data := range samples() {
		r := Encode(Chunk, chunk.Sum(data), data)
		p := r.Pressed(nil, data)
		if got, err := p.Decode(nil); err != nil || !bytes.Equal(got, data) || p.Codec == S2 || len(p.Data) > len(data) {
			t.Errorf("sample %d: codec %d, %d bytes, %v", i, p.Codec, len(p.Data), err)
		}
		if again := p.Pressed(nil, data); again.Codec != p.Codec || !bytes.Equal(again.Data, p.Data) {
			t.Errorf("sample %d is pressed twice", i)
		}
	}
}

func TestDamageIsNoticed(t *testing.T) {
	var buf bytes.Buffer
	w := NewWriter(&buf)
	data := samples()[1]
	_ = w.Add(Encode(Chunk, chunk.Sum(data), data))
	if _, err := w.Close(); err != nil {
		t.Fatal(err)
	}
	whole := buf.Bytes()
	for _, n := range []int{0, 7, len(whole) / 2, len(whole) - 1} {
		if _, err := ReadIndex(bytes.NewReader(whole[:n]), int64(n)); !errors.Is(err, ErrDamaged) {
			t.Errorf("a pack cut off at %d of %d bytes is taken: %v", n, len(whole), err)
		}
	}
	for back := 1; back < footerSize+indexSize; back += 5 {
		bad := bytes.Clone(whole)
		bad[len(bad)-back] ^= 0x40
		if _, err := ReadIndex(bytes.NewReader(bad), int64(len(bad))); !errors.Is(err, ErrDamaged) {
			t.Errorf("a flipped bit %d bytes before the end is not noticed: %v", back, err)
		}
	}
}

func TestDecodeDistrusts(t *testing.T) {
	data := samples()[1]
	good := Encode(Chunk, chunk.Sum(data), data)
	bomb := Encode(Chunk, chunk.Sum(nil), make([]byte, chunk.Max))
	bomb.Size = 10
	for name, r := range map[string]Record{
		"other digest":   {Digest: chunk.Sum([]byte("other")), Codec: good.Codec, Size: good.Size, Data: good.Data},
		"other size":     {Digest: good.Digest, Codec: good.Codec, Size: good.Size - 1, Data: good.Data},
		"no size":        {Digest: good.Digest, Codec: good.Codec, Size: 0, Data: good.Data},
		"huge size":      {Digest: good.Digest, Codec: good.Codec, Size: 1 << 30, Data: good.Data},
		"codec":          {Digest: good.Digest, Codec: 9, Size: good.Size, Data: good.Data},
		"not a block":    {Digest: good.Digest, Codec: S2, Size: good.Size, Data: []byte("no block")},
		"a cut block":    {Digest: good.Digest, Codec: S2, Size: good.Size, Data: good.Data[:len(good.Data)-1]},
		"block and more": {Digest: good.Digest, Codec: S2, Size: good.Size, Data: append(bytes.Clone(good.Data), 0)},
		"not a frame":    {Digest: good.Digest, Codec: Zstd, Size: good.Size, Data: []byte("no frame")},
		"bomb":           bomb,
	} {
		if _, err := r.Decode(nil); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzReadIndex(f *testing.F) {
	var buf bytes.Buffer
	w := NewWriter(&buf)
	_ = w.Add(Encode(Chunk, chunk.Sum([]byte("salt")), []byte("salt")))
	_, _ = w.Close()
	f.Add(buf.Bytes())
	f.Add([]byte(magic + magic))
	f.Fuzz(func(t *testing.T, b []byte) {
		entries, err := ReadIndex(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		for _, e := range entries {
			_ = b[e.Offset : e.Offset+int64(e.Stored)]
		}
	})
}

func FuzzDecode(f *testing.F) {
	r := Encode(Chunk, chunk.Sum(samples()[1]), samples()[1])
	f.Add(r.Codec, r.Size, r.Data)
	f.Fuzz(func(t *testing.T, codec uint8, size int, data []byte) {
		r := Record{Codec: codec, Size: size, Data: data}
		if out, err := r.Decode(nil); err == nil {
			t.Errorf("%d bytes pass under a digest of zeros", len(out))
		}
	})
}
