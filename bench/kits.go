package main

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// kitRules make a kit of everything.
const kitRules = "[[kit]]\nname = \"all\"\nmatch = \"*.bin\"\n"

// makers grows a project of so many assets that makes a kit of them, and releases it.
func (b *bench) makers(assets int) (*caller, []chunk.Digest, error) {
	c, contents, err := b.grow(assets)
	if err != nil {
		return nil, nil, err
	}
	rules, err := c.upload(kitRules)
	if err != nil {
		return nil, nil, err
	}
	if _, err := c.Send(b.ctx, c.key, uuid.NewString(), model.SendRequest{Workspace: c.ws, About: model.About{Note: "A kit of all"},
		Changes: []model.SendChange{{Path: "tarn.toml", Content: rules[0], Size: int64(len(kitRules))}}}); err != nil {
		return nil, nil, err
	}
	return c, contents, c.release()
}

func (c *caller) release() error {
	_, err := c.ReleaseKit(c.b.ctx, c.key, model.KitReleaseRequest{Kit: "all", Note: "as it is"})
	return err
}

// kits is S16: what bringing a release to a use costs beside a handoff of as many assets, and releasing kits of other sizes.
func (b *bench) kits(assets int) error {
	var update, handoff series
	for range b.runs {
		// Its contents are in the project of the use, too, once that has the kit: none has to come with what is timed.
		maker, contents, err := b.makers(assets)
		if err != nil {
			return err
		}
		user, err := b.caller(b.freshKey())
		if err != nil {
			return err
		}
		q := model.KitRequest{Kit: maker.key + "/all", Dir: "kits/all", Workspace: user.ws}
		if _, err := user.ChangeKit(b.ctx, user.key, uuid.NewString(), q); err != nil {
			return err
		}
		if _, err := b.settle(); err != nil {
			return err
		}
		if err := maker.edit(model.FirstBranch, assets, 7, contents); err != nil {
			return err
		}
		handoff = append(handoff, sample{time: maker.took})
		if err := maker.release(); err != nil {
			return err
		}
		if _, err := b.settle(); err != nil {
			return err
		}
		start := time.Now()
		done, err := user.ChangeKit(b.ctx, user.key, uuid.NewString(), model.KitRequest{Dir: "kits/all", Workspace: user.ws})
		if err != nil {
			return err
		}
		if update = append(update, sample{time: time.Since(start)}); len(done.Changes) != assets {
			return fmt.Errorf("%d of %d assets came", len(done.Changes), assets)
		}
	}
	ratio := update.median() / handoff.median()
	b.row("S16", fmt.Sprintf("a use of %s assets brought to another release", humanize.Comma(int64(assets))), update.String(),
		"a handoff of as many "+handoff.String(), fmt.Sprintf("%.2f of its time", ratio), "1.2", ratio <= 1.2)

	return b.releases(100, 100_000)
}

// releases times releasing a small and a large kit, in turn.
func (b *bench) releases(sizes ...int) error {
	var makers []*caller
	for _, n := range sizes {
		c, _, err := b.makers(n)
		if err != nil {
			return err
		}
		makers = append(makers, c)
	}
	if _, err := b.settle(); err != nil { // what is found by, and the history in packs, are made behind it
		return err
	}
	times := make([]series, len(sizes))
	for range 41 {
		for i, c := range makers {
			start := time.Now()
			if err := c.release(); err != nil {
				return err
			}
			times[i] = append(times[i], sample{time: time.Since(start)})
		}
	}
	small, large := times[0].median(), times[1].median()
	ratio := large / small
	b.row("S16", fmt.Sprintf("a kit of %s assets released", humanize.Comma(int64(sizes[1]))), fmt.Sprintf("%.1f ms", 1000*large),
		fmt.Sprintf("one of %d %.1f ms", sizes[0], 1000*small), fmt.Sprintf("%.2f of its time", ratio), "1.5 (ours)", ratio <= 1.5)
	return nil
}
