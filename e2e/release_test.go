package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"kettletarn/internal/localpg"
	"kettletarn/internal/rig"
	"kettletarn/internal/testbed"
)

// releases have the database and the store of a project, as releases before left them, by the number of their schema: TestKeepRelease made
// them there.
var releases = []string{"006", "021", "032"}

// numbers is a text that every codec makes smaller.
func numbers(seed int) string {
	var b strings.Builder
	for i := range 20_000 {
		fmt.Fprintln(&b, i*i+seed)
	}
	return b.String()
}

// TestKeepRelease writes such a file, where KEEP names one: run it with the release that is about to become the last one.
func TestKeepRelease(t *testing.T) {
	keep := os.Getenv("KEEP")
	if keep == "" {
		t.Skip("KEEP names no file")
	}
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"textures/rust.png": "rust one", "textures/moss.png": "moss", "levels/quay.csv": numbers(1),
		"gone.png": "gone"})
	rurik.join(odile, "artist")
	rurik.tarn(0, "lock", ".")
	rurik.write(map[string]string{"textures/rust.png": "rust two", "levels/quay.csv": numbers(2)})
	rurik.tarn(0, "move", "textures/moss.png", "textures/kept/Moss.png")
	if err := os.Remove(filepath.Join(rurik.dir, "gone.png")); err != nil {
		t.Fatal(err)
	}
	rurik.tarn(0, "send", "-m", "the second pass", "--with-gone", "--task", "BRL-7")
	odile.tarn(0, "milestone", "add", "quay-walk")
	odile.tarn(0, "update")
	odile.tarn(0, "rollback", "textures/rust.png", "--to", "v1")
	rurik.tarn(0, "update")
	rurik.tarn(0, "lock", "--note", "the north rail", "levels/quay.csv")
	odile.tarn(0, "lock", "--wait", "levels/quay.csv")
	// A kit, and where it is used.
	elsewhere := func(key string, files map[string]string) *person {
		p := *odile
		p.dir = filepath.Join(odile.home, key)
		if err := os.MkdirAll(p.dir, 0o755); err != nil {
			t.Fatal(err)
		}
		p.write(files)
		p.tarn(0, "start", key, "--yes")
		return &p
	}
	parts := elsewhere("parts", map[string]string{"lamp.glb": "lamp", "tarn.toml": "[[kit]]\nname = \"lamp-parts\"\nmatch = \"*.glb\"\n"})
	parts.tarn(0, "kit", "release", "lamp-parts", "-m", "Lamp")
	elsewhere("undertow", map[string]string{"reef.glb": "reef"}).tarn(0, "kit", "use", "parts/lamp-parts")
	d.stopWithin(20e9)
	dir := t.TempDir()
	for _, line := range [][]string{
		{"pg_dump", "--no-owner", "--file", filepath.Join(dir, "database.sql"), d.setting("TARND_DB")},
		{"cp", "-r", filepath.Join(d.data, "packs"), filepath.Join(dir, "packs")},
		{"tar", "-czf", keep, "-C", dir, "database.sql", "packs"},
	} {
		if out, err := exec.Command(line[0], line[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v\n%s", line, err, out)
		}
	}
}

// TestAProjectOfTheLastReleaseOpens carries projects over: everything of them is there, and work goes on.
func TestAProjectOfTheLastReleaseOpens(t *testing.T) {
	for _, schema := range releases {
		t.Run(schema, func(t *testing.T) {
			t.Parallel()
			d := opens(t, fmt.Sprintf("testdata/release-%s.tar.gz", schema))
			if schema >= "032" {
				kitsGoOn(t, d)
			}
		})
	}
}

