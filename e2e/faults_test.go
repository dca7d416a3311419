package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"kettletarn/internal/testbed"
)

// noise fills a folder with files that don't compress, and returns their texts.
func (p *person) noise(folder string, files, size int, seed uint64) map[string]string {
	p.t.Helper()
	r := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8), 1})
	out := map[string]string{}
	for i := range files {
		data := make([]byte, size)
		_, _ = r.Read(data)
		out[fmt.Sprintf("%s/%03d.bin", folder, i)] = string(data)
	}
	p.write(out)
	return out
}

// count is how many assets of a folder the other person's update brings.
func (p *person) count(folder string) int {
	p.t.Helper()
	p.tarn(0, "update")
	entries, err := os.ReadDir(filepath.Join(p.dir, folder))
	if err != nil && !os.IsNotExist(err) {
		p.t.Fatal(err)
	}
	return len(entries)
}

const (
	faultFiles = 24
	faultSize  = 1 << 20
)

func TestAJoinKilledGoesOn(t *testing.T) {
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "a"})
	files := odile.noise("big", 6, 8<<20, 7)
	odile.tarn(0, "send", "-m", "big")
	odile.tarn(0, "member", "add", "rurik")
	for i := range 4 {
		cmd := rurik.command(rurik.home, "join", "brinelight")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(40+60*i) * time.Millisecond)
		_ = cmd.Process.Signal(syscall.SIGKILL)
		_ = cmd.Wait()
	}
	if r := rurik.runIn(rurik.home, "", "join", "brinelight"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	for path, text := range files {
		rurik.has(path, text)
	}
	if entries, _ := filepath.Glob(filepath.Join(rurik.dir, ".tarn-incoming*")); len(entries) != 0 {
		t.Errorf("left over: %v", entries)
	}
}

// updateKills is how often an update is killed at a random moment.
const updateKills = 40

// TestAnUpdateKilledAtRandomMomentsLosesNothing kills updates that change, move, remove and bring files, while others have unsent changes.
func TestAnUpdateKilledAtRandomMomentsLosesNothing(t *testing.T) {
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	files := map[string]string{"mine.png": "one"}
	for i := range 60 {
		files[fmt.Sprintf("d%d/f%d.bin", i%6, i)] = strings.Repeat(fmt.Sprintf("%d ", i), 3000)
	}
	odile.start(files)
	rurik.join(odile, "artist")
	rurik.write(map[string]string{"mine.png": "rurik's, not sent"})
	random := rand.New(rand.NewPCG(11, 23))
	killed := 0
	for round := range updateKills {
		if round%4 == 0 {
			odile.tarn(0, "lock", ".")
			for path := range files {
				if path != "mine.png" && random.IntN(2) == 0 {
					files[path] += fmt.Sprint(round)
					odile.write(map[string]string{path: files[path]})
				}
			}
			from, to := fmt.Sprintf("d%d", round/4%6), fmt.Sprintf("round%d", round)
			if _, err := os.Stat(filepath.Join(odile.dir, from)); err == nil {
				odile.tarn(0, "move", from, to)
				for path, text := range files {
					if rest, ok := strings.CutPrefix(path, from+"/"); ok {
						delete(files, path)
						files[to+"/"+rest] = text
					}
				}
			}
			odile.tarn(0, "send", "-m", fmt.Sprint("round ", round))
		}
		cmd := rurik.command(rurik.dir, "update")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(random.IntN(60)) * time.Millisecond)
		_ = cmd.Process.Signal(syscall.SIGKILL)
		if err := cmd.Wait(); err != nil && cmd.ProcessState.ExitCode() < 0 {
			killed++
		}
		rurik.has("mine.png", "rurik's, not sent")
	}
	if killed < updateKills/4 {
		t.Errorf("only %d of %d updates were in the middle of it", killed, updateKills)
	}
	rurik.tarn(0, "update")
	for path, text := range files {
		if path != "mine.png" {
			rurik.has(path, text)
		}
	}
	says(t, rurik.tarn(0, "status"), "Changed here (1)", "mine.png")
	if entries, _ := filepath.Glob(filepath.Join(rurik.dir, ".tarn-incoming*")); len(entries) != 0 {
		t.Errorf("left over: %v", entries)
	}
}

func TestTheDatabaseRestartedInTheMiddle(t *testing.T) {
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})
	odile.noise("round", faultFiles, faultSize, 5)
	cmd := odile.command(odile.dir, "send", "-m", "round")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(150 * time.Millisecond)
	pg := testbed.Postgres(t)
	if err := pg.Down(); err != nil {
		t.Fatal(err)
	}
	r := odile.runIn(odile.dir, "", "holders")
	if r.Status != 3 || !strings.Contains(r.Errs, "database") {
		t.Errorf("with the database away: %+v", r)
	}
	if r := odile.runIn(odile.dir, "", "status"); r.Status != 0 {
		t.Errorf("status needs no service: %+v", r)
	}
	if err := pg.Up(t.Context()); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	odile.tarn(0, "send", "-m", "round")
	says(t, odile.tarn(0, "history", "round"), "round")
	says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound")
}

