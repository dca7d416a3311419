package media

import (
	"fmt"
	"image"
	"math"
	"math/bits"
	"strconv"
)

// A print is 64 bits that stay nearly the same when a picture or a sound is made smaller, louder, or encoded anew: of two that look or
// sound alike few bits differ, of two that do not about half of them. Prints of pictures and of sounds are not compared with each other.

// PrintAlike is how many bits of two prints differ at most where the two are told as alike.
const PrintAlike = 10

// PrintOf reads a print as [Report] has it; false where there is none.
func PrintOf(text string) (uint64, bool) {
	n, err := strconv.ParseUint(text, 16, 64)
	return n, err == nil && len(text) == 16
}

// Apart is how many bits of two prints differ.
func Apart(a, b uint64) int { return bits.OnesCount64(a ^ b) }

func printText(print uint64) string { return fmt.Sprintf("%016x", print) }

// picturePrint compares the brightness of each place with that of the place right of it, over eight rows of nine places each. A picture
// that is the same everywhere has none.
func picturePrint(m *image.NRGBA64) string {
	const columns, rows = 9, 8
	w, h := m.Bounds().Dx(), m.Bounds().Dy()
	if w < columns || h < rows {
		return ""
	}
	// Of a large place, 64 points across and as many down say enough.
	acrossStep, downStep := max(1, w/columns/64), max(1, h/rows/64)
	var light [rows][columns]float64
	least, most := math.Inf(1), math.Inf(-1)
	for r := range rows {
		for c := range columns {
			sum, n := 0.0, 0
			for y := r * h / rows; y < (r+1)*h/rows; y += downStep {
				for x := c * w / columns; x < (c+1)*w/columns; x += acrossStep {
					p := m.Pix[y*m.Stride+8*x:]
					v := func(i int) float64 { return float64(uint16(p[i])<<8|uint16(p[i+1])) / 65535 }
					// What is not opaque lies on grey.
					sum += (0.2126*v(0)+0.7152*v(2)+0.0722*v(4))*v(6) + 0.5*(1-v(6))
					n++
				}
			}
			light[r][c] = sum / float64(n)
			least, most = min(least, light[r][c]), max(most, light[r][c])
		}
	}
	if most-least < 0.02 {
		return ""
	}
	print := uint64(0)
	for r := range rows {
		for c := range columns - 1 {
			print <<= 1
			if light[r][c] < light[r][c+1] {
				print |= 1
			}
		}
	}
	return printText(print)
}

// soundPrint takes the signs of the differences of neighbouring bands' energies from one of nine parts of a sound to the next (Haitsma and
// Kalker, A Highly Robust Audio Fingerprinting System, ISMIR 2002). columns are spectra in dB; a sound without nine of them, or that is
// silent, has none.
func soundPrint(columns [][]float64, rate int) string {
	const parts, bands = 9, 9
	const lowest, highest = 100.0, 8000.0
	if len(columns) < parts || rate <= 0 {
		return ""
	}
	edge := func(b int) int {
		hertz := lowest * math.Pow(highest/lowest, float64(b)/bands)
		return min(int(hertz*window/float64(rate)), len(columns[0])-1)
	}
	var energy [parts][bands]float64
	loudest := math.Inf(-1)
	for p := range parts {
		for b := range bands {
			from, to := edge(b), max(edge(b+1), edge(b)+1)
			sum, n := 0.0, 0
			for _, column := range columns[p*len(columns)/parts : (p+1)*len(columns)/parts] {
				for _, db := range column[from:min(to, len(column))] {
					sum += math.Pow(10, db/10)
					n++
				}
			}
			energy[p][b] = 10 * math.Log10(sum/float64(max(n, 1))+1e-12)
			loudest = max(loudest, energy[p][b])
		}
	}
	if loudest < -90 {
		return ""
	}
	print := uint64(0)
	for p := 1; p < parts; p++ {
		for b := range bands - 1 {
			print <<= 1
			if energy[p][b]-energy[p][b+1]-(energy[p-1][b]-energy[p-1][b+1]) > 0 {
				print |= 1
			}
		}
	}
	return printText(print)
}
