package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"kettletarn/internal/testbed"
)

// elsewhere makes a daemon go on from an empty database and an empty folder.
func (d *daemon) elsewhere() {
	d.t.Helper()
	d.data = filepath.Join(d.t.TempDir(), "data")
	for i, v := range d.Env {
		switch name, _, _ := strings.Cut(v, "="); name {
		case "TARND_DB":
			d.Env[i] = "TARND_DB=" + testbed.Database(d.t)
		case "TARND_DATA":
			d.Env[i] = "TARND_DATA=" + d.data
		}
	}
}

// TestAServiceComesBackFromItsBackup: a backup while it runs, another one that copies only what is new, a check that finds what is spoiled,
// and a service that comes back; what came after the backup comes back from people's disks.
func TestAServiceComesBackFromItsBackup(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "one", "b.png": "one", "c.png": "one"})
	rurik.join(odile, "artist")
	dir := filepath.Join(t.TempDir(), "backup")
	var made struct {
		Name          string
		Packs, Copied int
	}
	backup := func(args ...string) {
		t.Helper()
		if err := json.Unmarshal([]byte(d.tarnd(0, append([]string{"backup", dir, "--json"}, args...)...)), &made); err != nil {
			t.Fatal(err)
		}
	}
	backup()
	first := made.Name
	if made.Copied == 0 || made.Copied != made.Packs {
		t.Errorf("%+v", made)
	}
	if backup("--keep-all"); made.Name == first || made.Copied != 0 { // in the same second
		t.Errorf("right after %s: %+v", first, made)
	}
	odile.tarn(0, "lock", "a.png")
	odile.write(map[string]string{"a.png": "two, after the backup", "new.png": "new"})
	odile.tarn(0, "send", "-m", "What came after the backup")
	rurik.tarn(0, "update")
	rurik.tarn(0, "lock", "b.png")
	rurik.write(map[string]string{"b.png": "rurik's, after the backup"})
	rurik.tarn(0, "send", "-m", "rurik's")
	backup("--keep-all")
	if made.Copied == 0 || made.Copied >= made.Packs {
		t.Errorf("the second one copies what was there: %+v", made)
	}
	says(t, d.tarnd(0, "backup", "--check", dir), "3 backups", "Everything is there and sound")

	// What is spoiled is found, and does not come back.
	var pack string
	_ = filepath.WalkDir(filepath.Join(dir, "packs"), func(path string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			pack = path
		}
		return nil
	})
	whole, err := os.ReadFile(pack)
	if err != nil {
		t.Fatal(err)
	}
	spoiled := append([]byte{}, whole...)
	spoiled[len(spoiled)/2] ^= 1
	if err := os.WriteFile(pack, spoiled, 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, d.tarnd(1, "backup", "--check", dir), "is damaged")
	d.stopWithin(20 * time.Second)
	says(t, d.tarnd(1, "restore", dir), "has tables already")
	d.elsewhere()
	says(t, d.tarnd(1, "restore", dir), "is damaged in the backup")
	if err := os.WriteFile(pack, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, d.tarnd(1, "restore", dir, "--at", first), "there are packs already that this backup does not have")
	d.elsewhere()
	says(t, d.tarnd(0, "restore", dir, "--at", first), "brinelight is back")
	says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound", "1 handoff")
	d.start()

	// Folders notice, and say what to do. Nothing that came after the backup is lost.
	odile.write(map[string]string{"c.png": "changed since"})
	for _, args := range [][]string{{"update"}, {"lock", "c.png"}, {"send", "-m", "n"}} {
		says(t, odile.tarn(1, args...), "was restored from a backup", "tarn join", "--here")
	}
	says(t, odile.tarn(0, "status"), "c.png") // it needs no service
	says(t, odile.tarn(0, "join", "brinelight", ".", "--here"), "a.png")
	says(t, odile.tarn(0, "status"), "edited  a.png", "new.png", "edited  c.png")
	odile.tarn(0, "lock", "a.png")
	odile.tarn(0, "send", "-m", "What came after the backup, again", "a.png", "new.png")
	rurik.tarn(0, "join", "brinelight", ".", "--here")
	rurik.tarn(0, "lock", "b.png")
	says(t, rurik.tarn(0, "send", "-m", "rurik's, again", "b.png"), "h3")
	odile.tarn(0, "update")
	odile.has("a.png", "two, after the backup")
	out := filepath.Join(odile.home, "out")
	odile.tarn(0, "export", "--at", "h3", out)
	for path, want := range map[string]string{"a.png": "two, after the backup", "b.png": "rurik's, after the backup", "c.png": "one",
		"new.png": "new"} {
		if text, err := os.ReadFile(filepath.Join(out, path)); err != nil || string(text) != want {
			t.Errorf("%s has %q, %v; want %q", path, text, err, want)
		}
	}
	says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound")

	for args, want := range map[string]string{"backup": "name one folder", "restore": "name one folder",
		"backup --check " + odile.home: "is no backup"} {
		status := 1
		if strings.HasPrefix(want, "name") {
			status = 2
		}
		says(t, d.tarnd(status, strings.Fields(args)...), want)
	}
	says(t, d.tarnd(1, "backup", odile.home), "has other things in it")
}

// TestBackupsUnderLoad: backups while people send, some of them killed in the middle; each whole one comes back, and is sound. With SOAK=1
// fifty of them.
func TestBackupsUnderLoad(t *testing.T) {
	t.Parallel()
	rounds := testbed.Steps(3, 50)
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "0"})
	dir := filepath.Join(t.TempDir(), "backup")
	stop, ended := make(chan struct{}), make(chan struct{})
	sent := 0
	go func() {
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			default:
			}
			sent++
			odile.write(map[string]string{fmt.Sprintf("d/f%d.png", sent): strings.Repeat(fmt.Sprint(sent),
				40_000)})
			if r := odile.runIn(odile.dir, "", "send", "-m", fmt.Sprint("pass ", sent)); r.Status != 0 {
				t.Errorf("%s%s", r.Out, r.Errs)
				return
			}
		}
	}()
	killed := 0
	for range rounds {
		c := d.command("backup", dir, "--keep-all")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(rand.IntN(700)) * time.Millisecond)
		if c.Process.Signal(syscall.SIGKILL) == nil {
			killed++
		}
		_ = c.Wait()
		time.Sleep(time.Second) // names are seconds
		d.tarnd(0, "backup", dir, "--keep-all")
	}
	close(stop)
	<-ended
	t.Logf("%d backups, %d killed, %d handoffs beside them", rounds, killed, sent)
	says(t, d.tarnd(0, "backup", "--check", dir), "Everything is there and sound")
	names, err := os.ReadDir(filepath.Join(dir, "backups"))
	if err != nil {
		t.Fatal(err)
	}
	d.stopWithin(20 * time.Second)
	came := 0
	for i, name := range names {
		if strings.HasSuffix(name.Name(), ".part") {
			continue
		}
		if rounds > 3 && i%5 != 0 && i != len(names)-1 {
			continue // each takes a database
		}
		d.elsewhere()
		says(t, d.tarnd(0, "restore", dir, "--at", name.Name()), "brinelight is back")
		says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound")
		came++
	}
	if came == 0 {
		t.Error("no backup came back")
	}
}