func TestADiskThatIsFull(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("mounting a small file system takes root")
	}
	small := t.TempDir()
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=48m"); err != nil {
		t.Skipf("no small file system can be mounted here: %v", err)
	}
	defer func() { _ = syscall.Unmount(small, 0) }()
	d := serve(t)
	d.Stop()
	for i, v := range d.Env {
		if strings.HasPrefix(v, "TARND_DATA=") {
			d.Env[i] = "TARND_DATA=" + filepath.Join(small, "data")
		}
	}
	d.start()
	defer d.Stop()
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "a"})
	rurik.join(odile, "artist")
	// What can be seen not to fit is refused before it travels.
	odile.noise("large", 40, 1<<20, 3)
	says(t, odile.tarn(1, "send", "-m", "too much"), "40 MiB", "room for", "make room", "run the same command again")
	if err := os.RemoveAll(filepath.Join(odile.dir, "large")); err != nil {
		t.Fatal(err)
	}
	// What can't be seen before: other content of the same size.
	odile.noise("large", 28, 1<<20, 3)
	odile.tarn(0, "send", "-m", "it fits")
	odile.tarn(0, "lock", "large")
	files := odile.noise("large", 28, 1<<20, 4)
	out := odile.tarn(1, "send", "-m", "another pass")
	says(t, out, "disk is full", "make room", "run the same command again")
	if n := rurik.count("large"); n != 28 {
		t.Errorf("%d files are visible", n)
	}
	rurik.has("a.png", "a")
	says(t, odile.tarn(0, "lock", "a.png"), "yours")
	if err := syscall.Mount("tmpfs", small, "tmpfs", syscall.MS_REMOUNT, "size=128m"); err != nil {
		t.Fatal(err)
	}
	odile.tarn(0, "send", "-m", "now it fits")
	if n := rurik.count("large"); n != 28 {
		t.Errorf("%d files arrived", n)
	}
	for path, text := range files {
		rurik.has(path, text)
	}
}

// TestAWorkspaceOnAFullDisk: an artist's own disk is full in the middle of an update.
func TestAWorkspaceOnAFullDisk(t *testing.T) {
	small := t.TempDir()
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=8m"); err != nil {
		t.Skipf("no small file system can be mounted here: %v", err)
	}
	defer func() { _ = syscall.Unmount(small, 0) }()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "one"})
	odile.tarn(0, "member", "add", "rurik")
	rurik.dir = filepath.Join(small, "brinelight")
	if r := rurik.runIn(rurik.home, "", "join", "brinelight", rurik.dir); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	rurik.write(map[string]string{"mine.png": "not sent"})
	odile.tarn(0, "lock", "a.png")
	odile.write(map[string]string{"a.png": "two"})
	files := odile.noise("large", 16, 1<<20, 5)
	odile.tarn(0, "send", "-m", "more than fits")
	says(t, rurik.tarn(1, "update"), "disk of this workspace is full", "make room", "run the same command again")
	rurik.has("a.png", "one")
	rurik.has("mine.png", "not sent")
	if err := syscall.Mount("tmpfs", small, "tmpfs", syscall.MS_REMOUNT, "size=64m"); err != nil {
		t.Fatal(err)
	}
	rurik.tarn(0, "update")
	rurik.has("a.png", "two")
	rurik.has("mine.png", "not sent")
	for path, text := range files {
		rurik.has(path, text)
	}
}

func TestAFileThatWillNotHoldStillIsRefused(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})
	odile.noise("still", 10, 2<<20, 1)
	moving := filepath.Join(odile.dir, "still", "moving.bin")
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
				_ = os.WriteFile(moving, []byte(strings.Repeat(fmt.Sprint(i), 200_000)), 0o644)
			}
		}
	}()
	time.Sleep(50 * time.Millisecond)
	out := odile.tarn(1, "send", "-m", "moving")
	close(stop)
	<-done
	says(t, out, "still/moving.bin", "changed while it was read")
	says(t, odile.tarn(0, "send", "-m", "still now"), "11 assets")
}

func TestTarndSaysWhyItDoesNotStart(t *testing.T) {
	t.Parallel()
	d := serve(t)
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, []byte("listen = 5"), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"database away":  {[]string{"--listen", "127.0.0.1:0", "--db", "postgres://tarnd@127.0.0.1:1/x", "serve"}, "can't be reached"},
		"data folder":    {[]string{"--listen", "127.0.0.1:0", "--data", filepath.Join(file, "data"), "serve"}, "data folder"},
		"port taken":     {[]string{"serve"}, "can't listen"},
		"settings":       {[]string{"--config", file, "serve"}, "settings"},
		"unknown option": {[]string{"serve", "--colour"}, "colour"},
	} {
		cmd := exec.Command(filepath.Join(bin, "tarnd"), c.args...)
		cmd.Env = d.Env
		out, err := cmd.CombinedOutput()
		if err == nil || !strings.Contains(string(out), c.says) || strings.Count(strings.TrimSpace(string(out)), "\n") > 0 &&
			name != "unknown option" {
			t.Errorf("%s: %v\n%s", name, err, out)
		}
	}
}
