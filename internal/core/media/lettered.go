package media

import (
	"image"
	"image/color"
	"strings"

	"golang.org/x/image/font/basicfont"
)

// Limits of a text that is drawn: lines, and letters of each.
const (
	maxLettered = 48
	maxLetters  = 72
)

// lettered is one line of a text that is drawn, behind a sign, on a ground of its own where one is given.
type lettered struct {
	sign string
	text string
	ink  color.RGBA
	on   *color.RGBA
}

// letter draws the start of a text. The font has the letters of ASCII; others are drawn as boxes.
func letter(list []lettered) image.Image {
	const wide, high, margin = 7, 17, 14
	list = list[:min(len(list), maxLettered)]
	columns := 20
	for i, l := range list {
		text := []rune(strings.ReplaceAll(clean2(l.text), "\t", "    "))
		text = text[:min(len(text), maxLetters)]
		list[i].text = string(text)
		columns = max(columns, len(text)+2)
	}
	c := newCanvas(columns*wide+2*margin, max(len(list), 6)*high+2*margin)
	for i, l := range list {
		y := margin + i*high
		if l.on != nil {
			for row := y; row < y+high; row++ {
				for x := range c.Bounds().Dx() {
					c.SetRGBA(x, row, *l.on)
				}
			}
		}
		base := y + basicfont.Face7x13.Ascent + 2
		c.write(l.ink, margin, base, l.sign)
		c.write(l.ink, margin+2*wide, base, l.text)
	}
	return c.RGBA
}

// Grounds of lines that came and that went.
var (
	onCame  = color.RGBA{0x3a, 0x2f, 0x27, 0xff}
	onWent  = color.RGBA{0x22, 0x35, 0x3b, 0xff}
	letters = color.RGBA{0xd5, 0xd0, 0xc4, 0xff}
)
