package main

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jackc/pgx/v5"
)

// finding is S18: what finding takes in a very large project, for words that are rare, that are frequent, and that are in the middle of
// others.
func (b *bench) finding(assets int) error {
	fmt.Printf("finding: a project of %s assets …\n", humanize.Comma(int64(assets)))
	c, _, err := b.grow(assets)
	if err != nil {
		return err
	}
	start := time.Now()
	if err := b.gathered(); err != nil {
		return err
	}
	fmt.Printf("finding: words gathered %s after the last handoff\n", time.Since(start).Round(time.Second))
	for _, q := range []struct {
		what string
		text func(i int) string
	}{
		{"a name", func(i int) string { return fmt.Sprintf("asset%07d", (i*7919+11)%assets) }},
		{"two words", func(i int) string { return fmt.Sprintf("d%05d asset", (i*791+11)%(assets/100)) }},
		{"a part of a name", func(i int) string { return fmt.Sprintf("et%06d", (i*7919+11)%(assets/10)) }},
		{"a word that all have", func(int) string { return "asset" }},
		{"what is not there", func(i int) string { return fmt.Sprint("lantern ", i) }},
	} {
		slowest := 0.0
		took, err := median(looksEach, func(i int) error {
			from := time.Now()
			_, err := c.Find(b.ctx, c.key, q.text(i), 50)
			slowest = max(slowest, time.Since(from).Seconds())
			return err
		})
		if err != nil {
			return err
		}
		b.row("S18", fmt.Sprintf("finding %s among %s assets, as one types", q.what, humanize.Comma(int64(assets))),
			fmt.Sprintf("%.1f ms", took*1000), "none", fmt.Sprintf("%.1f ms at most", slowest*1000), "100 ms", took <= 0.1)
	}
	return nil
}

// gathered waits until the words that assets are found by are gathered.
func (b *bench) gathered() error {
	conn, err := pgx.Connect(b.ctx, b.db)
	if err != nil {
		return err
	}
	defer conn.Close(b.ctx)
	for {
		var left bool
		err := conn.QueryRow(b.ctx, "select exists (select from present where words is null)").Scan(&left)
		if err != nil || !left {
			return err
		}
		time.Sleep(time.Second)
	}
}
