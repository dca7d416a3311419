package apart

import (
	"bytes"
	"compress/zlib"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kettletarn/internal/core/media"
)

func deflated(t *testing.T, piece []byte, times int) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zlib.NewWriter(&out)
	for range times {
		if _, err := w.Write(piece); err != nil {
			t.Fatal(err)
		}
	}
	_ = w.Close()
	return out.Bytes()
}

// bombs are small contents that unfold to very much, of each kind of reader.
func bombs(t *testing.T) map[string][]byte {
	t.Helper()
	zeros := make([]byte, 1<<20)
	longest := os.Getenv("SOAK") != "" // what takes readers the longest is shorter in the suite
	times := func(short, long int) int {
		if longest {
			return long
		}
		return short
	}
	all := map[string][]byte{}

	// Pictures: 400 million pixels, and formats that say how large they are in their head.
	png := []byte("\x89PNG\r\n\x1a\n")
	for _, c := range []struct {
		kind string
		data []byte
	}{{"IHDR", []byte{0, 0, 0x4e, 0x20, 0, 0, 0x4e, 0x20, 8, 6, 0, 0, 0}}, {"IDAT", deflated(t, zeros, 100)}, {"IEND", nil}} {
		body := append([]byte(c.kind), c.data...)
		png = binary.BigEndian.AppendUint32(append(binary.BigEndian.AppendUint32(png, uint32(len(c.data))), body...), crc32.ChecksumIEEE(body))
	}
	all["pixels.png"] = png
	all["pixels.gif"] = append([]byte("GIF89a\xff\xff\xff\xff\x00\x00\x00,\x00\x00\x00\x00\xff\xff\xff\xff\x00\x08"),
		bytes.Repeat([]byte("\xff"+strings.Repeat("\x00", 255)), 100)...)
	tga := make([]byte, 18)
	tga[2], tga[16] = 10, 32
	binary.LittleEndian.PutUint16(tga[12:], 65535)
	binary.LittleEndian.PutUint16(tga[14:], 100) // within the limit of pixels: runs of 128 fill it
	all["runs.tga"] = append(tga, bytes.Repeat([]byte{0xff, 1, 2, 3, 4}, 52_000)...)
	tiff := []byte("II*\x00\x08\x00\x00\x00\x06\x00")
	for _, e := range [][3]uint32{{256, 4, 60000}, {257, 4, 60000}, {258, 3, 8}, {259, 3, 8}, {262, 3, 1}, {278, 4, 60000}} {
		tiff = binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint16(tiff, uint16(e[0])), uint16(e[1]))
		tiff = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(tiff, 1), e[2])
	}
	all["pixels.tif"] = append(tiff, 0, 0, 0, 0)

	// Sounds: hours of silence take little; made by another program.
	dir := t.TempDir()
	for _, name := range []string{"silence.flac", "silence.ogg"} {
		if out, err := exec.Command("sox", "-n", "-r", "48000", "-c", "2", filepath.Join(dir, name), "trim", "0",
			"60").CombinedOutput(); err != nil {
			t.Fatalf("sox writes no %s: %s", name, out)
		}
		all[name] = read(t, filepath.Join(dir, name))
	}

	// Models: accessors that say they have very many elements, over no bytes, over few, and shared by very many meshes.
	gltf := `{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[%s]}],"nodes":[%s],` +
		`"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],"accessors":[{%s"componentType":5126,"count":%d,"type":"VEC3"}],` +
		`"bufferViews":[{"buffer":0,"byteLength":1200000}],"buffers":[{"byteLength":1200000,"uri":"data:application/octet-stream;base64,%s"}]}`
	buffer := base64.StdEncoding.EncodeToString(make([]byte, 1_200_000))
	all["zeros.gltf"] = []byte(fmt.Sprintf(gltf, "0", `{"mesh":0}`, "", 2_000_000_000, buffer))
	all["copies.gltf"] = []byte(fmt.Sprintf(gltf, "0"+list(2000, func(i int) string { return fmt.Sprintf(",%d", i+1) }), `{"mesh":0}`+
		strings.Repeat(`,{"mesh":0}`, 2000), `"bufferView":0,`, 99_999, buffer))
	all["tree.gltf"] = []byte(`{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],"nodes":[` +
		list(60, func(i int) string { return fmt.Sprintf(`{"children":[%d,%d]},`, i+1, i+1) }) + `{"mesh":0}]}`)
	all["faces.obj"] = []byte("v 0 0 0\nv 1 0 0\nv 0 1 0\nf" + strings.Repeat(" 1 2 3", 3_000_000) + "\n")

	// Circuits, structured text, tables and texts: nesting, entities, and rows of very many cells.
	all["nested.kicad_sch"] = []byte("(kicad_sch " + strings.Repeat("(symbol (lib_symbols ", 100_000))
	all["many.kicad_pcb"] = []byte("(kicad_pcb " + strings.Repeat("(segment)", 1_100_000) + ")")
	all["lines.gbr"] = []byte("%FSLAX46Y46*%%MOMM*%%ADD10C,9000*%D10*" + strings.Repeat("X0Y0D02*X9999999Y9999999D01*", times(3_000,
		150_000)) + "M02*")
	all["arcs.gbr"] = []byte("%FSLAX46Y46*%%MOMM*%%ADD10C,1*%D10*G03*" + strings.Repeat("X0Y0I1000000J1000000D01*", 500_000) + "M02*")
	all["holes.drl"] = []byte("M48\nMETRIC\nT1C900\n%\nT1\n" + strings.Repeat("X1Y1\n", 600_000))
	all["nested.json"] = []byte(strings.Repeat("[", 4_000_000))
	all["objects.json"] = []byte("[" + strings.TrimSuffix(strings.Repeat(`{"id":1,"x":1,"y":2},`, 250_000), ",") + "]")
	all["entities.xml"] = []byte(`<!DOCTYPE a [<!ENTITY a "aaaaaaaaaa">` + list(20, func(i int) string {
		return fmt.Sprintf(`<!ENTITY %c "&%c;&%c;&%c;&%c;">`, 'b'+i, 'a'+i, 'a'+i, 'a'+i, 'a'+i)
	}) + `]><a>&u;</a>`)
	all["cells.csv"] = []byte(strings.Repeat(",", 5_000_000))
	all["rows.csv"] = []byte(strings.Repeat("a,\n", 5_000_000))
	all["lines.txt"] = bytes.Repeat([]byte("\n"), 3<<20)

	var pdf bytes.Buffer
	stream := deflated(t, bytes.Repeat([]byte("0 0 m 1 1 l S\n"), times(1<<11, 1<<16)), times(1, 180))
	fmt.Fprintf(&pdf, "%%PDF-1.4\n1 0 obj\n<< /Type /Catalog /Pages 2 0 R >>\nendobj\n2 0 obj\n<< /Type /Pages /Kids [3 0 R] /Count 1 "+
		">>\nendobj\n3 0 obj\n<< /Type /Page /Parent 2 0 R /MediaBox [0 0 200 100] /Contents 4 0 R >>\nendobj\n4 0 obj\n<< /Length %d /Filter "+
		"/FlateDecode >>\nstream\n%s\nendstream\nendobj\ntrailer << /Size 5 /Root 1 0 R >>\nstartxref\n0\n%%%%EOF\n", len(stream), stream)
	all["stream.pdf"] = pdf.Bytes()
	return all
}

