// Package scene makes the demo's files: textures, models, levels, sounds, text, a schematic and a board with what belongs to them. All
// of it is made up and deterministic: the same name and pass give the same bytes. Passes are the stages that an artist's work goes
// through; each looks different.
package scene

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"math"
	"runtime"
	"sync"
)

// noise is smooth value noise in 0…1 that repeats after period cells.
func noise(x, y float64, period int, seed uint32) float64 {
	cell := func(i, j int) float64 {
		h := uint32(((i%period)+period)%period)*374761393 + uint32(((j%period)+period)%period)*668265263 + seed*2246822519
		h = (h ^ h>>13) * 1274126177
		return float64((h^h>>16)&0xffff) / 65535
	}
	x0, y0 := math.Floor(x), math.Floor(y)
	fx, fy := x-x0, y-y0
	fx, fy = fx*fx*(3-2*fx), fy*fy*(3-2*fy)
	i, j := int(x0), int(y0)
	top := cell(i, j)*(1-fx) + cell(i+1, j)*fx
	low := cell(i, j+1)*(1-fx) + cell(i+1, j+1)*fx
	return top*(1-fy) + low*fy
}

// layered adds octaves of noise.
func layered(u, v float64, cells, octaves int, seed uint32) float64 {
	sum, weight, total := 0.0, 1.0, 0.0
	for o := range octaves {
		sum += weight * noise(u*float64(cells), v*float64(cells), cells, seed+uint32(o)*17)
		total += weight
		weight *= 0.5
		cells *= 2
	}
	return sum / total
}

type rgb struct{ r, g, b float64 }

func mix(a, b rgb, t float64) rgb {
	t = math.Max(0, math.Min(1, t))
	return rgb{a.r + (b.r-a.r)*t, a.g + (b.g-a.g)*t, a.b + (b.b-a.b)*t}
}

func hex(v uint32) rgb {
	return rgb{float64(v>>16&255) / 255, float64(v>>8&255) / 255, float64(v&255) / 255}
}

func step(a, b, x float64) float64 {
	t := math.Max(0, math.Min(1, (x-a)/(b-a)))
	return t * t * (3 - 2*t)
}

// material gives height (0…1), colour and roughness of a surface at u, v in 0…1.
type material func(u, v float64, pass int) (height float64, c rgb, rough float64)

