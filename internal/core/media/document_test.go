package media

import (
	"bytes"
	"fmt"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// drawing is a page as SVG, with a bar of a width.
func drawing(bar int) string {
	return fmt.Sprintf(`<svg xmlns="http://www.w3.org/2000/svg" width="400" height="300"><rect width="400" height="300" fill="white"/>
<rect x="40" y="50" width="%d" height="60" fill="#a04020"/>
<circle cx="280" cy="200" r="50" fill="none" stroke="#204060" stroke-width="8"/></svg>`, bar)
}

// paged makes a PDF of pages with another program.
func paged(t *testing.T, bars ...int) Subject {
	t.Helper()
	dir := t.TempDir()
	args := []string{"rsvg-convert", "--format=pdf", "--output=pages.pdf"}
	for i, bar := range bars {
		name := fmt.Sprintf("%d.svg", i)
		if err := os.WriteFile(filepath.Join(dir, name), []byte(drawing(bar)), 0o600); err != nil {
			t.Fatal(err)
		}
		args = append(args, name)
	}
	made(t, dir, args...)
	return subject(t, filepath.Join(dir, "pages.pdf"))
}

func TestDocumentsAreDrawnAsAnotherProgramDrawsThem(t *testing.T) {
	s := paged(t, 100, 200)
	facts(t, s, "pages=2", "first page=105.8 x 79.38 mm")
	_, drawn := look(t, s)
	dir := t.TempDir()
	data := make([]byte, s.Size)
	if _, err := s.Content.ReadAt(data, 0); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "pages.pdf"), data, 0o600); err != nil {
		t.Fatal(err)
	}
	made(t, dir, "pdftoppm", "-png", "-scale-to-x", "1400", "-scale-to-y", "1050", "pages.pdf", "theirs")
	for page := 1; page <= 2; page++ {
		f, err := os.Open(filepath.Join(dir, fmt.Sprintf("theirs-%d.png", page)))
		if err != nil {
			t.Fatal(err)
		}
		theirs, err := png.Decode(f)
		_ = f.Close()
		if err != nil {
			t.Fatal(err)
		}
		ours := decoded(t, drawn[fmt.Sprintf("page-%d.png", page)])
		if ours.Bounds() != theirs.Bounds() {
			t.Fatalf("page %d is %v here and %v there", page, ours.Bounds(), theirs.Bounds())
		}
		sum := 0.0
		for y := range 1050 {
			for x := range 1400 {
				r, g, b, _ := theirs.At(x, y).RGBA()
				o := ours.NRGBAAt(x, y)
				sum += math.Abs(float64(r>>8)-float64(o.R)) + math.Abs(float64(g>>8)-float64(o.G)) + math.Abs(float64(b>>8)-float64(o.B))
			}
		}
		if mean := sum / (3 * 1400 * 1050); mean > 0.5 {
			t.Errorf("page %d is %.2f of 255 from how another program draws it", page, mean)
		}
	}
}

func TestDocumentsAreComparedPageByPage(t *testing.T) {
	// Five pages are drawn by the reader that is compiled, two by the one that is not.
	c, drawn := compared(t, paged(t, 100, 200), paged(t, 100, 260, 40, 50, 60))
	if got := changes(c); !strings.HasPrefix(got, "changed page 2:  > 3 % of it\n") || strings.Count(got, "added page") != 3 {
		t.Error(got)
	}
	if drawn["difference-page-1.png"] != nil {
		t.Error("a page that is the same has a difference")
	}
	heat := decoded(t, drawn["difference-page-2.png"])
	if p := heat.NRGBAAt((40+230)*1400/400, 80*1400/400); p.R < 200 || p.B > 120 {
		t.Errorf("where the bar grew there is %v", p)
	}
	if p := heat.NRGBAAt(100*1400/400, 80*1400/400); p.R != p.B {
		t.Errorf("where it was before there is %v", p)
	}
	if same, _ := compared(t, paged(t, 100), paged(t, 100)); !same.Same {
		t.Errorf("%+v", same)
	}
}

// pdfOf is a PDF of one page with a stream of commands.
func pdfOf(box, extra string, stream []byte) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%%PDF-1.4\n1 0 obj\n<< /Type /Catalog /Pages 2 0 R >>\nendobj\n2 0 obj\n<< /Type /Pages /Kids [3 0 R] /Count 1 "+
		">>\nendobj\n3 0 obj\n<< /Type /Page /Parent 2 0 R /MediaBox %s /Contents 4 0 R >>\nendobj\n4 0 obj\n<< /Length %d %s >>\nstream\n", box,
		len(stream), extra)
	b.Write(stream)
	b.WriteString("\nendstream\nendobj\ntrailer << /Size 5 /Root 1 0 R >>\nstartxref\n0\n%%EOF\n")
	return b.Bytes()
}

func TestDamagedDocumentsSayWhy(t *testing.T) {
	whole := pdfOf("[0 0 200 100]", "", []byte("1 0 0 rg 0 0 100 100 re f"))
	facts(t, of("fine.pdf", whole), "pages=1", "first page=70.56 x 35.28 mm")
	for name, data := range map[string][]byte{
		"empty": {}, "no PDF": []byte("hello"), "its head only": whole[:20],
		"no pages":                   []byte("%PDF-1.4\n1 0 obj\n<< /Type /Catalog >>\nendobj\ntrailer << /Root 1 0 R >>\n%%EOF"),
		"a page as large as a field": pdfOf("[0 0 9000000 9000000]", "", nil),
	} {
		if r, _ := look(t, of("a.pdf", data)); r.Trouble == "" {
			t.Errorf("%s: nothing is said of it: %+v", name, r)
		}
	}
}

func FuzzDocuments(f *testing.F) {
	f.Add(pdfOf("[0 0 200 100]", "", []byte("1 0 0 rg 0 0 100 100 re f")))
	f.Add([]byte("%PDF-1.7\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if r, d, err := Look(of("a.pdf", data)); err != nil || r.Trouble == "" && d["whole.png"].picture == nil {
			t.Errorf("%+v, %v", r, err)
		}
	})
}
