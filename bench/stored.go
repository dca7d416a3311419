package main

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/dustin/go-humanize"

	"kettletarn/demo/scene"
)

// edits makes the versions of one asset: version 0, and each later one with a small edit, encoded as its program would.
type edits func(version int) ([]byte, error)

// stored is S11: what the service keeps of an asset with edited versions, beside the sum of the versions under zstd -1.
func (b *bench) stored(versions int) error {
	c, err := b.caller(b.freshKey())
	if err != nil {
		return err
	}
	_ = c
	for _, kind := range []struct {
		name string
		make edits
		goal float64
	}{
		{"level", level(), 0.2}, {"model", meshes(), 0.2}, {"sound", sound(), 0.2}, {"layered source", layers(), 0.2},
		{"compressed texture", texture(), 0.6},
	} {
		key := b.freshKey()
		work := filepath.Join(b.folder, key)
		if err := os.MkdirAll(work, 0o755); err != nil {
			return err
		}
		file := filepath.Join(work, "asset.bin")
		packed, size := int64(0), int64(0)
		for v := range versions + 1 {
			data, err := kind.make(v)
			if err != nil {
				return err
			}
			if v > 0 {
				if _, err := b.tarn(work, "", "lock", "asset.bin"); err != nil {
					return err
				}
			}
			if err := os.WriteFile(file, data, 0o644); err != nil {
				return err
			}
			if v == 0 {
				_, err = b.tarn(work, "", "start", key, "--yes", "--json")
			} else {
				_, err = b.tarn(work, "", "send", "-m", "an edit")
			}
			if err != nil {
				return err
			}
			out, err := exec.CommandContext(b.ctx, "zstd", "-1", "-q", "-c", file).Output()
			if err != nil {
				return fmt.Errorf("zstd: %w", err)
			}
			packed, size = packed+int64(len(out)), size+int64(len(data))
		}
		p, err := c.Project(b.ctx, key)
		if err != nil {
			return err
		}
		ratio := float64(p.Stored) / float64(packed)
		b.row("S11", fmt.Sprintf("stored bytes: %s, %d edited versions, %s in all", kind.name, versions, humanize.IBytes(uint64(size))),
			humanize.IBytes(uint64(p.Stored)),
			"zstd -1 of each "+humanize.IBytes(uint64(packed)), fmt.Sprintf("%.2f of its bytes", ratio), fmt.Sprint(kind.goal), ratio <= kind.goal)
		if err := os.RemoveAll(work); err != nil {
			return err
		}
	}
	return nil
}

// level is a scene of many placed objects: a binary glTF whose buffer holds a transform of 64 bytes for each. An edit moves a group.
func level() edits {
	const objects = 200_000
	r := rand.New(rand.NewPCG(1, 1))
	buffer := make([]byte, objects*64)
	for at := 0; at < len(buffer); at += 4 {
		binary.LittleEndian.PutUint32(buffer[at:], math.Float32bits(float32(math.Round(r.NormFloat64()*4000)/64)))
	}
	return func(v int) ([]byte, error) {
		if v > 0 {
			for n, at := 0, r.IntN(objects-300)*64; n < 300*64; n += 4 {
				old := math.Float32frombits(binary.LittleEndian.Uint32(buffer[at+n:]))
				binary.LittleEndian.PutUint32(buffer[at+n:], math.Float32bits(old+1.5))
			}
		}
		return glb(fmt.Sprintf(`{"asset":{"version":"2.0","generator":"pass %d"},"buffers":[{"byteLength":%d}]}`, v, len(buffer)), buffer), nil
	}
}

// meshes is a model of a million vertices. An edit is a brush stroke on some thousands that lie together.
func meshes() edits {
	const vertices = 1_000_000
	buffer := make([]byte, vertices*12)
	for i := range vertices {
		for axis := range 3 {
			x := math.Sin(float64(i)*0.001+float64(axis)) * 10 * math.Cos(float64(i)*0.000017)
			binary.LittleEndian.PutUint32(buffer[i*12+axis*4:], math.Float32bits(float32(x)))
		}
	}
	r := rand.New(rand.NewPCG(2, 2))
	return func(v int) ([]byte, error) {
		if v > 0 {
			for n, at := 0, r.IntN(vertices-5000)*12; n < 5000*12; n += 4 {
				old := math.Float32frombits(binary.LittleEndian.Uint32(buffer[at+n:]))
				binary.LittleEndian.PutUint32(buffer[at+n:], math.Float32bits(old*1.01))
			}
		}
		return glb(`{"asset":{"version":"2.0"},"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}]}`, buffer), nil
	}
}

