// Package keeping looks after what is stored: it packs the history, merges and removes, checks everything, and brings projects back from
// their packs alone.
package keeping

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/looking"
	"kettletarn/internal/service/ruling"
	"kettletarn/internal/store"
)

// Room keeps what is stored: in fewer packs, checked, and brought back.
type Room struct {
	*ruling.Room
	looks *looking.Room
	hand  byHand
}

// New makes the room.
func New(rules *ruling.Room, looks *looking.Room) *Room { return &Room{Room: rules, looks: looks} }

// CollectOptions say what is old enough. The zero value is for tests; see CollectDefaults.
type CollectOptions struct {
	// Lease is how long content stays that nothing refers to, after somebody brought it or was told that it is here.
	Lease time.Duration
	// Pause is how long what was condemned stays: for readers who know where it lies, and for second thoughts.
	Pause time.Duration
}

// CollectDefaults are those of tarnd collect.
func CollectDefaults() CollectOptions {
	return CollectOptions{Lease: records.LeaseDays * 24 * time.Hour, Pause: 24 * time.Hour}
}

// Collected is what a collection did. Sizes are bytes.
type Collected struct {
	Condemned int64 `json:"condemned"`
	Chunks    int64 `json:"chunks"`
	Contents  int64 `json:"contents"`
	Rewritten int   `json:"rewritten"`
	Packs     int   `json:"packs"`
	Projects  int   `json:"projects"`
	Freed     int64 `json:"freed"`
}

// Bounds of rewriting: a pack below smallPack is merged with others, one of which less than a half is in use is thin.
const (
	smallPack = 4 << 20
	mergedMax = 64 << 20
)

// Collect removes what nothing refers to, in two steps: what is not referred to is condemned; what was condemned Pause ago, and still is
// referred to by nothing, goes. Packs that are small or thin are written anew. It is safe beside everything else that runs: whoever is
// told that a chunk is here has it for the length of the lease, and only what nobody was told of is condemned or goes.
func (s *Room) Collect(ctx context.Context, o CollectOptions) (*Collected, error) {
	out := &Collected{}
	alone, err := s.DB.Alone(ctx, 1, func() error {
		var list, deleted []records.Project
		if err := s.Use(ctx, func(tx *records.Tx) (err error) {
			if list, err = tx.AllProjects(ctx); err != nil {
				return err
			}
			deleted, err = tx.DeletedProjects(ctx)
			return err
		}); err != nil {
			return err
		}
		for _, p := range deleted {
			if err := s.purge(ctx, p, out); err != nil {
				return err
			}
		}
		for _, p := range list {
			c := &collection{s: s, o: o, p: p, out: out}
			for _, step := range []func(context.Context) error{c.dropContents, c.dropChunks, c.condemn, c.rewrite, c.dropPacks} {
				if err := step(ctx); err != nil {
					return fmt.Errorf("%s: %w", p.Key, err)
				}
			}
		}
		return s.dropOrphans(ctx, max(o.Lease, orphanAge), out)
	})
	if err == nil && !alone {
		return out, model.NewProblem(model.Taken, "wait until it is done", "another tarnd collect is at work")
	}
	return out, s.Explain(err)
}

// collection is the work on one project.
type collection struct {
	s   *Room
	o   CollectOptions
	p   records.Project
	out *Collected
	// goOn, unless nil, says whether rewriting goes on.
	goOn func() bool
}

// behindGate runs work with nobody else changing the project.
func (c *collection) behindGate(ctx context.Context, work func(*records.Tx) error) error {
	return c.s.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Gate(ctx, c.p.ID, true); err != nil {
			return err
		}
		return work(tx)
	})
}

// dropContents is looked for with everybody at work, and only what was found is looked at again behind the gate: with nothing to drop,
// nobody waits.
func (c *collection) dropContents(ctx context.Context) error {
	for after := int64(0); ; {
		var ids []int64
		if err := c.s.Write(ctx, func(tx *records.Tx) (err error) {
			if err := tx.Patient(ctx); err != nil {
				return err
			}
			ids, err = tx.UnusedContents(ctx, c.p.ID, after, c.o.Lease, 1000)
			return err
		}); err != nil || len(ids) == 0 {
			return err
		}
		after = ids[len(ids)-1]
		var n int64
		if err := c.behindGate(ctx, func(tx *records.Tx) (err error) {
			n, err = tx.DropContents(ctx, ids, c.o.Lease)
			return err
		}); err != nil {
			return err
		}
		c.out.Contents += n
	}
}

// markPage is how many chunks are looked for at once in all manifests: about 200 MiB of memory.
const markPage = 2 << 20

// unreferred takes out of a set what some content has.
func (c *collection) unreferred(ctx context.Context, set map[chunk.Digest]bool) error {
	r := c.s.Reader(c.p.ID)
	defer r.Close()
	return c.s.EachContent(ctx, c.p.ID, r, func(content records.Content) error {
		err := manifest.Walk(ctx, r.Load, content.Digest, 0, func(d chunk.Digest) error {
			delete(set, d)
			return nil
		}, func(_ int64, ref chunk.Ref) error {
			delete(set, ref.Digest)
			return nil
		})
		if err != nil {
			// What a damaged manifest refers to is not known, so nothing may go.
			return fmt.Errorf("the manifest of content %s can't be read, and nothing is collected before it is healed: %w", content.Digest, err)
		}
		return nil
	})
}

