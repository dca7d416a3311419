package service_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/service/locks"
)

// age makes everything look as if it had last been touched so long ago.
func (k *kept) age(days int) {
	for _, table := range []string{"chunks set seen = seen - make_interval(days => %d)",
		"contents set seen = seen - make_interval(days => %d)", "packs set created = created - make_interval(days => %d)",
		"chunks set condemned = condemned - make_interval(days => %d) where condemned is not null",
		"packs set condemned = condemned - make_interval(days => %d) where condemned is not null"} {
		k.exec("update " + fmt.Sprintf(table, days))
	}
}

func (k *kept) collect() *keeping.Collected {
	k.Helper()
	c, err := k.Collect(k.Context(), keeping.CollectDefaults())
	if err != nil {
		k.Fatal(err)
	}
	return c
}

func TestCollectRemovesWhatNothingRefersToInTwoSteps(t *testing.T) {
	k := newKept(t)
	ctx := t.Context()
	body, given := noise(7, 2<<20), noise(8, 6<<20)
	ok(t)(k.send(k.tamsin, k.change(k.tamsin, "a.bin", 0, 0, body)))
	lost := k.content(k.tamsin, []byte(given)) // a send that was given up
	if c := k.collect(); c.Condemned+c.Chunks+c.Freed > 0 {
		t.Errorf("what was brought just now is collected: %+v", c)
	}
	k.age(15)
	if c := k.collect(); c.Condemned != int64(len(lost.Records)) || c.Chunks > 0 || c.Freed > 0 {
		t.Errorf("the first step: %+v, and %d chunks are unused", c, len(lost.Records))
	}
	// Somebody who asks for it gets to keep it.
	k.age(2)
	if missing, err := k.MissingChunks(ctx, k.tamsin, key, []chunk.Digest{lost.Chunks[0].Digest}); err != nil || len(missing) > 0 {
		t.Errorf("what was only condemned is said to be gone: %v, %v", missing, err)
	}
	if c := k.collect(); c.Chunks != int64(len(lost.Records)-1) {
		t.Errorf("the second step: %+v", c)
	}
	if missing, err := k.MissingChunks(ctx, k.tamsin, key, []chunk.Digest{lost.Chunks[0].Digest, lost.Chunks[1].Digest}); err != nil ||
		len(missing) != 1 || missing[0] != lost.Chunks[1].Digest {
		t.Errorf("missing are %v, %v", missing, err)
	}
	k.age(2)
	if c := k.collect(); c.Packs == 0 || c.Freed < 6<<20 { // the thin pack was written anew, and goes
		t.Errorf("the pack is not removed: %+v", c)
	}
	k.clean()
	k.has("a.bin", body)
	if missing, err := k.MissingChunks(ctx, k.tamsin, key, []chunk.Digest{lost.Chunks[0].Digest}); err != nil || len(missing) > 0 {
		t.Errorf("what was asked for is gone: %v", err)
	}
}