// glb is the binary form of glTF 2.0.
func glb(text string, buffer []byte) []byte {
	for len(text)%4 != 0 {
		text += " "
	}
	out := binary.LittleEndian.AppendUint32([]byte("glTF"), 2)
	out = binary.LittleEndian.AppendUint32(out, uint32(12+8+len(text)+8+len(buffer)))
	out = append(binary.LittleEndian.AppendUint32(out, uint32(len(text))), "JSON"...)
	out = append(out, text...)
	out = append(binary.LittleEndian.AppendUint32(out, uint32(len(buffer))), "BIN\x00"...)
	return append(out, buffer...)
}

// sound is two minutes of PCM. An edit fades a second of it.
func sound() edits {
	const rate, seconds = 48_000, 120
	r := rand.New(rand.NewPCG(3, 3))
	samples := make([]int16, rate*seconds)
	low := 0.0
	for i := range samples {
		low = low*0.995 + r.NormFloat64()*90
		samples[i] = int16(max(-32000, min(32000, low+9000*math.Sin(float64(i)*0.02))))
	}
	return func(v int) ([]byte, error) {
		if v > 0 {
			at := r.IntN(len(samples) - rate)
			for i := range rate {
				samples[at+i] = int16(float64(samples[at+i]) * (1 - float64(i)/rate))
			}
		}
		var out bytes.Buffer
		out.WriteString("RIFF")
		_ = binary.Write(&out, binary.LittleEndian, uint32(36+len(samples)*2))
		out.WriteString("WAVEfmt ")
		for _, x := range []any{uint32(16), uint16(1), uint16(1), uint32(rate), uint32(rate * 2), uint16(2), uint16(16)} {
			_ = binary.Write(&out, binary.LittleEndian, x)
		}
		out.WriteString("data")
		_ = binary.Write(&out, binary.LittleEndian, uint32(len(samples)*2))
		_ = binary.Write(&out, binary.LittleEndian, samples)
		return out.Bytes(), nil
	}
}

// painting is a picture with a brush.
func painting(seed uint64, edge int) (*image.NRGBA, func(), error) {
	decoded, err := png.Decode(bytes.NewReader(scene.Albedo("rust", edge, int(seed))))
	if err != nil {
		return nil, nil, err
	}
	picture := image.NewNRGBA(decoded.Bounds())
	for y := range picture.Rect.Dy() {
		for x := range picture.Rect.Dx() {
			picture.Set(x, y, decoded.At(x, y))
		}
	}
	r := rand.New(rand.NewPCG(seed, 4))
	return picture, func() {
		cx, cy := r.IntN(picture.Rect.Dx()), r.IntN(picture.Rect.Dy())
		for y := -12; y <= 12; y++ {
			for x := -12; x <= 12; x++ {
				if x*x+y*y < 144 {
					picture.Set(cx+x, cy+y, color.NRGBA{uint8(90 + x*3), uint8(60 + y*3), 40, 255})
				}
			}
		}
	}, nil
}

// layers is a painting of eight layers in one file: a zip of a PNG each, as open formats for layered pictures are. An edit touches one
// layer.
func layers() edits {
	var pictures []*image.NRGBA
	var brushes []func()
	return func(v int) ([]byte, error) {
		for len(pictures) < 8 {
			picture, brush, err := painting(uint64(len(pictures)), 1024)
			if err != nil {
				return nil, err
			}
			pictures, brushes = append(pictures, picture), append(brushes, brush)
		}
		if v > 0 {
			brushes[v*5%len(brushes)]()
		}
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		for i, picture := range pictures {
			w, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("data/layer%d.png", i), Method: zip.Store})
			if err != nil {
				return nil, err
			}
			if err := png.Encode(w, picture); err != nil {
				return nil, err
			}
		}
		return out.Bytes(), z.Close()
	}
}

// texture is one PNG. An edit is a dab of the brush, behind which the compressed bytes all change.
func texture() edits {
	var picture *image.NRGBA
	var brush func()
	return func(v int) (_ []byte, err error) {
		if picture == nil {
			if picture, brush, err = painting(9, 2048); err != nil {
				return nil, err
			}
		}
		if v > 0 {
			brush()
		}
		var out bytes.Buffer
		err = png.Encode(&out, picture)
		return out.Bytes(), err
	}
}
