package media

// Strip says which stretches of a content are different from another one: Parts are stretches of the later one in order, which together
// are all of it. Sizes are in bytes.
type Strip struct {
	Before  int64     `json:"before"`
	After   int64     `json:"after"`
	Changed int64     `json:"changed"`
	Parts   []Stretch `json:"parts"`
}

// Stretch is so many bytes that are the same as before, or not.
type Stretch struct {
	Size int64 `json:"size"`
	Same bool  `json:"same,omitempty"`
}

// Piece is a piece of a content by what is in it, named by a digest or the like. Size is in bytes.
type Piece[ID comparable] struct {
	ID   ID
	Size int64
}

// StripOf compares two contents by their pieces.
func StripOf[ID comparable](before, after []Piece[ID]) *Strip {
	s := &Strip{Parts: []Stretch{}}
	had := map[ID]bool{}
	for _, p := range before {
		had[p.ID] = true
		s.Before += p.Size
	}
	for _, p := range after {
		s.After += p.Size
		same := had[p.ID]
		if !same {
			s.Changed += p.Size
		}
		if n := len(s.Parts); n > 0 && s.Parts[n-1].Same == same {
			s.Parts[n-1].Size += p.Size
		} else {
			s.Parts = append(s.Parts, Stretch{p.Size, same})
		}
	}
	return s
}

// Draw draws a strip as a PNG: what is as before is grey, what is not is copper, and reaches further up and down.
func (s *Strip) Draw() ([]byte, error) {
	const width, height = 1200, 96
	c := newCanvas(width, height)
	at := int64(0)
	for _, p := range s.Parts {
		ink, margin := plain, 34
		if !p.Same {
			ink, margin = came, 14
		}
		first, last := at*(width-48)/max(s.After, 1), (at+p.Size)*(width-48)/max(s.After, 1)
		for x := first; x < max(last, first+1); x++ {
			for y := margin; y < height-margin; y++ {
				c.SetRGBA(24+int(x), y, ink)
			}
		}
		at += p.Size
	}
	return encoded(c.RGBA)
}