// pages calls work with the set of each page of chunks that list gives, without those that some content has.
func (c *collection) pages(ctx context.Context, list func(tx *records.Tx,
	after []byte) ([]chunk.Digest, error), work func([]chunk.Digest) error) error {
	after := []byte{}
	for {
		var page []chunk.Digest
		if err := c.s.Use(ctx, func(tx *records.Tx) (err error) {
			page, err = list(tx, after)
			return err
		}); err != nil || len(page) == 0 {
			return err
		}
		after = page[len(page)-1][:]
		set := make(map[chunk.Digest]bool, len(page))
		for _, d := range page {
			set[d] = true
		}
		if err := c.unreferred(ctx, set); err != nil {
			return err
		}
		rest := make([]chunk.Digest, 0, len(set))
		for d := range set {
			rest = append(rest, d)
		}
		for len(rest) > 0 {
			some := rest[:min(len(rest), contents.MaxDigests)]
			rest = rest[len(some):]
			if err := work(some); err != nil {
				return err
			}
		}
	}
}

// condemn is the first step.
func (c *collection) condemn(ctx context.Context) error {
	return c.pages(ctx, func(tx *records.Tx, after []byte) ([]chunk.Digest, error) {
		return tx.Unseen(ctx, c.p.ID, after, c.o.Lease, markPage)
	}, func(digests []chunk.Digest) error {
		n := c.out.Condemned
		return c.s.Write(ctx, func(tx *records.Tx) error {
			more, err := tx.Condemn(ctx, c.p.ID, digests, c.o.Lease)
			c.out.Condemned = n + more // not added to: it may be tried again
			return err
		})
	})
}

// dropChunks is the second step: what was condemned is looked for once more in all manifests, then goes behind the gate, where it is
// looked at for the last time whether somebody was told of it.
func (c *collection) dropChunks(ctx context.Context) error {
	return c.pages(ctx, func(tx *records.Tx, after []byte) ([]chunk.Digest, error) {
		return tx.Condemned(ctx, c.p.ID, after, c.o.Pause, markPage)
	}, func(digests []chunk.Digest) error {
		n := c.out.Chunks
		return c.behindGate(ctx, func(tx *records.Tx) error {
			more, _, err := tx.DropChunks(ctx, c.p.ID, digests, c.o.Lease, c.o.Pause)
			c.out.Chunks = n + more
			return err
		})
	})
}

// rewrite merges packs that are small or thin, or have what can be pressed harder, and condemns those that are empty.
func (c *collection) rewrite(ctx context.Context) error {
	after := int64(0)
	var small, history []records.PackRow
	var empty []int64
	for {
		var page []records.PackRow
		if err := c.s.Use(ctx, func(tx *records.Tx) (err error) {
			page, err = tx.Packs(ctx, c.p.ID, after, verifyPage)
			return err
		}); err != nil {
			return err
		}
		if len(page) == 0 {
			break
		}
		for _, p := range page {
			after = p.ID
			old := p.Age > c.o.Pause
			switch {
			case p.Condemned != nil || p.Damaged > 0 || !old:
			case p.History && p.Size < smallPack:
				history = append(history, p)
			case p.History:
			case p.Chunks == 0:
				empty = append(empty, p.ID)
			case p.Size < smallPack || p.Live*2 < p.Size || p.Loose > 0:
				small = append(small, p)
			}
		}
	}
	if err := c.s.Write(ctx, func(tx *records.Tx) error { return tx.CondemnPacks(ctx, empty) }); err != nil {
		return err
	}
	if err := c.merge(ctx, small, false); err != nil {
		return err
	}
	return c.merge(ctx, history, true)
}

// merge writes packs anew, as many together as make one of a good size. One alone is left as it is, unless it is thin or can be
// pressed harder.
func (c *collection) merge(ctx context.Context, list []records.PackRow, history bool) error {
	for len(list) > 0 {
		n, size := 0, int64(0)
		for n < len(list) && (n == 0 || size+list[n].Live+list[n].Size/2 <= mergedMax) {
			size += list[n].Live + list[n].Size/2
			n++
		}
		group := list[:n]
		list = list[n:]
		if n == 1 && (history || group[0].Live*2 >= group[0].Size && group[0].Loose == 0) {
			continue
		}
		if err := c.rewriteGroup(ctx, group, history); err != nil {
			return err
		}
	}
	return nil
}

