package media

import (
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/klippa-app/go-pdfium"
	"github.com/klippa-app/go-pdfium/references"
	"github.com/klippa-app/go-pdfium/requests"
	"github.com/klippa-app/go-pdfium/webassembly"
	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"
	"github.com/tetratelabs/wazero/experimental"
)

// maxPages is how many pages of a document are drawn, and pageEdge the longer side of each in pixels.
const (
	maxPages = 12
	pageEdge = 1400
)

// document is a PDF, drawn page by page by PDFium, which runs as WebAssembly: it gets at nothing but the document.
type document struct {
	pages   int
	title   string
	width   float64 // of the first page, in points
	height  float64
	drawn   []*image.NRGBA
	version int
}

// PDFium comes in two ways, each made ready once a process: interpreted it is there at once, compiled after some seconds and then draws
// thirty times as fast. Its memory is bounded (2,560 pages of it are 160 MiB), the file system that it sees is an empty one, and what it
// says goes nowhere.
var (
	interpreted = sync.OnceValues(func() (pdfium.Pool, error) { return renderer(wazero.NewRuntimeConfigInterpreter()) })
	compiled    = sync.OnceValues(func() (pdfium.Pool, error) { return renderer(wazero.NewRuntimeConfig()) })
)

func renderer(config wazero.RuntimeConfig) (pdfium.Pool, error) {
	return webassembly.Init(webassembly.Config{Context: experimental.WithCompilationWorkers(context.Background(), 2), MaxIdle: 1, MaxTotal: 1,
		FSConfig: wazero.NewFSConfig(), Stdout: io.Discard, Stderr: io.Discard,
		RuntimeConfig: config.WithMemoryLimitPages(2560).WithCoreFeatures(api.CoreFeaturesV2 | experimental.CoreFeaturesExceptionHandling)})
}

// fewPages is up to how many pages are drawn interpreted.
const fewPages = 3

func readDocument(s Subject) (seen, error) {
	data, err := s.read(maxText)
	if err != nil {
		return nil, err
	}
	if !strings.Contains(string(data[:min(len(data), 1024)]), "%PDF-") {
		return nil, unreadable("it does not start like a PDF file")
	}
	d := &document{}
	if err := d.within(interpreted, data, fewPages); err != nil {
		return nil, err
	}
	if len(d.drawn) == 0 {
		return d, d.within(compiled, data, maxPages)
	}
	return d, nil
}

// within reads a document, and draws it where it has no more than some pages, with one way of PDFium.
func (d *document) within(of func() (pdfium.Pool, error), data []byte, few int) error {
	pool, err := of()
	if err != nil {
		return fmt.Errorf("the reader of documents can't be started: %w", err)
	}
	reader, err := pool.GetInstance(30 * time.Second)
	if err != nil {
		return fmt.Errorf("the reader of documents can't be started: %w", err)
	}
	defer reader.Close()
	if err := d.read(reader, data, few); err != nil {
		if errors.Is(err, ErrUnreadable) {
			return err
		}
		return unreadable("it is damaged, locked with a password, or unfolds to more than is looked into")
	}
	return nil
}

func (d *document) read(reader pdfium.Pdfium, data []byte, few int) error {
	open, err := reader.OpenDocument(&requests.OpenDocument{File: &data})
	if err != nil {
		return err
	}
	defer func() {
		_, _ = reader.FPDF_CloseDocument(&requests.FPDF_CloseDocument{Document: open.Document})
	}()
	count, err := reader.FPDF_GetPageCount(&requests.FPDF_GetPageCount{Document: open.Document})
	if err != nil {
		return err
	}
	if d.pages = count.PageCount; d.pages < 1 || d.pages > 100_000 {
		return unreadable("it has %d pages", d.pages)
	}
	if meta, err := reader.FPDF_GetMetaText(&requests.FPDF_GetMetaText{Document: open.Document, Tag: "Title"}); err == nil {
		d.title = clean(meta.Value)
	}
	if version, err := reader.FPDF_GetFileVersion(&requests.FPDF_GetFileVersion{Document: open.Document}); err == nil {
		d.version = version.FileVersion
	}
	if few < maxPages && d.pages > few {
		return nil
	}
	for i := range min(d.pages, maxPages) {
		if err := d.draw(reader, open.Document, i); err != nil {
			return err
		}
	}
	return nil
}