func TestCollectMergesSmallPacksAndHistory(t *testing.T) {
	k := newKept(t)
	for i := range 12 {
		ok(t)(k.send(k.tamsin, k.change(k.tamsin, fmt.Sprintf("f%02d.txt", i), 0, 0, fmt.Sprint("text ", i))))
		if err := k.KeepHistory(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	before := len(k.packs())
	takes := func() int64 {
		t.Helper()
		p, err := k.Project(t.Context(), k.odile, key)
		if err != nil {
			t.Fatal(err)
		}
		return p.Stored
	}
	took := takes()
	k.age(2)
	c := k.collect()
	// What is written anew is there twice for a while, and counts once.
	if now := takes(); now > took {
		t.Errorf("it takes %d bytes, and took %d before", now, took)
	}
	k.age(2)
	k.collect()
	if after := len(k.packs()); c.Rewritten < 14 || before < 14 || after != 2 {
		t.Errorf("%d packs became %d: %+v", before, after, c)
	}
	k.clean()
	for i := range 12 {
		k.has(fmt.Sprintf("f%02d.txt", i), fmt.Sprint("text ", i))
	}
}

// What came as S2 blocks is pressed harder when its pack is written anew, also a pack that is large by itself; and then left alone.
func TestCollectPresses(t *testing.T) {
	k := newKept(t)
	var text strings.Builder
	for i := range 60_000 {
		fmt.Fprintln(&text, i*i)
	}
	ok(t)(k.send(k.tamsin, k.change(k.tamsin, "numbers.csv", 0, 0, text.String()), k.change(k.tamsin, "noise.bin", 0, 0, noise(3, 5<<20))))
	loose := func() int { return k.one(`select count(*) from chunks where codec = 2`) }
	size := func() int { return k.one(`select sum(stored) from chunks`) }
	if loose() == 0 {
		t.Error("nothing came as S2")
	}
	before := size()
	k.age(2)
	k.collect()
	if after := size(); loose() > 0 || after >= before {
		t.Errorf("%d are S2 blocks still; %d bytes were %d", loose(), after, before)
	}
	k.clean()
	k.has("numbers.csv", text.String())
	k.age(2)
	if c := k.collect(); c.Rewritten > 0 {
		t.Errorf("pressed packs are written anew: %+v", c)
	}
}

// Packs are merged by the service itself, too, while nobody comes: when somebody does, what was being written is given up.
func TestPacksAreMergedWhileNobodyComes(t *testing.T) {
	k := newKept(t)
	for i := range 8 {
		ok(t)(k.send(k.tamsin, k.change(k.tamsin, fmt.Sprintf("f%02d.txt", i), 0, 0, strings.Repeat(fmt.Sprint("text ", i), 5000))))
	}
	ok(t)(nil, k.KeepHistory(t.Context())) // or it may be kept meanwhile, in a pack of its own
	k.age(2)
	before := k.packs()
	seen := 0
	done, err := k.MergePacks(t.Context(), keeping.CollectDefaults(), func() bool { seen++; return seen < 5 })
	if err != nil || done || seen != 5 || !slices.Equal(k.packs(), before) || k.one(`select count(*) from packs where condemned is not
		null`) > 0 {
		t.Errorf("somebody came, and it is done: %v, %v; looked %d times; %d packs were %d", done, err, seen, len(k.packs()), len(before))
	}
	if done, err = k.MergePacks(t.Context(), keeping.CollectDefaults(), func() bool { return true }); err != nil || !done {
		t.Fatal(done, err)
	}
	if n := k.one(`select count(distinct pack_id) from chunks`); n != 1 || k.one(`select count(*) from chunks where codec = 2`) > 0 {
		t.Errorf("what was in %d packs is in %d", len(before), n)
	}
	k.clean()
	for i := range 8 {
		k.has(fmt.Sprintf("f%02d.txt", i), strings.Repeat(fmt.Sprint("text ", i), 5000))
	}
}

func TestCollectRemovesDeletedProjectsAndOrphans(t *testing.T) {
	k := newKept(t)
	ok(t)(k.send(k.tamsin, k.change(k.tamsin, "a.bin", 0, 0, "one")))
	orphan := filepath.Join(filepath.Dir(k.packs()[0]), uuid.NewString()+".pack")
	young := filepath.Join(filepath.Dir(k.packs()[0]), uuid.NewString()+".pack")
	for _, file := range []string{orphan, young} {
		if err := os.WriteFile(file, []byte("half a pack"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	old := time.Now().AddDate(0, 0, -20)
	if err := os.Chtimes(orphan, old, old); err != nil {
		t.Fatal(err)
	}
	if c := k.collect(); c.Packs != 1 {
		t.Errorf("%+v", c)
	}
	if _, err := os.Stat(young); err != nil {
		t.Error("what may still be written is removed")
	}
	// Locks, lines, asks, hooks and what is still to be delivered go with it.
	ok(t)(k.send(k.tamsin, k.change(k.tamsin, "held.txt", 0, 0, "held"), k.change(k.tamsin, "ended.txt", 0, 0, "ended")))
	ok(t)(k.take(k.tamsin, locks.Wish{}, "held.txt", "ended.txt"))
	ok(t)(k.Ask(t.Context(), k.rurik, key, k.space["rurik"], "held.txt", "a moment"))
	k.giveBack(k.tamsin, "ended.txt")
	k.exec("insert into hooks (project_id, url, secret, kinds, person_id) select p.id, 'http://127.0.0.1:1', 's', '{work}', o.id from " +
		"projects p, people o limit 1")
	k.exec("insert into deliveries (event_id, project_id, hook_id, due) select e.id, e.project_id, h.id, now() from events e, hooks h where " +
		"e.project_id = h.project_id limit 1")
	k.exec("update projects set deleted = now(), goes = now() + interval '1 hour'")
	if _, err := k.Project(t.Context(), k.odile, key); err == nil {
		t.Error("a deleted project is shown")
	}
	if c := k.collect(); c.Projects != 0 {
		t.Error("a project goes before the days of grace are over")
	}
	k.exec("update projects set goes = now() - interval '1 hour'")
	if c := k.collect(); c.Projects != 1 || len(k.packs()) != 0 {
		t.Errorf("%+v, %d packs are left", c, len(k.packs()))
	}
}

// Sends and collections at once, with leases that are over nearly at once: whatever is answered has to stay readable.
func TestCollectBesideSends(t *testing.T) {
	k := newKept(t)
	ctx, stop := context.WithCancel(t.Context())
	var wait sync.WaitGroup
	var collected keeping.Collected
	wait.Go(func() {
		for ctx.Err() == nil {
			c, err := k.Collect(t.Context(), keeping.CollectOptions{Lease: 1500 * time.Millisecond})
			if err != nil {
				t.Errorf("collect: %v", err)
				return
			}
			collected.Chunks, collected.Rewritten, collected.Packs = collected.Chunks+c.Chunks, collected.Rewritten+c.Rewritten,
				collected.Packs+c.Packs
			_ = k.KeepHistory(t.Context())
		}
	})
	bodies := make([]map[string]string, 3)
	var senders sync.WaitGroup
	for i := range bodies {
		bodies[i] = map[string]string{}
		senders.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 1))
			for n := range 40 {
				body := noise(byte(n%7+i*7), 50_000+r.IntN(600_000))
				if n%3 == 0 { // brought and given up
					k.content(k.tamsin, []byte(noise(byte(100+n), 80_000)))
				}
				path := fmt.Sprintf("s%d-%d.bin", i, n)
				change := k.change(k.tamsin, path, 0, 0, body)
				_, err := k.send(k.tamsin, change)
				if p, ok := err.(*model.Problem); ok && p.Type == model.ChunksMissing {
					continue // a lease of a moment was over; a client brings it again
				}
				if err != nil {
					t.Errorf("%s: %v", path, err)
					return
				}
				bodies[i][path] = body
			}
		})
	}
	senders.Wait()
	time.Sleep(2 * time.Second)
	stop()
	wait.Wait()
	n := 0
	for _, list := range bodies {
		for path, body := range list {
			k.has(path, body)
			n++
		}
	}
	if k.clean(); n < 60 || collected.Chunks == 0 || collected.Rewritten == 0 || collected.Packs == 0 {
		t.Errorf("%d sends arrived; collected were %+v", n, collected)
	}
}
