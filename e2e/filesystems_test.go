package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// mounted is a folder on a fresh file system of a kind, on loopback or in memory.
func mounted(t *testing.T, kind string) string {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("mounting takes root")
	}
	at, image := t.TempDir(), filepath.Join(t.TempDir(), "image")
	var err error
	switch kind {
	case "tmpfs":
		err = syscall.Mount("tmpfs", at, "tmpfs", 0, "size=300m")
	case "overlay":
		var sides [3]string
		for i := range sides {
			sides[i] = t.TempDir()
		}
		err = syscall.Mount("overlay", at, "overlay", 0, fmt.Sprintf("lowerdir=%s,upperdir=%s,workdir=%s", sides[0], sides[1], sides[2]))
	default:
		if err = os.WriteFile(image, nil, 0o600); err == nil {
			err = os.Truncate(image, 400<<20)
		}
		for _, line := range []string{"mkfs." + kind + " -q " + image, "mount -o loop " + image + " " + at} {
			if err == nil {
				words := strings.Fields(line)
				err = exec.Command(words[0], words[1:]...).Run()
			}
		}
	}
	if err != nil {
		t.Skipf("%s can't be made and mounted here: %v", kind, err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(at, syscall.MNT_DETACH) })
	return at
}

// TestEveryFileSystemHoldsADay plays a day with the workspace of one of two on each file system, and with updates that are killed.
func TestEveryFileSystemHoldsADay(t *testing.T) {
	for _, kind := range []string{"ext4", "btrfs", "xfs", "tmpfs", "overlay", "stick"} {
		t.Run(kind, func(t *testing.T) {
			if kind == "stick" {
				aDayOn(t, mountStick(t).dir, true)
			} else {
				aDayOn(t, mounted(t, kind), false)
			}
		})
	}
}

func aDayOn(t *testing.T, at string, served bool) {
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	rurik.machine.Served = served
	odile.start(map[string]string{"a.png": "a", "textures/Rust.png": "rust one", "textures/Moss.png": "moss one"})
	odile.tarn(0, "member", "add", "rurik")
	rurik.dir = filepath.Join(at, "brinelight")
	if r := rurik.runIn(rurik.home, "", "join", "brinelight", rurik.dir); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	rurik.tarn(0, "lock", "textures/Rust.png", "a.png")
	rurik.write(map[string]string{"textures/Rust.png": "rust two", "levels/quay.tscn": "new"})
	rurik.tarn(0, "move", "a.png", "moved/a.png")
	says(t, rurik.tarn(0, "send", "-m", "two"), "h2", "3 assets")
	odile.tarn(0, "update")
	odile.tarn(0, "lock", ".")
	odile.write(map[string]string{"textures/Moss.png": "moss two", "levels/quay.tscn": "level two"})
	odile.tarn(0, "move", "textures/Rust.png", "textures/Copper.png")
	odile.tarn(0, "send", "-m", "three")
	rurik.write(map[string]string{"levels/quay.tscn": "not sent"})
	says(t, rurik.tarn(1, "update"), "levels/quay.tscn", "changed here")
	rurik.has("levels/quay.tscn", "not sent")
	rurik.has("textures/Copper.png", "rust two")
	rurik.has("textures/Moss.png", "moss two")
	says(t, rurik.tarn(0, "discard", "levels/quay.tscn"), "put away")
	rurik.tarn(0, "update")
	rurik.has("levels/quay.tscn", "level two")
	files := odile.noise("many", 30, 100_000, 3)
	odile.tarn(0, "send", "-m", "many")
	for i := range 8 {
		cmd := rurik.command(rurik.dir, "update")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(15+15*i) * time.Millisecond)
		_ = cmd.Process.Signal(syscall.SIGKILL)
		_ = cmd.Wait()
	}
	rurik.tarn(0, "update")
	for path, text := range files {
		rurik.has(path, text)
	}
	says(t, rurik.tarn(0, "rollback", "textures/Moss.png", "--to", "v1"), "Back to version 1")
	rurik.has("textures/Moss.png", "moss one")
	// Another spelling of a name, of a file's and of a folder's, sent from here and brought to here.
	rurik.tarn(0, "lock", "textures/Moss.png", "levels/quay.tscn")
	rurik.tarn(0, "move", "textures/Moss.png", "textures/MOSS.png")
	rurik.tarn(0, "move", "levels", "Levels")
	rurik.tarn(0, "send", "-m", "spelled otherwise", "--keep-locks")
	rurik.spelled("textures/MOSS.png", "Levels/quay.tscn")
	says(t, rurik.tarn(0, "status"), "Nothing has changed here")
	rurik.tarn(0, "unlock", ".")
	odile.tarn(0, "update")
	odile.spelled("textures/MOSS.png", "Levels/quay.tscn")
	odile.tarn(0, "lock", "textures/MOSS.png", "Levels/quay.tscn")
	odile.tarn(0, "move", "textures/MOSS.png", "textures/moss.png")
	odile.tarn(0, "move", "Levels", "levels")
	odile.tarn(0, "send", "-m", "and back")
	rurik.tarn(0, "update")
	rurik.spelled("textures/moss.png", "levels/quay.tscn")
	rurik.has("textures/moss.png", "moss one")
	says(t, rurik.tarn(0, "status"), "Nothing has changed here")
	if left, _ := filepath.Glob(filepath.Join(rurik.dir, ".tarn-incoming*")); len(left) != 0 {
		t.Errorf("leftovers: %v", left)
	}
}