func (c *collection) rewriteGroup(ctx context.Context, group []records.PackRow, history bool) error {
	ids := make([]int64, len(group))
	for i, p := range group {
		ids[i] = p.ID
	}
	var queue []pack.Entry
	var o store.Object
	var name string
	damaged := false
	defer func() {
		if o != nil {
			_ = o.Close()
		}
	}()
	stored, buf, pressed := make([]byte, chunk.Max), make([]byte, 0, chunk.Max), make([]byte, 0, chunk.Max+chunk.Max/8)
	written := map[chunk.Digest]bool{}
	next := func() (pack.Record, error) {
		for {
			if c.goOn != nil && !c.goOn() {
				return pack.Record{}, errSomebodyComes
			}
			for len(queue) == 0 {
				if len(group) == 0 {
					return pack.Record{}, io.EOF
				}
				row := group[0]
				group = group[1:]
				if o != nil {
					_ = o.Close()
					o = nil
				}
				var err error
				name = row.Name
				if history {
					queue, o, err = c.s.index(ctx, name)
				} else if o, err = c.s.Store.Open(ctx, name); err == nil {
					err = c.s.Use(ctx, func(tx *records.Tx) (err error) {
						queue, err = tx.ChunksOfPack(ctx, row.ID)
						return err
					})
				}
				if err != nil {
					return pack.Record{}, err
				}
			}
			e := queue[0]
			queue = queue[1:]
			if written[e.Digest] {
				continue
			}
			written[e.Digest] = true
			r := pack.Record{Kind: e.Kind, Digest: e.Digest, Codec: e.Codec, Size: e.Size, Data: stored[:e.Stored]}
			if n, err := o.ReadAt(r.Data, e.Offset); n < e.Stored {
				return r, err
			}
			plain, err := r.Decode(buf)
			if err != nil {
				damaged = true
				if !history {
					c.s.SetAside(ctx, c.p.ID, records.Place{Pack: name, Entry: e}, err)
				}
				return r, err
			}
			return r.Pressed(pressed, plain), nil
		}
	}
	merged, size, entries, err := c.s.PutPack(ctx, c.p.ID, next)
	if damaged || err != nil && beyondRepair(err) {
		// It stays where it is; verify says what that touches.
		c.s.Log.Error("packs can't be written anew because of damage", "project", c.p.Key, "error", err)
		return nil
	}
	if err != nil || len(entries) == 0 {
		return err
	}
	if err := c.s.Write(ctx, func(tx *records.Tx) error {
		return tx.MovePack(ctx, c.p.ID, ids, merged, size, history, entries)
	}); err != nil {
		return err
	}
	c.out.Rewritten += len(ids)
	return nil
}

// dropPacks removes the files of packs that were condemned long enough ago.
func (c *collection) dropPacks(ctx context.Context) error {
	var list []records.PackRow
	if err := c.s.Use(ctx, func(tx *records.Tx) (err error) {
		list, err = tx.CondemnedPacks(ctx, c.p.ID, c.o.Pause)
		return err
	}); err != nil {
		return err
	}
	for _, p := range list {
		if err := c.s.Store.Remove(ctx, p.Name); err != nil {
			return err
		}
		if err := c.s.Write(ctx, func(tx *records.Tx) error { return tx.DropPack(ctx, p.ID) }); err != nil {
			return err
		}
		c.out.Packs++
		c.out.Freed += p.Size
	}
	return nil
}

// orphanAge is the least age of an object that no pack names: a pack is in the store shortly before the database knows of it.
const orphanAge = time.Hour

// dropOrphans removes objects that no pack names: what was written by a service that ended before it could say so.
func (s *Room) dropOrphans(ctx context.Context, age time.Duration, out *Collected) error {
	var orphans []store.Info
	if err := s.Store.List(ctx, "p", func(i store.Info) error {
		if time.Since(i.Modified) > age && strings.HasSuffix(i.Name, ".pack") {
			orphans = append(orphans, i)
		}
		return nil
	}); err != nil {
		return err
	}
	var known map[string]bool
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		known, err = tx.PackNames(ctx)
		return err
	}); err != nil {
		return err
	}
	for _, i := range orphans {
		if known[i.Name] {
			continue
		}
		if err := s.Store.Remove(ctx, i.Name); err != nil {
			return err
		}
		out.Packs++
		out.Freed += i.Size
	}
	return nil
}

// purge takes a deleted project away: its rows first, so that nothing refers to a file that is gone.
func (s *Room) purge(ctx context.Context, p records.Project, out *Collected) error {
	if err := s.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Patient(ctx); err != nil {
			return err
		}
		if err := tx.Gate(ctx, p.ID, true); err != nil {
			return err
		}
		// Nobody ever saw one that was being brought in.
		if coming, err := tx.Coming(ctx, p.ID); err != nil {
			return err
		} else if !coming {
			if err := tx.AddEvent(ctx, 0, 0, news.ProjectRemoved, map[string]any{"key": p.Key}); err != nil {
				return err
			}
		}
		return tx.DropProject(ctx, p.ID)
	}); err != nil {
		return err
	}
	out.Projects++
	if err := s.looks.Forget(p.ID); err != nil {
		return err
	}
	var list []store.Info
	if err := s.Store.List(ctx, fmt.Sprintf("p%d/", p.ID), func(i store.Info) error {
		list = append(list, i)
		return nil
	}); err != nil {
		return err
	}
	for _, i := range list {
		if err := s.Store.Remove(ctx, i.Name); err != nil {
			return err
		}
		out.Packs++
		out.Freed += i.Size
	}
	return nil
}
