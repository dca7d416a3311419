package service_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"testing"
	"time"

	"kettletarn/demo/scene"
	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"

	"github.com/jackc/pgx/v5"
)

// TestWhatIsThereTwice: byte for byte, what takes the most first; what went, or was changed since, is not there any more.
func TestWhatIsThereTwice(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.rurik, m.change(m.rurik, "a.png", 0, 0, "rust rust"), m.change(m.rurik, "old/a.png", 0, 0, "rust rust"),
		m.change(m.rurik, "b.png", 0, 0, "kelp"), m.change(m.rurik, "c.png", 0, 0, "kelp"), m.change(m.rurik, "d.png", 0, 0, "kelp"),
		m.change(m.rurik, "e.png", 0, 0, ""), m.change(m.rurik, "f.png", 0, 0, ""), m.change(m.rurik, "g.png", 0, 0, "fog")))
	told := func(path string) string {
		t.Helper()
		found, err := m.Twice(t.Context(), m.viewer, key, path, 0)
		if err != nil {
			t.Fatal(err)
		}
		out := fmt.Sprintf("%d, %d bytes:", found.Total, found.Wasted)
		for _, c := range found.Contents {
			out += fmt.Sprintf(" %d of %d", c.Count, c.Size)
			for _, a := range c.Assets {
				out += " " + a.Path
			}
		}
		return out
	}
	if got := told(""); got != "2, 17 bytes: 2 of 9 a.png old/a.png 3 of 4 b.png c.png d.png" {
		t.Error(got)
	}
	if got := told("C.png"); got != "1, 0 bytes: 2 of 4 b.png d.png" {
		t.Error(got)
	}
	if got := told("g.png"); got != "0, 0 bytes:" {
		t.Error(got)
	}
	fence := m.lock(m.rurik, "b.png", 1)
	ok(t)(m.send(m.rurik, m.change(m.rurik, "b.png", 1, fence, "kelp, darker")))
	if got := told(""); got != "2, 13 bytes: 2 of 9 a.png old/a.png 2 of 4 c.png d.png" {
		t.Error(got)
	}
	_, err := m.Twice(t.Context(), m.viewer, key, "nowhere.png", 0)
	testbed.Problem(t, err, model.NotFound)
	outsider, _ := m.Person(t, "stranger")
	_, err = m.Twice(t.Context(), outsider, key, "", 0)
	testbed.Problem(t, err, model.NotFound)
}

// TestWhatIsAlike: a picture that was made smaller is found beside the one that it was made of, once both were looked at; what was
// looked at before prints were taken is looked at again by itself.
func TestWhatIsAlike(t *testing.T) {
	m := newTeam(t, nil)
	rust, kelp := scene.Albedo("rust", 128, 0), scene.Albedo("kelp", 128, 0)
	picture, err := png.Decode(bytes.NewReader(rust))
	if err != nil {
		t.Fatal(err)
	}
	var small bytes.Buffer
	if err := png.Encode(&small, smaller{picture}); err != nil {
		t.Fatal(err)
	}
	ok(t)(m.send(m.rurik, m.change(m.rurik, "rust.png", 0, 0, string(rust)), m.change(m.rurik, "kelp.png", 0, 0, string(kelp)),
		m.change(m.rurik, "old/rust-small.png", 0, 0, small.String()), m.change(m.rurik, "rust.txt", 0, 0, "rust")))
	conn, err := pgx.Connect(t.Context(), m.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	looked := func() {
		t.Helper()
		ctx, stop := context.WithCancel(t.Context())
		done := make(chan struct{})
		go func() { m.LookingAhead(ctx); close(done) }()
		defer func() { stop(); <-done }()
		for range 600 { // asked of the database, since the service looks at things while nobody asks it
			var prints int
			if err := conn.QueryRow(t.Context(), "select count(*) from facts where print is not null").Scan(&prints); err != nil {
				t.Fatal(err)
			}
			if prints == 3 {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Fatal("nobody looked at the pictures")
	}
	looked()
	found, err := m.Alike(t.Context(), m.viewer, key, "Rust.png", 0)
	if err != nil || len(found.Assets) != 1 || found.Assets[0].Path != "old/rust-small.png" || found.Assets[0].Apart > 10 {
		t.Errorf("%+v, %v", found, err)
	}
	for _, path := range []string{"kelp.png", "rust.txt"} {
		if found, err := m.Alike(t.Context(), m.viewer, key, path, 0); err != nil || len(found.Assets) != 0 {
			t.Errorf("like %s: %+v, %v", path, found, err)
		}
	}
	_, err = m.Alike(t.Context(), m.viewer, key, "nowhere.png", 0)
	testbed.Problem(t, err, model.NotFound)

	if _, err := conn.Exec(t.Context(), "update facts set print = null, print_of = null"); err != nil {
		t.Fatal(err)
	}
	if found, err := m.Alike(t.Context(), m.viewer, key, "rust.png", 0); err != nil || len(found.Assets) != 0 {
		t.Errorf("without prints: %+v, %v", found, err)
	}
	looked()
}

// smaller is a picture of half the width and height.
type smaller struct{ image.Image }

func (s smaller) Bounds() image.Rectangle {
	return image.Rect(0, 0, s.Image.Bounds().Dx()/2, s.Image.Bounds().Dy()/2)
}

func (s smaller) At(x, y int) color.Color {
	var sum [3]uint32
	for _, at := range []image.Point{{2 * x, 2 * y}, {2*x + 1, 2 * y}, {2 * x, 2*y + 1}, {2*x + 1, 2*y + 1}} {
		r, g, b, _ := s.Image.At(at.X, at.Y).RGBA()
		sum[0], sum[1], sum[2] = sum[0]+r, sum[1]+g, sum[2]+b
	}
	return color.NRGBA64{uint16(sum[0] / 4), uint16(sum[1] / 4), uint16(sum[2] / 4), 0xffff}
}