var materials = map[string]material{
	"rust": func(u, v float64, pass int) (float64, rgb, float64) {
		plate := layered(u, v, 6, 6, 11)
		seam := math.Min(math.Abs(math.Mod(u*4, 1)-0.5), math.Abs(math.Mod(v*2+0.25, 1)-0.5))
		bite := step(0.62-0.07*float64(pass), 0.72-0.05*float64(pass), layered(u, v, 9, 5, 5)+0.25*step(0.06, 0, seam))
		c := mix(mix(hex(0x5b6d73), hex(0x3b4a51), plate), mix(hex(0x8a3f1d), hex(0xc9772f), layered(u, v, 24, 4, 8)), bite)
		rivet := math.Hypot(math.Mod(u*16, 1)-0.5, math.Mod(v*8, 1)-0.5)
		h := 0.5 + 0.2*plate - 0.3*bite*layered(u, v, 30, 3, 2) + 0.25*step(0.24, 0.14, rivet) - 0.3*step(0.02, 0.005, seam)
		return h, mix(c, hex(0x23292b), 0.7*step(0.02, 0.005, seam)), 0.35 + 0.55*bite
	},
	"brine": func(u, v float64, pass int) (float64, rgb, float64) {
		w := layered(u+0.08*layered(u, v, 4, 3, 3), v+0.08*layered(u, v, 4, 3, 4), 7, 5, 21)
		ridge := 1 - math.Abs(2*w-1)
		foam := step(0.93-0.03*float64(pass), 0.99, ridge)
		return ridge, mix(mix(hex(0x0c2a33), hex(0x2f6f78), ridge*ridge), hex(0xdfeeea), foam), 0.08 + 0.5*foam
	},
	"kelp": func(u, v float64, pass int) (float64, rgb, float64) {
		sway := 0.05 * math.Sin(v*math.Pi*4+6*layered(u, v, 3, 2, 9))
		blade := math.Abs(math.Mod((u+sway)*float64(7+pass)+8, 1) - 0.5)
		leaf := step(0.42, 0.2, blade)
		vein := step(0.05, 0.01, blade)
		c := mix(hex(0x0e2420), mix(hex(0x38591f), hex(0x9aa13a), layered(u, v, 20, 4, 6)), leaf)
		return leaf * (0.6 + 0.4*vein), mix(c, hex(0xd2c878), 0.5*vein*leaf), 0.3 + 0.3*(1-leaf)
	},
	"glass": func(u, v float64, pass int) (float64, rgb, float64) {
		ring := math.Mod(math.Hypot(u-0.5, v-0.5)*float64(18+2*pass), 1)
		lens := 1 - math.Abs(2*ring-1)
		glow := math.Exp(-6 * math.Hypot(u-0.5, v-0.5))
		c := mix(mix(hex(0x21424a), hex(0xa8d4cf), lens), hex(0xffe6a8), glow)
		return lens, mix(c, hex(0x46554f), 0.35*step(0.7, 0.9, layered(u, v, 14, 4, 30))), 0.03 + 0.2*layered(u, v, 40, 2, 31)
	},
	"fog": func(u, v float64, pass int) (float64, rgb, float64) {
		f := layered(u+0.3*layered(u, v, 3, 4, 41), v*0.6, 4, 6, 40)
		return f, mix(hex(0x6d7f86), hex(0xe4e6df), step(0.3-0.04*float64(pass), 0.8, f)), 1
	},
	"plank": func(u, v float64, pass int) (float64, rgb, float64) {
		row := math.Floor(v * 6)
		grain := layered(u*0.4+row*0.37, v*6, 12, 5, uint32(50+row))
		gap := step(0.04, 0.01, math.Min(math.Mod(v*6, 1), 1-math.Mod(v*6, 1)))
		c := mix(mix(hex(0x4a3726), hex(0x9c7a4f), grain), hex(0x2b4a45), 0.3*float64(pass)*layered(u, v, 8, 4, 60))
		return grain * (1 - gap), mix(c, hex(0x15100b), gap), 0.7
	},
}

func encode(img image.Image) []byte {
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		panic(err)
	}
	return b.Bytes()
}

func to8(v float64) uint8 { return uint8(math.Max(0, math.Min(1, v))*255 + 0.5) }

// Albedo, Normal, Roughness are the maps of a material; Height is one of 16 bit.
func Albedo(name string, edge, pass int) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, edge, edge))
	each(edge, edge, func(x, y int, u, v float64) {
		h, c, _ := materials[name](u, v, pass)
		shade := 0.75 + 0.35*h
		img.SetNRGBA(x, y, color.NRGBA{to8(c.r * shade), to8(c.g * shade), to8(c.b * shade), 255})
	})
	return encode(img)
}

func Normal(name string, edge, pass int) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, edge, edge))
	d := 1 / float64(edge)
	each(edge, edge, func(x, y int, u, v float64) {
		h0, _, _ := materials[name](u, v, pass)
		hx, _, _ := materials[name](u+d, v, pass)
		hy, _, _ := materials[name](u, v+d, pass)
		nx, ny := (h0-hx)*40, (h0-hy)*40
		l := math.Sqrt(nx*nx + ny*ny + 1)
		img.SetNRGBA(x, y, color.NRGBA{to8(nx/l/2 + 0.5), to8(ny/l/2 + 0.5), to8(1/l/2 + 0.5), 255})
	})
	return encode(img)
}