func list(n int, each func(int) string) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(each(i))
	}
	return b.String()
}

// What unfolds to very much is read as far as it is bounded, refused with a reason, or takes its own process down; never more.
func TestWhatUnfoldsToVeryMuch(t *testing.T) {
	slow := []string{"lines.gbr", "stream.pdf", "many.kicad_pcb", "silence.ogg"} // in make soak
	for name, data := range bombs(t) {
		if os.Getenv("SOAK") == "" && slices.Contains(slow, name) {
			continue
		}
		t.Run(name, func(t *testing.T) {
			var r media.Report
			drawn := int64(0)
			err := Look(t.Context(), file(t, name, data), true, func(name string, in io.Reader) error {
				if name == Report {
					return json.NewDecoder(in).Decode(&r)
				}
				n, err := io.Copy(io.Discard, in)
				drawn += n
				return err
			})
			if err != nil && !errors.Is(err, ErrFailed) {
				t.Fatal(err)
			}
			t.Logf("%d KiB: %s%.200v; %d KiB drawn; up to %d MiB for one process so far", len(data)>>10, r.Trouble, errorWords(err), drawn>>10,
				largestChild(t)>>20)
		})
	}
	if most := largestChild(t); most > maxMemory {
		t.Errorf("a process took %d MiB", most>>20)
	}
}

func errorWords(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}
