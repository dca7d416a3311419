package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// grow makes a project of small assets, many at once.
func (b *bench) grow(assets int) (*caller, []chunk.Digest, error) {
	c, err := b.caller(b.freshKey())
	if err != nil {
		return nil, nil, err
	}
	contents, err := c.bring(200)
	const page = 50_000
	for from := 0; from < assets && err == nil; from += page {
		err = c.add(from, min(from+page, assets), contents)
	}
	return c, contents, err
}

// median calls work n times, and says how long it took in the middle, in seconds.
func median(n int, work func(i int) error) (float64, error) {
	var times []float64
	for i := range n {
		start := time.Now()
		if err := work(i); err != nil {
			return 0, err
		}
		times = append(times, time.Since(start).Seconds())
	}
	slices.Sort(times)
	return times[len(times)/2], nil
}

// apart is S14: what branches cost.
func (b *bench) apart(assets, files int) error {
	if err := b.branches(assets); err != nil {
		return err
	}
	if err := b.merges(10_000); err != nil {
		return err
	}
	if err := b.locksApart(50); err != nil {
		return err
	}
	return b.switches(files)
}

// branches times making one in a small and in a very large project.
func (b *bench) branches(assets int) error {
	times := map[int]float64{}
	for _, n := range []int{1000, assets} {
		fmt.Printf("apart: a project of %s assets …\n", humanize.Comma(int64(n)))
		c, _, err := b.grow(n)
		if err != nil {
			return err
		}
		if times[n], err = median(41, func(i int) error {
			_, err := c.AddBranch(b.ctx, c.key, model.BranchRequest{Name: fmt.Sprint("branch-", i)})
			return err
		}); err != nil {
			return err
		}
	}
	ratio := times[assets] / times[1000]
	b.row("S14", fmt.Sprintf("a branch added, %s assets", humanize.Comma(int64(assets))), fmt.Sprintf("%.1f ms", times[assets]*1000),
		fmt.Sprintf("1,000 assets %.1f ms", times[1000]*1000), fmt.Sprintf("%.2f of its time", ratio), "2", ratio <= 2)
	return nil
}

// edit hands off another content of assets 0 to n, on a branch.
func (c *caller) edit(branch string, n, turn int, contents []chunk.Digest) error {
	want := model.LockRequest{Workspace: c.ws, Branch: branch, Diverge: true}
	for i := range n {
		want.Assets = append(want.Assets, model.LockWant{Path: assetPath(i), Version: 1})
	}
	held, err := c.TakeLocks(c.b.ctx, c.key, want)
	if err != nil {
		return err
	}
	fences := map[string]int64{}
	for _, l := range held.Locks {
		fences[l.Path] = l.Fence
	}
	send := model.SendRequest{Workspace: c.ws, Branch: branch, About: model.About{Note: "all of them"}}
	for i := range n {
		k := (i + turn) % len(contents)
		send.Changes = append(send.Changes, model.SendChange{Path: assetPath(i), Base: 1, Fence: fences[assetPath(i)], Content: contents[k],
			Size: c.size(k)})
	}
	start := time.Now()
	_, err = c.Send(c.b.ctx, c.key, uuid.NewString(), send)
	c.took = time.Since(start)
	return err
}

// merges times a merge of so many changed assets beside the handoff that changed them.
func (b *bench) merges(assets int) error {
	var merge, handoff series
	for range b.runs {
		c, contents, err := b.grow(assets)
		if err != nil {
			return err
		}
		if _, err := c.AddBranch(b.ctx, c.key, model.BranchRequest{Name: "apart"}); err != nil {
			return err
		}
		if err := c.edit("apart", assets, 7, contents); err != nil {
			return err
		}
		handoff = append(handoff, sample{time: c.took})
		start := time.Now()
		done, err := c.Merge(b.ctx, c.key, uuid.NewString(), model.MergeRequest{Workspace: c.ws, From: "apart", Into: model.FirstBranch})
		if err != nil {
			return err
		}
		if merge = append(merge, sample{time: time.Since(start)}); done.Count != assets {
			return fmt.Errorf("the merge brought %d of %d assets", done.Count, assets)
		}
	}
	ratio := merge.median() / handoff.median()
	b.row("S14", fmt.Sprintf("a merge of %s changed assets", humanize.Comma(int64(assets))), merge.String(),
		"the handoff that changed them "+handoff.String(), fmt.Sprintf("%.2f of its time", ratio), "1", ratio <= 1)
	return nil
}

