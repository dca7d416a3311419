package main

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"

	"kettletarn/demo/scene"
)

// material is what made-up files consist of: the demo's levels, models, sounds, textures and boards, as their real encoders write
// them. By size it is about half incompressible.
func material() [][]byte {
	var levels, models, sounds, textures, boards []byte
	for pass := range 4 {
		levels = append(levels, scene.Level("harbour", pass)...)
		models = append(append(models, scene.Model("crane", pass)...), scene.Enclosure("top", pass)...)
		sounds = append(sounds, scene.Sound("foghorn", pass)...)
		textures = append(append(textures, scene.Albedo("rust", 512, pass)...), scene.Normal("rust", 512, pass)...)
		boards = append(append(append(append(boards, scene.Schematic(pass)...), scene.Board(pass)...), scene.Gerber("F_Cu", pass)...),
			scene.Step(pass)...)
	}
	return [][]byte{levels, textures, models, textures, sounds, textures, boards, textures}
}

// tree makes about size bytes in files, deterministic: few large and many small, of the material above. Every 64 KiB have bytes of
// their own, so that no two chunks are the same.
func tree(folder string, size int64, files int) error {
	r := rand.New(rand.NewPCG(74, 20))
	weights, sum := make([]float64, files), 0.0
	for i := range weights {
		weights[i] = 1 / (1 - r.Float64()*0.9995) // a few hundred times as large as the smallest
		sum += weights[i]
	}
	noise := rand.NewChaCha8([32]byte{7, 4, 2, 0})
	kinds := material()
	for i, w := range weights {
		path := filepath.Join(folder, fmt.Sprintf("d%02d", i%50), fmt.Sprintf("f%04d.bin", i))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		data := make([]byte, int64(w/sum*float64(size)))
		piece := kinds[i%len(kinds)]
		for at := 0; at < len(data); {
			at += copy(data[at:], piece[r.IntN(len(piece)):])
		}
		for at := 0; at < len(data); at += 64 << 10 {
			_, _ = noise.Read(data[at:min(at+16, len(data))])
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func sizeOf(folder string) (n int64, files int, err error) {
	err = filepath.WalkDir(folder, func(_ string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		info, err := d.Info()
		if err == nil {
			n += info.Size()
			files++
		}
		return err
	})
	return n, files, err
}

// transfer is S1 to S3: the first send and the join of one tree.
func (b *bench) transfer(size int64) error {
	source := b.data
	if source == "" {
		source = filepath.Join(b.folder, "tree")
		fmt.Println("making the data …")
		if err := tree(source, size, 5000); err != nil {
			return err
		}
	}
	size, files, err := sizeOf(source)
	if err != nil {
		return err
	}
	var send, join, up, down, copies, rest series
	var trees []string // taken away at the end: deleting them would go on beside what is measured next
	for i := range b.runs {
		fmt.Printf("transfer, run %d of %d …\n", i+1, b.runs)
		key := b.freshKey()
		work, joined := filepath.Join(b.folder, key), filepath.Join(b.folder, key+"-joined")
		s, err := b.yardstick("cp", "-r", source, work)
		if err != nil {
			return err
		}
		copies = append(copies, s)
		if s, err = b.ours(work, "start", key, "--yes", "--json"); err != nil {
			return err
		}
		send = append(send, s)
		if s, err = b.settle(); err != nil {
			return err
		}
		rest = append(rest, s)
		if s, err = b.yardstick("rsync", "-a", source+"/", b.rsyncURL+key+"/"); err != nil {
			return err
		}
		up = append(up, s)
		if s, err = b.ours(b.folder, "join", key, joined); err != nil {
			return err
		}
		join = append(join, s)
		if s, err = b.yardstick("rsync", "-a", b.rsyncURL+key+"/", filepath.Join(b.folder, key+"-down")+"/"); err != nil {
			return err
		}
		down = append(down, s)
		if err := same(source, joined); err != nil {
			return err
		}
		trees = append(trees, work, joined, filepath.Join(b.folder, key+"-down"), filepath.Join(b.folder, "rsync", key))
	}
	for _, f := range trees {
		if err := os.RemoveAll(f); err != nil {
			return err
		}
	}
	what, kind := fmt.Sprintf("%s in %s files", humanize.IBytes(uint64(size)), humanize.Comma(int64(files))), ""
	if b.data != "" {
		kind = ", real data"
	}
	ratio := send.median() / up.median()
	perGiB := send.cpuPerGiB(size)
	b.row("S1"+kind, "first send of "+what+", over loopback", send.String(), "rsync -a "+up.String(),
		fmt.Sprintf("%.2f of its time; %.1f CPU s/GiB, where rsync takes %.1f", ratio, perGiB, up.cpuPerGiB(size)), "1; 4.5 CPU s/GiB",
		ratio <= 1 && perGiB <= 4.5)
	ratio = send.median() / copies.median()
	b.row("S2"+kind, "the same", send.String(), "cp -r "+copies.String(), fmt.Sprintf("%.2f of its time", ratio), "2", ratio <= 2)
	ratio = join.median() / down.median()
	b.row("S3"+kind, "joining that project", join.String(), "rsync -a "+down.String(),
		fmt.Sprintf("%.2f of its time; %.1f CPU s/GiB, where rsync takes %.1f", ratio, join.cpuPerGiB(size), down.cpuPerGiB(size)),
		"0.8; 2.5 CPU s/GiB",
		ratio <= 0.8 && join.cpuPerGiB(size) <= 2.5)
	ratio = rest.cpuPerGiB(size) / perGiB
	b.row("S3b"+kind, "what the service does by itself after S1", fmt.Sprintf("%.1f CPU s/GiB", rest.cpuPerGiB(size)),
		fmt.Sprintf("S1 itself, %.1f CPU s/GiB", perGiB), fmt.Sprintf("%.2f of it", ratio), "0.5", ratio <= 0.5)
	return nil
}

// settle waits until the service has done what it does by itself after a send, and measures that.
func (b *bench) settle() (s sample, err error) {
	used := func() time.Duration { return treeCPU(b.daemon.Process()) + treeCPU(b.pg.Process()) }
	first, start := used(), time.Now()
	for quiet, last := 0, first; quiet < 3; {
		select {
		case <-b.ctx.Done():
			return s, b.ctx.Err()
		case <-time.After(2 * time.Second):
		}
		now := used()
		if quiet++; now-last > 60*time.Millisecond {
			quiet = 0
		}
		if last = now; time.Since(start) > 20*time.Minute {
			return s, errors.New("the service does not come to rest")
		}
	}
	return sample{time: time.Since(start), cpu: used() - first}, nil
}

// same compares two trees by size, and a sample of files by content.
func same(a, b string) error {
	n := 0
	return filepath.WalkDir(a, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		rel, _ := filepath.Rel(a, path)
		one, err := os.Stat(path)
		if err != nil {
			return err
		}
		two, err := os.Stat(filepath.Join(b, rel))
		if err != nil {
			return err
		}
		if one.Size() != two.Size() {
			return fmt.Errorf("%s: %w", rel, errShort)
		}
		if n++; n%50 == 0 {
			x, _ := os.ReadFile(path)
			y, _ := os.ReadFile(filepath.Join(b, rel))
			if string(x) != string(y) {
				return fmt.Errorf("%s arrived changed", rel)
			}
		}
		return nil
	})
}

// manyFiles writes so many small files into 300 folders.
func manyFiles(work string, files int) error {
	for i := range files {
		path := filepath.Join(work, fmt.Sprintf("d%03d", i%300), fmt.Sprintf("f%06d.bin", i))
		if i < 300 {
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return err
			}
		}
		if err := os.WriteFile(path, []byte(strconv.Itoa(i)), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// status is S4: looking at many unchanged files.
func (b *bench) status(files int) error {
	key := b.freshKey()
	work := filepath.Join(b.folder, key)
	if err := manyFiles(work, files); err != nil {
		return err
	}
	fmt.Println("status: sending the files first …")
	if _, err := b.tarn(work, "", "start", key, "--yes", "--json"); err != nil {
		return err
	}
	status, find, err := b.statusBesideFind(work, "Nothing has changed here")
	if err != nil {
		return err
	}
	ratio := status.median() / find.median()
	b.row("S4", fmt.Sprintf("`tarn status`, %s unchanged files, warm", humanize.Comma(int64(files))), status.String(), "find -printf "+
		find.String(), fmt.Sprintf("%.2f of its time", ratio), "0.7", ratio <= 0.7)
	if err := b.watchedStatus(work, files); err != nil {
		return err
	}
	return os.RemoveAll(work)
}

// watchedStatus is the same where tarn watch runs, once that has done what it does when it begins.
func (b *bench) watchedStatus(work string, files int) error {
	watch := b.machine.Command(b.ctx, work, "watch")
	if err := watch.Start(); err != nil {
		return err
	}
	defer func() {
		_ = watch.Process.Signal(os.Interrupt)
		_ = watch.Wait()
	}()
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
		r, err := b.tarn(work, "", "status")
		if err != nil {
			return err
		}
		if strings.Contains(r.Out, ", watched") {
			break
		}
		if time.Now().After(deadline) {
			return errors.New("the watch does not answer")
		}
	}
	for before := time.Duration(-1); ; time.Sleep(time.Second) {
		now := treeCPU(watch.Process.Pid)
		if now == before {
			break
		}
		before = now
	}
	status, find, err := b.statusBesideFind(work, ", watched")
	if err != nil {
		return err
	}
	ratio := status.median() / find.median()
	b.row("S4w", fmt.Sprintf("the same with `tarn watch` running, %s files", humanize.Comma(int64(files))), status.String(), "find -printf "+
		find.String(), fmt.Sprintf("%.3f of its time", ratio), "0.05", ratio <= 0.05)
	return nil
}

// statusBesideFind takes both in turn; what status says has to have a text in it. The first of each is left out: it is cold.
func (b *bench) statusBesideFind(work, says string) (status, find series, err error) {
	for range b.runs + 1 {
		start := time.Now()
		r, err := b.tarn(work, "", "status")
		if err != nil {
			return nil, nil, err
		}
		if !strings.Contains(r.Out, says) {
			return nil, nil, fmt.Errorf("status says: %s", r.Out)
		}
		status = append(status, sample{time: time.Since(start), cpu: r.CPU})
		start = time.Now()
		if _, err := b.yardstick("find", work, "-printf", "%s %T@ %p\n"); err != nil {
			return nil, nil, err
		}
		find = append(find, sample{time: time.Since(start)})
	}
	return status[1:], find[1:], nil
}

// noiseFile writes size bytes that don't compress.
func noiseFile(path string, size int64, seed byte) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := io.CopyN(f, rand.NewChaCha8([32]byte{seed}), size); err != nil {
		return err
	}
	return f.Close()
}

// edited is S5 and S6: sending a large file of which 1 MiB was changed, or into which 1 MiB was put.
func (b *bench) edited(number string, size int64, how string, goal float64) error {
	key := b.freshKey()
	work := filepath.Join(b.folder, key)
	file := filepath.Join(work, "large.bin")
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	if err := noiseFile(file, size, 1); err != nil {
		return err
	}
	if _, err := b.tarn(work, "", "start", key, "--yes", "--json"); err != nil {
		return err
	}
	var send, hash series
	for i := range b.runs {
		if _, err := b.tarn(work, "", "lock", "large.bin"); err != nil {
			return err
		}
		if err := change(file, size/2+int64(i)<<21, byte(i+2), how == "inserted"); err != nil {
			return err
		}
		syscall.Sync()
		s, err := b.ours(work, "send", "-m", "edited")
		if err != nil {
			return err
		}
		send = append(send, s)
		if s, err = b.yardstick("b3sum", file); err != nil {
			return err
		}
		hash = append(hash, s)
	}
	wire, err := b.wire(file, size, how)
	if err != nil {
		return err
	}
	ratio := send.median() / hash.median()
	b.row(number, fmt.Sprintf("sending %s after 1 MiB was %s in the middle", humanize.IBytes(uint64(size)), how), send.String(), "b3sum "+
		hash.String(),
		fmt.Sprintf("%.2f of its time; %s on the wire", ratio, humanize.IBytes(uint64(wire))), fmt.Sprintf("%.1f; 2 MiB", goal), ratio <= goal &&
			wire <= 2<<20)
	return os.RemoveAll(work)
}

// wire counts what such a send carries between client and service, both ways, in a project of its own whose client goes through a proxy.
func (b *bench) wire(from string, size int64, how string) (int64, error) {
	p, err := b.between(0)
	if err != nil {
		return 0, err
	}
	defer p.close()
	key := b.freshKey()
	work := filepath.Join(b.folder, key)
	defer os.RemoveAll(work)
	m, err := b.through(p, "counted-"+key)
	if err != nil {
		return 0, err
	}
	if err := os.MkdirAll(work, 0o755); err != nil {
		return 0, err
	}
	file := filepath.Join(work, "large.bin")
	if _, err := b.yardstick("cp", from, file); err != nil {
		return 0, err
	}
	for _, args := range [][]string{{"start", key, "--yes", "--json"}, {"lock", "large.bin"}} {
		if _, err := b.run(m, work, "", args...); err != nil {
			return 0, err
		}
	}
	if err := change(file, size/3, 99, how == "inserted"); err != nil {
		return 0, err
	}
	p.bytes.Store(0)
	_, err = b.run(m, work, "", "send", "-m", "edited")
	return p.bytes.Load(), err
}

// change overwrites or inserts 1 MiB.
func change(path string, at int64, seed byte, insert bool) error {
	patch := make([]byte, 1<<20)
	_, _ = rand.NewChaCha8([32]byte{seed, 9}).Read(patch)
	if !insert {
		f, err := os.OpenFile(path, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		if _, err := f.WriteAt(patch, at); err != nil {
			return err
		}
		return f.Close()
	}
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(path + ".new")
	if err != nil {
		return err
	}
	defer out.Close()
	if _, err := io.CopyN(out, in, at); err != nil {
		return err
	}
	if _, err := out.Write(patch); err != nil {
		return err
	}
	if _, err := io.Copy(out, in); err != nil {
		return err
	}
	if err := out.Close(); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// memory is S9: a very large file there and back.
func (b *bench) memory(size int64) error {
	key := b.freshKey()
	work := filepath.Join(b.folder, key)
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	fmt.Println("memory: making the file …")
	if err := noiseFile(filepath.Join(work, "large.bin"), size, 5); err != nil {
		return err
	}
	// A service of its own, so that its peak is that of this work.
	b.daemon.Stop()
	if err := b.daemon.Start(b.ctx); err != nil {
		return err
	}
	send, err := b.ours(work, "start", key, "--yes", "--json")
	if err != nil {
		return err
	}
	join, err := b.ours(b.folder, "join", key, filepath.Join(b.folder, key+"-joined"))
	if err != nil {
		return err
	}
	if err := same(work, filepath.Join(b.folder, key+"-joined")); err != nil && !strings.Contains(err.Error(), ".tarn-workspace") {
		return err
	}
	service, err := peak(b.daemon.Process())
	if err != nil {
		return err
	}
	client := max(send.memory, join.memory)
	ours := fmt.Sprintf("client %s sending, %s joining; service %s", humanize.IBytes(uint64(send.memory)),
		humanize.IBytes(uint64(join.memory)), humanize.IBytes(uint64(service)))
	b.row("S9", fmt.Sprintf("most memory while %s go there and back", humanize.IBytes(uint64(size))), ours, "none",
		fmt.Sprintf("sent in %.0f s, joined in %.0f s", send.time.Seconds(), join.time.Seconds()), "client 150 MiB, service 200 MiB",
		client <= 150<<20 && service <= 200<<20)
	_ = os.RemoveAll(filepath.Join(b.folder, key+"-joined"))
	return os.RemoveAll(work)
}

// peak is the most memory that a process has had resident, in bytes.
func peak(pid int) (int64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kib, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			return kib << 10, err
		}
	}
	return 0, fmt.Errorf("process %d does not say its peak", pid)
}

// treeCPU is the processor time of a process and of all that came from it, ended ones included.
func treeCPU(pid int) time.Duration {
	parents, own := map[int]int{}, map[int]time.Duration{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, name := range stats {
		text, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		id, _ := strconv.Atoi(strings.Split(name, "/")[2])
		fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		parents[id], _ = strconv.Atoi(fields[1])
		for _, f := range fields[11:15] { // utime, stime, cutime, cstime in ticks of 10 ms
			ticks, _ := strconv.ParseInt(f, 10, 64)
			own[id] += time.Duration(ticks) * 10 * time.Millisecond
		}
	}
	total := time.Duration(0)
	for id, t := range own {
		for up := id; up > 1; up = parents[up] {
			if up == pid {
				total += t
				break
			}
		}
	}
	return total
}