// spelled looks for files whose names, and those of their folders, are spelled just so.
func (p *person) spelled(paths ...string) {
	p.t.Helper()
	var there []string
	_ = filepath.WalkDir(p.dir, func(name string, _ os.DirEntry, _ error) error {
		if rel, err := filepath.Rel(p.dir, name); err == nil {
			there = append(there, filepath.ToSlash(rel))
		}
		return nil
	})
	for _, path := range paths {
		if !slices.Contains(there, path) {
			p.t.Errorf("%s is not here; here is: %v", path, there)
		}
	}
}

// TestAStickThatFails: whichever call on a stick fails or stalls, what lay there is there afterwards, and the same command goes on.
func TestAStickThatFails(t *testing.T) {
	stick := mountStick(t)
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	rurik.machine.Served = true
	odile.start(map[string]string{"a.png": "a", "b.png": "b", "c.png": "c"})
	odile.tarn(0, "member", "add", "rurik")
	rurik.dir = filepath.Join(stick.dir, "brinelight")
	if r := rurik.runIn(rurik.home, "", "join", "brinelight", rurik.dir); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	text := "a"
	for i, call := range []string{"create", "write", "sync", "rename", "unlink", "mkdir", "read", "open"} {
		before := text
		text = strings.Repeat(fmt.Sprint("pass ", i, " "), 1000)
		odile.tarn(0, "lock", "a.png", "b.png")
		fresh := fmt.Sprintf("new%d/b.png", i)
		odile.write(map[string]string{"a.png": text, fresh: text})
		odile.tarn(0, "send", "-m", call)
		for _, wrong := range []syscall.Errno{syscall.EIO, syscall.ENOSPC, syscall.EACCES} {
			var seen atomic.Int64
			trouble := func(c, name string) syscall.Errno {
				if c == call && name != ".tarn-workspace" && name != "tarn.toml" {
					seen.Add(1)
					return wrong
				}
				return 0
			}
			stick.trouble.Store(&trouble)
			r := rurik.runIn(rurik.dir, "", "update")
			stick.trouble.Store(nil)
			if r.Status == 0 && seen.Load() > 0 && call != "unlink" && call != "sync" && call != "read" && call != "open" {
				t.Errorf("%s fails with %v, and update ends well: %s%s", call, wrong, r.Out, r.Errs)
			}
			if _, err := os.Stat(filepath.Join(rurik.dir, "a.png")); err != nil && call == "read" {
				says(t, r.Out+r.Errs, "neither be read nor put back", "tarn discard --restore a.png")
				rurik.tarn(0, "discard", "--restore", "a.png")
			}
			if data, err := os.ReadFile(filepath.Join(rurik.dir, "a.png")); string(data) != before && string(data) != text {
				t.Fatalf("%s with %v leaves a.png with %d bytes %.20q, %v:\n%s%s", call, wrong, len(data), data, err, r.Out, r.Errs)
			}
		}
		slow := func(string, string) syscall.Errno { time.Sleep(3 * time.Millisecond); return 0 }
		stick.trouble.Store(&slow)
		rurik.tarn(0, "update")
		stick.trouble.Store(nil)
		rurik.has("a.png", text)
		rurik.has(fresh, text)
		says(t, rurik.tarn(0, "status"), "Nothing has changed here")
	}
	// A file in the place of what comes, in another case: it is seen, and stays.
	rurik.write(map[string]string{"Hull.PNG": "rurik's own"})
	odile.write(map[string]string{"hull.png": "odile's"})
	odile.tarn(0, "send", "-m", "hull")
	says(t, rurik.tarn(1, "update"), "hull.png")
	rurik.has("Hull.PNG", "rurik's own")
	// What could not be removed, an old version of a file that is there, may lie there still; nothing else.
	left, _ := filepath.Glob(filepath.Join(rurik.dir, ".tarn-incoming*", "*"))
	for _, name := range left {
		if !strings.HasSuffix(name, "-aside") {
			t.Errorf("leftovers: %v", left)
		}
	}
}