// locksApart times taking and giving back the lock of one asset with many live branches, and with one.
func (b *bench) locksApart(branches int) error {
	times := map[int]float64{}
	for _, n := range []int{1, branches} {
		c, contents, err := b.grow(1000)
		if err != nil {
			return err
		}
		for i := 1; i < n; i++ {
			name := fmt.Sprint("branch-", i)
			if _, err := c.AddBranch(b.ctx, c.key, model.BranchRequest{Name: name}); err != nil {
				return err
			}
			// Each has something of its own, and goes its own way.
			send := model.SendRequest{Workspace: c.ws, Branch: name, About: model.About{Note: "apart"},
				Changes: []model.SendChange{{Path: name + ".bin", Content: contents[i], Size: c.size(i)}}}
			if _, err := c.Send(b.ctx, c.key, uuid.NewString(), send); err != nil {
				return err
			}
		}
		if times[n], err = median(201, func(i int) error {
			path := assetPath(i % 1000)
			if _, err := c.TakeLocks(b.ctx, c.key, model.LockRequest{Workspace: c.ws, Branch: model.FirstBranch,
				Assets: []model.LockWant{{Path: path, Version: 1}}}); err != nil {
				return err
			}
			_, err := c.ReleaseLocks(b.ctx, c.key, model.UnlockRequest{Workspace: c.ws, Paths: []string{path}})
			return err
		}); err != nil {
			return err
		}
	}
	ratio := times[branches] / times[1]
	b.row("S14", fmt.Sprintf("lock and unlock of one asset, %d live branches", branches), fmt.Sprintf("%.1f ms", times[branches]*1000),
		fmt.Sprintf("one branch %.1f ms", times[1]*1000), fmt.Sprintf("%.2f of its time", ratio), "1.5", ratio <= 1.5)
	return nil
}

// switches times going to a branch that is 100 assets apart, in a folder of many files, beside an update of 100 assets.
func (b *bench) switches(files int) error {
	key := b.freshKey()
	work, other := filepath.Join(b.folder, key), filepath.Join(b.folder, key+"-other")
	name := func(i int) string { return filepath.Join(fmt.Sprintf("d%03d", i%300), fmt.Sprintf("f%06d.bin", i)) }
	put := func(dir string, i int, text string) error {
		full := filepath.Join(dir, name(i))
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		return os.WriteFile(full, []byte(text), 0o644)
	}
	for i := range files {
		if err := put(work, i, strconv.Itoa(i)); err != nil {
			return err
		}
	}
	fmt.Println("apart: sending the files first …")
	for _, args := range [][]string{{"start", key, "--yes", "--json"}, {"branch", "add", "apart"}} {
		if _, err := b.tarn(work, "", args...); err != nil {
			return err
		}
	}
	if _, err := b.tarn(b.folder, "", "join", key, other, "--json"); err != nil {
		return err
	}
	turn := 0
	change := func() error {
		turn++
		lock := []string{"lock", "--diverge", "--json"}
		for i := range 100 {
			if err := put(other, i*37%files, fmt.Sprint("turn ", turn, " of ", i)); err != nil {
				return err
			}
			lock = append(lock, name(i*37%files))
		}
		if _, err := b.tarn(other, "", lock...); err != nil {
			return err
		}
		_, err := b.tarn(other, "", "send", "-m", "a hundred", "--json")
		return err
	}
	if _, err := b.tarn(other, "", "switch", "apart", "--json"); err != nil {
		return err
	}
	if err := change(); err != nil {
		return err
	}
	if _, err := b.tarn(other, "", "switch", model.FirstBranch, "--json"); err != nil {
		return err
	}
	var switched, updated series
	for range b.runs {
		for _, to := range []string{"apart", model.FirstBranch} {
			start := time.Now()
			if _, err := b.tarn(work, "", "switch", to, "--json"); err != nil {
				return err
			}
			switched = append(switched, sample{time: time.Since(start)})
		}
		if err := change(); err != nil {
			return err
		}
		start := time.Now()
		if _, err := b.tarn(work, "", "update", "--json"); err != nil {
			return err
		}
		updated = append(updated, sample{time: time.Since(start)})
	}
	ratio := switched.median() / updated.median()
	b.row("S14", fmt.Sprintf("`tarn switch` to a branch 100 assets apart, %s files", humanize.Comma(int64(files))), switched.String(),
		"`tarn update` of 100 assets "+updated.String(), fmt.Sprintf("%.2f of its time", ratio), "1.2", ratio <= 1.2)
	return os.RemoveAll(work)
}