func (d *document) draw(reader pdfium.Pdfium, document references.FPDF_DOCUMENT, i int) error {
	page := requests.Page{ByIndex: &requests.PageByIndex{Document: document, Index: i}}
	size, err := reader.GetPageSize(&requests.GetPageSize{Page: page})
	if err != nil {
		return err
	}
	if size.Width <= 0 || size.Height <= 0 || size.Width > 1e5 || size.Height > 1e5 {
		return unreadable("page %d of it has no size", i+1)
	}
	if i == 0 {
		d.width, d.height = size.Width, size.Height
	}
	scale := pageEdge / max(size.Width, size.Height)
	r, err := reader.RenderPageInPixels(&requests.RenderPageInPixels{Page: page, Width: max(1, int(size.Width*scale)),
		Height: max(1, int(size.Height*scale))})
	if err != nil {
		return err
	}
	defer r.Cleanup()
	// Its memory is the reader's: copied, and laid on white.
	drawn, ok := r.Result.RenderedImage.(*image.RGBA)
	if !ok {
		return errors.New("the page is drawn in another form than was asked for")
	}
	m := image.NewNRGBA(drawn.Bounds())
	for at := 0; at+3 < len(m.Pix) && at+3 < len(drawn.Pix); at += 4 {
		alpha := uint32(drawn.Pix[at+3])
		for c := range 3 {
			m.Pix[at+c] = uint8(min(255, uint32(drawn.Pix[at+c])+255-alpha))
		}
		m.Pix[at+3] = 255
	}
	d.drawn = append(d.drawn, m)
	return nil
}

func (d *document) report(drawn Drawn) (Report, error) {
	r := Report{Kind: Document, Format: "PDF", Pages: len(d.drawn),
		Facts: []Fact{{"format", fmt.Sprintf("PDF %d.%d", d.version/10, d.version%10)}, {"pages", number(d.pages)}}}
	if d.title != "" {
		r.Facts = append(r.Facts, Fact{"title", d.title})
	}
	r.Facts = append(r.Facts, Fact{"first page", fmt.Sprintf("%s x %s mm", rounded(d.width/72*25.4), rounded(d.height/72*25.4))})
	for i, m := range d.drawn {
		drawn.png(fmt.Sprintf("page-%d.png", i+1), m)
	}
	drawn.png("whole.png", d.drawn[0])
	return r, nil
}

func asPicture(m *image.NRGBA) *picture {
	p := &picture{}
	p.take(m)
	return p
}

func (d *document) compare(after seen, c *Comparison, drawn Drawn) error {
	other := after.(*document)
	changed := 0
	for i := range max(len(d.drawn), len(other.drawn)) {
		name := fmt.Sprintf("page %d", i+1)
		switch {
		case i >= len(d.drawn):
			c.Changes = append(c.Changes, Change{Change: Came, What: "page", Name: name})
		case i >= len(other.drawn):
			c.Changes = append(c.Changes, Change{Change: Went, What: "page", Name: name})
		default:
			a, b := asPicture(d.drawn[i]), asPicture(other.drawn[i])
			if a.work.Bounds() != b.work.Bounds() {
				c.Changes = append(c.Changes, Change{Change: Became, What: "page", Name: name, After: "another size"})
				continue
			}
			l, heat := a.like(b)
			if l.Changed == 0 {
				continue
			}
			changed++
			c.Changes = append(c.Changes, Change{Change: Became, What: "page", Name: name, After: percent(l.Changed) + " of it"})
			drawn.png(fmt.Sprintf("difference-page-%d.png", i+1), heat)
			if _, ok := drawn["difference.png"]; !ok {
				drawn.png("difference.png", heat)
			}
		}
	}
	c.Measures = append(c.Measures, Fact{"pages changed", number(changed)})
	if d.pages != other.pages {
		c.Measures = append(c.Measures, Fact{"pages", gained(d.pages, other.pages)})
	}
	c.Same = len(c.Changes) == 0 && d.pages == other.pages && d.pages <= maxPages
	return nil
}