func opens(t *testing.T, release string) *daemon {
	dir := t.TempDir()
	db, data := testbed.Database(t), filepath.Join(t.TempDir(), "data")
	if err := os.MkdirAll(data, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, line := range [][]string{
		{"tar", "-xzf", release, "-C", dir},
		{"psql", "-q", "-v", "ON_ERROR_STOP=1", "-f", filepath.Join(dir, "database.sql"), db},
		{"cp", "-r", filepath.Join(dir, "packs"), filepath.Join(data, "packs")},
	} {
		if out, err := exec.Command(line[0], line[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v\n%s", line, err, out)
		}
	}
	port, err := localpg.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	d := &daemon{t: t, data: data, Daemon: rig.NewDaemon(bin, fmt.Sprintf("127.0.0.1:%d", port), db, data, &strings.Builder{})}
	d.start()
	t.Cleanup(d.Kill)
	says(t, d.tarnd(0, "verify", "--deep"), "sound")
	rurik := d.machine("rurik")
	if r := rurik.runIn(rurik.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "rurik"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := rurik.runIn(rurik.home, "", "join", "brinelight"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	rurik.has("textures/rust.png", "rust one")
	rurik.has("textures/kept/Moss.png", "moss")
	rurik.has("levels/quay.csv", numbers(2))
	rurik.has("gone.png", "")
	says(t, rurik.tarn(0, "holders"), "rurik", "the north rail", "odile")
	says(t, rurik.tarn(0, "history"), "h3", "the second pass", "quay-walk")
	rurik.tarn(0, "lock", "--bring", "levels/quay.csv", "textures/rust.png")
	rurik.write(map[string]string{"levels/quay.csv": numbers(3), "textures/rust.png": "rust three"})
	says(t, rurik.tarn(0, "send", "-m", "in the new release"), "h4")
	says(t, rurik.tarn(1, "rollback", "levels/quay.csv", "--to", "v1"), "it is odile's turn")
	says(t, rurik.tarn(0, "rollback", "textures/rust.png", "--to", "v2"), "h5")
	rurik.has("textures/rust.png", "rust two")
	says(t, d.tarnd(0, "verify", "--deep"), "sound")
	// What this release has of its own works on it.
	says(t, rurik.tarn(0, "record", "--about", "handoffs"), "the second pass", "in the new release")
	says(t, rurik.tarn(0, "usage"), "It takes")
	file := filepath.Join(t.TempDir(), "brinelight.tar")
	rurik.tarn(0, "project", "download", "brinelight", file)
	says(t, d.tarnd(0, "import", file, "--owner", "odile", "--key", "again"), "again is here: 5 handoffs")
	says(t, d.tarnd(0, "verify", "--deep"), "sound")
	return d
}

// kitsGoOn: uses from before their files named the handoff of their release.
func kitsGoOn(t *testing.T, d *daemon) {
	odile := d.machine("odile")
	if r := odile.runIn(odile.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "odile"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	for _, key := range []string{"parts", "undertow"} {
		if r := odile.runIn(odile.home, "", "join", key); r.Status != 0 {
			t.Fatalf("%+v", r)
		}
	}
	odile.dir = filepath.Join(odile.home, "parts")
	says(t, odile.tarn(0, "kit", "show", "lamp-parts"), "Used in:", "undertow", "kits/lamp-parts", "the latest")
	odile.tarn(0, "lock", "lamp.glb")
	odile.write(map[string]string{"lamp.glb": "lamp, lit"})
	odile.tarn(0, "send", "-m", "Lit")
	says(t, odile.tarn(0, "kit", "release", "lamp-parts", "-m", "Lit"), "parts/lamp-parts@2")
	odile.dir = filepath.Join(odile.home, "undertow")
	says(t, odile.tarn(0, "status", "--fetch"), "Kits of which there is a later release (1)")
	says(t, odile.tarn(0, "kit", "update", "--all"), "kits/lamp-parts is parts/lamp-parts@2, from @1")
	odile.has("kits/lamp-parts/lamp.glb", "lamp, lit")
	text, err := os.ReadFile(filepath.Join(odile.dir, "kits", "lamp-parts", "tarn.kit"))
	if err != nil {
		t.Fatal(err)
	}
	says(t, string(text), "handoff = ")
	says(t, d.tarnd(0, "verify", "--deep"), "sound")
}

// setting is one of a daemon's settings.
func (d *daemon) setting(name string) string {
	for _, e := range d.Env {
		if value, ok := strings.CutPrefix(e, name+"="); ok {
			return value
		}
	}
	d.t.Fatalf("%s is not set", name)
	return ""
}
