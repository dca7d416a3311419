package main

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/dustin/go-humanize"
)

// adopt is S13: a git history of many commits and one very large file brought over. The yardstick is git reading the same contents.
func (b *bench) adopt(commits int, large int64) error {
	key := b.freshKey()
	work := filepath.Join(b.folder, key)
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	fmt.Println("adopt: making the repository …")
	if err := makeHistory(work, commits, large); err != nil {
		return err
	}
	b.daemon.Stop()
	if err := b.daemon.Start(b.ctx); err != nil {
		return err
	}
	theirs, err := b.yardstick("sh", "-c", "cd "+work+" && git rev-list --objects --all | cut -c1-40 | git cat-file --buffer --batch | wc -c")
	if err != nil {
		return err
	}
	ours, err := b.ours(work, "adopt", key, "--history", "--beside", "--preset", "game", "--yes", "--json")
	if err != nil {
		return err
	}
	service, err := peak(b.daemon.Process())
	if err != nil {
		return err
	}
	b.row("S13", fmt.Sprintf("`tarn adopt --history`: %s commits, one file of %s among them", humanize.Comma(int64(commits)),
		humanize.IBytes(uint64(large))),
		fmt.Sprintf("%.0f s; client and its git %s at most, service %s", ours.time.Seconds(), humanize.IBytes(uint64(ours.memory)),
			humanize.IBytes(uint64(service))),
		fmt.Sprintf("git reading all contents %.0f s", theirs.time.Seconds()),
		fmt.Sprintf("%.1f of its time", ours.time.Seconds()/theirs.time.Seconds()), "8; client 150 MiB, service 200 MiB",
		ours.time <= 8*theirs.time && ours.memory <= 150<<20 && service <= 200<<20)
	return os.RemoveAll(work)
}

// makeHistory writes a repository through git fast-import: each commit changes one of 400 textures, the tenth one a very large file.
func makeHistory(dir string, commits int, large int64) error {
	init := exec.Command("git", "init", "-q", "-b", "main", dir)
	if out, err := init.CombinedOutput(); err != nil {
		return fmt.Errorf("git init: %w: %s", err, out)
	}
	cmd := exec.Command("git", "-c", "core.bigFileThreshold=32m", "-c", "core.compression=0", "-c", "pack.compression=0", "fast-import",
		"--quiet")
	cmd.Dir = dir
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	w := bufio.NewWriterSize(in, 1<<20)
	random := rand.New(rand.NewPCG(11, 12))
	noise := func(n int64) error {
		_, err := io.CopyN(w, rand.NewChaCha8([32]byte{byte(random.Uint32()), byte(n), byte(n >> 8)}), n)
		return err
	}
	for i := range commits {
		fmt.Fprintf(w, "commit refs/heads/main\ncommitter ada <ada@driftwood.example> %d +0000\ndata 7\nchange\n\n", 1_600_000_000+i*600)
		size := 2000 + random.Int64N(30_000)
		path := fmt.Sprintf("textures/%03d.png", random.IntN(400))
		if i == 10 {
			size, path = large, "levels/large.glb"
		}
		fmt.Fprintf(w, "M 100644 inline %s\ndata %d\n", path, size)
		if err := noise(size); err != nil {
			return err
		}
		fmt.Fprintln(w)
	}
	if err := w.Flush(); err != nil {
		return err
	}
	if err := in.Close(); err != nil {
		return err
	}
	return cmd.Wait()
}
