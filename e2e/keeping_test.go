package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/testbed"
)

// packs are the files of all packs, the largest first.
func (d *daemon) packs() (files []string) {
	d.t.Helper()
	largest := int64(0)
	if err := filepath.WalkDir(filepath.Join(d.data, "packs"), func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if info.Size() > largest {
			largest, files = info.Size(), append([]string{path}, files...)
		} else {
			files = append(files, path)
		}
		return nil
	}); err != nil {
		d.t.Fatal(err)
	}
	return files
}

// spoil turns bits around in a file, from so many hundredths of it on.
func (d *daemon) spoil(file string, percent int) {
	d.t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		d.t.Fatal(err)
	}
	for at := len(data) * percent / 100; at < len(data)*percent/100+2000; at += 100 {
		data[at] ^= 0x55
	}
	if err := os.WriteFile(file, data, 0o600); err != nil {
		d.t.Fatal(err)
	}
}

func TestFlippedBytesAreFoundAndHealedFromAnotherWorkspace(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"notes.txt": "kelp"})
	files := odile.noise("levels", 4, 900_000, 5)
	odile.tarn(0, "send", "-m", "levels")
	rurik.join(odile, "artist")
	says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound", "1 project", "2 handoffs")
	says(t, rurik.tarn(0, "heal"), "lacks nothing")

	d.spoil(d.packs()[0], 30)
	d.tarnd(0, "verify") // the index alone does not tell
	out := d.tarnd(1, "verify", "--deep", "--rate", "200MB/s")
	says(t, out, "damaged or missing", "levels/", "@v1", "tarn heal")
	d.tarnd(1, "verify") // now it does
	// Whoever has not the file can't get it, and is told so; nothing else is lost.
	bastien := d.person("bastien")
	odile.tarn(0, "member", "add", "bastien", "--role", "viewer")
	r := bastien.runIn(bastien.home, "", "join", "brinelight")
	if r.Status != 1 || !strings.Contains(r.Errs, "tarn heal") && !strings.Contains(r.Errs, "does not have") {
		t.Errorf("joining with a damaged chunk: %+v", r)
	}
	says(t, rurik.tarn(0, "heal"), "has all of it back")
	says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound")
	if r := bastien.runIn(bastien.dir, "", "update"); r.Status != 0 {
		t.Errorf("after it was healed: %+v", r)
	}
	for path, text := range files {
		bastien.has(path, text)
	}

	// Quietly, too: who updates or sends gives back what is here.
	d.spoil(d.packs()[0], 55)
	d.tarnd(1, "verify", "--deep")
	rurik.tarn(0, "update")
	says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound")
	d.spoil(d.packs()[0], 80)
	d.tarnd(1, "verify", "--deep")
	rurik.write(map[string]string{"new.txt": "salt"})
	rurik.tarn(0, "send", "-m", "salt")
	says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound")
	says(t, d.tarnd(0, "collect"), "nothing to collect")
}

func TestTheServiceIsRebuiltFromItsPacks(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.txt": "one", "b/c.txt": "kelp"})
	odile.tarn(0, "lock", "a.txt")
	odile.write(map[string]string{"a.txt": "two"})
	odile.tarn(0, "send", "-m", "a second pass", "--task", "BRL-9")
	odile.tarn(0, "move", "a.txt", "b/moved.txt")
	odile.tarn(0, "lock", "b/moved.txt")
	odile.tarn(0, "send", "-m", "moved")
	odile.write(map[string]string{"a.txt": "another of that name"})
	odile.tarn(0, "send", "-m", "new in its place")
	before := odile.tarn(0, "history")
	// When it ends in order, everything is in packs.
	if status := d.Stop(); status != 0 {
		t.Fatalf("tarnd ends with %d", status)
	}
	for i, v := range d.Env {
		if strings.HasPrefix(v, "TARND_DB=") {
			d.Env[i] = "TARND_DB=" + testbed.Database(t)
		}
	}
	says(t, d.tarnd(0, "rebuild", "--owner", "odile"), "brinelight is back: 4 handoffs with 6 versions", "tarnd person add")
	says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound")
	if err := d.AddPerson(t.Context(), "odile", testbed.Passphrase); err != nil {
		t.Fatal(err)
	}
	d.start()
	if r := odile.runIn(odile.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "odile"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	says(t, odile.tarn(0, "join", "brinelight", "--here"), "4 files taken over")
	if after := odile.tarn(0, "history"); after != before {
		t.Errorf("before:\n%s\nafter:\n%s", before, after)
	}
	odile.tarn(0, "lock", "a.txt")
	odile.write(map[string]string{"a.txt": "three"})
	says(t, odile.tarn(0, "send", "-m", "goes on"), "h5")
}

func TestALimitOnTheLine(t *testing.T) {
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.txt": "one"})
	odile.noise("large", 1, 3<<20, 1)
	start := time.Now()
	odile.tarn(0, "send", "-m", "slowly", "--limit", "2MB/s")
	if took := time.Since(start); took < time.Second {
		t.Errorf("3 MiB at 2 MB/s take %s", took)
	}
	if r := odile.runIn(odile.dir, "", "update", "--limit", "fast"); r.Status != 2 || !strings.Contains(r.Errs, "4MB/s") {
		t.Errorf("%+v", r)
	}
}

func TestTheStorageLimitIsSaid(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	if err := d.AddPerson(t.Context(), "keiko", testbed.Passphrase, "--steward"); err != nil {
		t.Fatal(err)
	}
	keiko := d.machine("keiko")
	if err := os.MkdirAll(keiko.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if r := keiko.runIn(keiko.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "keiko"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	odile.start(map[string]string{"a.txt": "one"})
	says(t, odile.tarn(1, "project", "limit", "brinelight", "1MB"), "steward")
	says(t, keiko.tarn(0, "project", "limit", "brinelight", "1MB"), "of at most")
	odile.noise("large", 2, 1<<20, 1)
	says(t, odile.tarn(1, "send", "-m", "too much"), "limit", "left")
	// What a workspace has to send waits, and goes by itself when there is room.
	says(t, odile.tarn(0, "lock", "a.txt"), "a.txt")
	odile.write(map[string]string{"a.txt": "two"})
	watch := odile.watch()
	watch.says("watching")
	odile.tarn(0, "send", "-m", "Waits for room", "--background")
	time.Sleep(5 * time.Second)
	if got := odile.tarn(0, "history"); strings.Contains(got, "Waits for room") {
		t.Errorf("it went over the limit: %s", got)
	}
	says(t, odile.tarn(0, "holders"), "odile") // at the limit locks are as ever
	says(t, keiko.tarn(0, "project", "limit", "brinelight", "none"), "no limit")
	testbed.Eventually(t, "what waited goes", func() bool { return strings.Contains(odile.tarn(0, "history"), "Waits for room") })
	says(t, odile.tarn(0, "status"), "Nothing has changed here")
}