func Roughness(name string, edge, pass int) []byte {
	img := image.NewGray(image.Rect(0, 0, edge, edge))
	each(edge, edge, func(x, y int, u, v float64) {
		_, _, r := materials[name](u, v, pass)
		img.SetGray(x, y, color.Gray{to8(r)})
	})
	return encode(img)
}

func Height(name string, edge, pass int) []byte {
	img := image.NewGray16(image.Rect(0, 0, edge, edge))
	each(edge, edge, func(x, y int, u, v float64) {
		h, _, _ := materials[name](u, v, pass)
		img.SetGray16(x, y, color.Gray16{uint16(math.Max(0, math.Min(1, h)) * 65535)})
	})
	return encode(img)
}

// each calls do for every pixel, rows side by side on all cores.
func each(w, h int, do func(x, y int, u, v float64)) {
	var wait sync.WaitGroup
	workers := runtime.GOMAXPROCS(0)
	for k := range workers {
		wait.Go(func() {
			for y := k; y < h; y += workers {
				for x := range w {
					do(x, y, float64(x)/float64(w), float64(y)/float64(h))
				}
			}
		})
	}
	wait.Wait()
}

// Sky is a picture of the evening over the drowned coast, as wide as it is twice high.
func Sky(height, pass int) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, 2*height, height))
	each(2*height, height, func(x, y int, u, v float64) {
		c := mix(hex(0x1b2a3a), hex(0xd98b52), step(0.1, 0.62, v))
		cloud := layered(u*2, v*5, 4, 6, uint32(70+pass))
		c = mix(c, hex(0x4a4550), 0.8*step(0.5, 0.75, cloud)*step(0.7, 0.3, v))
		if horizon := 0.62 + 0.015*layered(u, 0, 9, 3, 77); v > horizon {
			c = mix(hex(0x8f6a4d), hex(0x0c2029), step(horizon, 1, v))
			c = mix(c, hex(0xf0d3a0), step(0.985, 1, layered(u, v*14, 30, 2, 80))*(1-v)*2)
		}
		tower := math.Abs(math.Mod(u*3+0.13, 1) - 0.5)
		if tower < 0.012+0.01*(v-0.4) && v > 0.44 && v < 0.63 {
			c = hex(0x14181c)
		}
		glow := math.Hypot((math.Mod(u*3+0.13, 1)-0.5)/1.5, v-0.43)
		c = mix(c, hex(0xffe9b0), math.Exp(-60*glow)*float64(1+pass)*0.6)
		img.SetNRGBA(x, y, color.NRGBA{to8(c.r), to8(c.g), to8(c.b), 255})
	})
	return encode(img)
}

// Dial is a round instrument for the game's interface.
func Dial(edge, marks int, needle float64, pass int) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, edge, edge))
	each(edge, edge, func(x, y int, u, v float64) {
		dx, dy := u-0.5, v-0.5
		d, angle := math.Hypot(dx, dy), math.Atan2(dy, dx)
		a := step(0.49, 0.475, d)
		c := mix(hex(0xe8dcc0), hex(0xc9b58a), layered(u, v, 10, 4, 90))
		c = mix(c, hex(0x8a5a2b), step(0.43, 0.445, d))
		turn := math.Mod(angle/(2*math.Pi)*float64(marks)+float64(marks), 1)
		if math.Min(turn, 1-turn) < 0.06 && d > 0.34 && d < 0.42 {
			c = hex(0x3a2a1a)
		}
		off := math.Abs(math.Mod(angle-needle+3*math.Pi, 2*math.Pi) - math.Pi)
		if off*d < 0.02-0.03*d && d < 0.36 {
			c = mix(hex(0xb5432a), hex(0x2b4a55), float64(pass)*0.5)
		}
		if d < 0.035 {
			c = hex(0x2a2018)
		}
		img.SetNRGBA(x, y, color.NRGBA{to8(c.r), to8(c.g), to8(c.b), to8(a)})
	})
	return encode(img)
}
