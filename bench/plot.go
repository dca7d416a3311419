package main

import (
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"

	"github.com/dustin/go-humanize"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
)

// sendPoint is the first send of one file of a size.
type sendPoint struct {
	size     int64
	seconds  float64
	client   int64
	baseline float64 // b3sum of the same file
}

// growth measures first sends of one file, larger and larger.
func (b *bench) growth(largest int64) error {
	for size := int64(16 << 20); size <= largest; size *= 4 {
		key := b.freshKey()
		work := filepath.Join(b.folder, key)
		if err := os.MkdirAll(work, 0o755); err != nil {
			return err
		}
		if err := noiseFile(filepath.Join(work, "large.bin"), size, 11); err != nil {
			return err
		}
		s, err := b.ours(work, "start", key, "--yes", "--json")
		if err != nil {
			return err
		}
		hash, err := b.yardstick("b3sum", filepath.Join(work, "large.bin"))
		if err != nil {
			return err
		}
		b.sends = append(b.sends, sendPoint{size, s.time.Seconds(), s.memory, hash.time.Seconds()})
		fmt.Printf("growth: %s in %.2f s, client %s\n", humanize.IBytes(uint64(size)), s.time.Seconds(), humanize.IBytes(uint64(s.memory)))
		if err := os.RemoveAll(work); err != nil {
			return err
		}
	}
	return nil
}

var inks = []color.Color{color.RGBA{0x1b, 0x5e, 0x7a, 255}, color.RGBA{0xb4, 0x53, 0x09, 255}, color.RGBA{0x3f, 0x6b, 0x2f, 255},
	color.RGBA{0x7a, 0x2e, 0x5c, 255}, color.RGBA{0x55, 0x55, 0x55, 255}, color.RGBA{0x2b, 0x8f, 0x86, 255}}

var shapes = []draw.GlyphDrawer{draw.CircleGlyph{}, draw.BoxGlyph{}, draw.TriangleGlyph{}, draw.PyramidGlyph{}, draw.RingGlyph{},
	draw.SquareGlyph{}}

// ticks are those of a logarithmic axis, with numbers as they are written elsewhere.
type ticks struct{ plot.LogTicks }

func (t ticks) Ticks(low, high float64) []plot.Tick {
	all := t.LogTicks.Ticks(low, high)
	for i := range all {
		if all[i].Label != "" {
			all[i].Label = humanize.Commaf(all[i].Value)
		}
	}
	return all
}

// panel makes one diagram with both axes logarithmic.
func panel(title, x, y string, lines map[string]plotter.XYs, order []string) (*plot.Plot, error) {
	p := plot.New()
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = title, x, y
	p.X.Scale, p.Y.Scale = plot.LogScale{}, plot.LogScale{}
	p.X.Tick.Marker, p.Y.Tick.Marker = ticks{plot.LogTicks{Prec: -1}}, ticks{plot.LogTicks{Prec: -1}}
	p.Add(plotter.NewGrid())
	p.Legend.Top, p.Legend.Left = true, true
	for i, name := range order {
		if len(lines[name]) == 0 {
			continue
		}
		line, points, err := plotter.NewLinePoints(lines[name])
		if err != nil {
			return nil, err
		}
		line.Color, points.Color, line.Width = inks[i%len(inks)], inks[i%len(inks)], vg.Points(1.6)
		points.Shape = shapes[i%len(shapes)]
		p.Add(line, points)
		p.Legend.Add(name, line, points)
	}
	p.Y.Max *= math.Pow(10, 0.2*float64(len(order))) // room for the legend
	return p, nil
}

// diagram is one of a picture's.
type diagram struct {
	title, x, y string
	lines       map[string]plotter.XYs
	order       []string
}

// picture is a file with diagrams side by side, and what it shows.
type picture struct {
	suffix, about string
	diagrams      []diagram
}

// pictures are those that make bench draws; one without points was not measured in this run.
func (b *bench) pictures() []picture {
	seconds, memory, assets := map[string]plotter.XYs{}, map[string]plotter.XYs{}, map[string]plotter.XYs{}
	for _, s := range b.sends {
		x := float64(s.size) / (1 << 20)
		seconds["first send"] = append(seconds["first send"], plotter.XY{X: x, Y: s.seconds})
		seconds["b3sum"] = append(seconds["b3sum"], plotter.XY{X: x, Y: max(s.baseline, 0.001)})
		memory["client"] = append(memory["client"], plotter.XY{X: x, Y: float64(s.client) / (1 << 20)})
	}
	for _, g := range b.grown {
		for _, name := range looks {
			assets[name] = append(assets[name], plotter.XY{X: float64(g.assets), Y: g.times[name] * 1000})
		}
	}
	return []picture{
		{"large-file", "the first send of one file, and the client's memory, against its size", []diagram{
			{"One large file: time", "MiB", "seconds", seconds, []string{"first send", "b3sum"}},
			{"One large file: memory", "MiB", "MiB resident at most", memory, []string{"client"}},
		}},
		{"project", "looks into a project and a send of one asset, against its assets",
			[]diagram{{"A growing project", "assets", "milliseconds (median)", assets, looks}}},
	}
}

// draw writes a picture, if there is something to draw.
func (p picture) draw(file string) error {
	if len(p.diagrams[0].lines) == 0 {
		return nil
	}
	var panels []*plot.Plot
	for _, d := range p.diagrams {
		one, err := panel(d.title, d.x, d.y, d.lines, d.order)
		if err != nil {
			return err
		}
		panels = append(panels, one)
	}
	canvas := vgimg.New(vg.Length(len(panels))*5*vg.Inch, 4*vg.Inch)
	tiles := draw.Tiles{Rows: 1, Cols: len(panels), PadX: vg.Millimeter * 6, PadTop: vg.Millimeter * 3, PadBottom: vg.Millimeter * 3,
		PadLeft: vg.Millimeter * 3, PadRight: vg.Millimeter * 3}
	cells := plot.Align([][]*plot.Plot{panels}, tiles, draw.New(canvas))
	for i, p := range panels {
		p.Draw(cells[0][i])
	}
	out, err := os.Create(file)
	if err != nil {
		return err
	}
	if _, err := (vgimg.PngCanvas{Canvas: canvas}).WriteTo(out); err != nil {
		_ = out.Close()
		return err
	}
	return out.Close()
}
