package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"kettletarn/demo/scene"
	"kettletarn/internal/testbed"
)

// windows builds the Windows client and what runs it here, and puts it on machines. It takes the folder of wine's program from WINE, which
// make check-windows sets.
func windows(t *testing.T) (onWindows func(*person) *person) {
	t.Helper()
	wine := os.Getenv("WINE")
	if wine == "" {
		t.Skip("make check-windows runs this")
	}
	dir := t.TempDir()
	env := append(os.Environ(), "WINEPREFIX="+filepath.Join(dir, "prefix"), "WINEDEBUG=-all", "DISPLAY=")
	run := func(env []string, name string, args ...string) {
		cmd := exec.Command(name, args...)
		cmd.Env = env
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
	}
	run(append(env, "GOOS=windows"), "go", "build", "-o", filepath.Join(dir, "tarn.exe"), "../cmd/tarn")
	run(env, wine, "wineboot", "-i")
	library := filepath.Join(dir, "prefix", "drive_c", "windows", "system32", "bcryptprimitives.dll")
	run(env, "x86_64-w64-mingw32-gcc", "-shared", "-O2", "-o", library, "windows/processprng.c", "-ladvapi32")
	t.Cleanup(func() {
		stop := exec.Command(filepath.Join(filepath.Dir(wine), "wineserver64"), "-k")
		stop.Env = env
		_ = stop.Run()
		time.Sleep(time.Second)
	})
	return func(p *person) *person {
		home := `Z:` + strings.ReplaceAll(p.home, "/", `\`)
		p.machine.Bin, p.machine.Through = dir, wine
		p.machine.Env = []string{"WINEPREFIX=" + filepath.Join(dir, "prefix"), "WINEDEBUG=-all", "DISPLAY=", "XDG_CONFIG_HOME=" + home +
			`\.config`, "XDG_STATE_HOME=" + home + `\.state`}
		return p
	}
}

// TestADayOnWindows is a day of two people at the Windows client, with a third at a Linux machine.
func TestADayOnWindows(t *testing.T) {
	onWindows := windows(t)
	d := serve(t)
	odile, rurik, keiko := onWindows(d.machine("odile")), onWindows(d.machine("rurik")), d.person("keiko")
	for _, p := range []*person{odile, rurik} {
		if err := d.AddPerson(t.Context(), p.handle, "brine and salt"); err != nil {
			t.Fatal(err)
		}
		if r := p.runIn(p.home, "brine and salt\r\n", "sign-in", d.URL, "--as", p.handle); r.Status != 0 {
			t.Fatalf("%+v", r)
		}
	}
	if err := os.MkdirAll(filepath.Join(odile.dir, "cache"), 0o755); err != nil {
		t.Fatal(err)
	}
	odile.start(map[string]string{"textures/rust.png": "rust one", "textures/Moss.png": "moss one", "levels/quay.tscn": "level one",
		"a.png": "a"})
	rurik.join(odile, "artist")
	keiko.join(odile, "artist")

	// One works, another wants the same, asks, and gets it.
	says(t, rurik.tarn(0, "lock", `textures\rust.png`, "-m", "edges"), "textures/rust.png is yours")
	says(t, odile.tarn(1, "lock", "textures/rust.png"), "rurik holds it", "edges")
	says(t, odile.tarn(0, "ask", "-m", `one minute ]]> $(calc) "'`, "textures/rust.png"), "rurik was asked")
	rurik.write(map[string]string{"textures/rust.png": "rust two", "textures/new one.png": "new"})
	says(t, rurik.tarn(0, "status"), "edited", "textures/rust.png", "yours")
	says(t, rurik.tarn(0, "holders"), "odile")
	says(t, rurik.tarn(0, "send", "-m", "Edges, as in the sketch"), "h2", "2 assets")
	says(t, odile.tarn(0, "begin", "--no-open", "textures/rust.png"), "yours", "version 2 by rurik was brought")
	odile.has("textures/rust.png", "rust two")
	odile.write(map[string]string{"textures/rust.png": "rust three"})
	odile.tarn(0, "move", "a.png", "moved/a.png")
	odile.tarn(0, "lock", "a.png")
	says(t, odile.tarn(0, "send", "-m", "third pass"), "h3")
	says(t, rurik.tarn(0, "update"), "h3")
	rurik.has("moved/a.png", "a")
	rurik.has("a.png", "")

	// What lies there is never overwritten.
	rurik.write(map[string]string{"levels/quay.tscn": "rurik's, not sent"})
	odile.tarn(0, "lock", "levels")
	odile.write(map[string]string{"levels/quay.tscn": "level two"})
	odile.tarn(0, "send", "-m", "level")
	says(t, rurik.tarn(1, "update"), "levels/quay.tscn", "changed here, and version 2 by odile is newer there")
	rurik.has("levels/quay.tscn", "rurik's, not sent")
	says(t, rurik.tarn(0, "discard", "levels/quay.tscn"), "put away")
	rurik.tarn(0, "update")
	rurik.has("levels/quay.tscn", "level two")

	// Looking back, and going back: every command after it works.
	says(t, odile.tarn(0, "history", "textures/rust.png"), "third pass", "Edges, as in the sketch")
	odile.tarn(0, "compare", "textures/rust.png@v1", "textures/rust.png@v3")
	says(t, odile.tarn(0, "rollback", "textures/rust.png", "--to", "v1"), "Back to version 1")
	odile.has("textures/rust.png", "rust one")
	for _, p := range []*person{odile, rurik, keiko} {
		p.tarn(0, "update")
		says(t, p.tarn(0, "status"), "Nothing has changed here")
		p.has("textures/rust.png", "rust one")
		p.has("textures/new one.png", "new")
		p.has("levels/quay.tscn", "level two")
		if left, _ := filepath.Glob(filepath.Join(p.dir, ".tarn-incoming*")); len(left) != 0 {
			t.Errorf("%s has leftovers: %v", p.handle, left)
		}
	}

	// A command that is killed at any moment blocks none of those that follow.
	files := keiko.noise("many", 40, 200_000, 7)
	keiko.tarn(0, "send", "-m", "many")
	for i := range 6 {
		cmd := rurik.command(rurik.dir, "update")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(100+120*i) * time.Millisecond)
		_ = cmd.Process.Signal(syscall.SIGKILL)
		_ = cmd.Wait()
		rurik.tarn(0, "status")
	}
	rurik.tarn(0, "update")
	for path, text := range files {
		rurik.has(path, text)
	}
	for i, words := range [][]string{{"holders"}, {"news"}, {"project", "list"}, {"whoami"}, {"rules", "test", "textures/rust.png"}, {"help"},
		{"milestone", "list"}} {
		if out := rurik.tarn(0, words...); out == "" {
			t.Error(fmt.Sprint(i), words, "say nothing")
		}
	}
	says(t, d.tarnd(0, "verify", "--deep"), "Everything is there and sound")
}

// TestTheDeskOnWindows: the desk's process, its page in a browser, and its place on the machine.
func TestTheDeskOnWindows(t *testing.T) {
	onWindows := windows(t)
	d := serve(t)
	rurik := onWindows(d.machine("rurik"))
	if err := d.AddPerson(t.Context(), rurik.handle, testbed.Passphrase); err != nil {
		t.Fatal(err)
	}
	if r := rurik.runIn(rurik.home, testbed.Passphrase+"\r\n", "sign-in", d.URL, "--as", rurik.handle); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	rurik.start(map[string]string{`textures/rust.png`: string(scene.Albedo("rust", 64, 0))})
	t.Cleanup(func() { rurik.runIn(rurik.home, "", "desk", "--end") })
	// Under wine the desk keeps what its starter writes to: a file does not wait for it.
	said := filepath.Join(rurik.home, "said")
	out, err := os.Create(said)
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	start := rurik.command(rurik.home, "desk", "--no-open", "--json")
	start.Stdout, start.Stderr = out, out
	if err := start.Run(); err != nil {
		text, _ := os.ReadFile(said)
		t.Fatalf("%v: %s", err, text)
	}
	var at struct{ Link string }
	if text, err := os.ReadFile(said); err != nil || json.Unmarshal(text, &at) != nil {
		t.Fatalf("%s %v", text, err)
	}
	b := browse(t, at.Link[:strings.Index(at.Link, "/desk/")])
	b.do(chromedp.Navigate(at.Link), b.sees("brinelight"), b.sees("connected"), b.sees("Nothing has changed here"))
	rurik.write(map[string]string{`textures/rust.png`: string(scene.Albedo("rust", 64, 1)), "new.png": "new"})
	b.do(b.sees("Changed here"), b.sees("New here"), b.until(`document.querySelector("main img[src^='/desk/picture']")?.naturalWidth > 0`))
	if err := os.Chmod(filepath.Join(rurik.dir, "new.png"), 0o444); err != nil {
		t.Fatal(err)
	}
	rurik.tarn(0, "lock", "textures/rust.png")
	b.do(chromedp.SendKeys(`textarea[name=note]`, "From Windows"), chromedp.Click(ready("Send 2 assets")), b.sees("Nothing has changed here"))
	says(t, rurik.tarn(0, "history"), "From Windows")

	// Its place on the machine: the keys that Windows reads, and nothing of them afterwards.
	registry := func(key string) string {
		cmd := rurik.machine.Command(t.Context(), rurik.home)
		cmd.Args = []string{cmd.Args[0], "reg", "query", `HKCU\` + key, "/s"}
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	says(t, rurik.runIn(rurik.home, "", "desk", "--install").Out, "start menu", "start at sign-in", "links")
	says(t, registry(`Software\Classes\tarn`), "URL Protocol", "tarn.exe", `desk "%1"`)
	says(t, registry(`Software\Microsoft\Windows\CurrentVersion\Run`), "Kettle Tarn", "desk --stay")
	link := rurik.runIn(rurik.home, "", "desk", "--no-open", "--json", `tarn:open?page=%2Fp%2Fbrinelight%2Fasset%2Fnew.png`)
	if err := json.Unmarshal([]byte(link.Out), &at); err != nil || link.Status != 0 {
		t.Fatalf("%+v %v", link, err)
	}
	b.do(chromedp.Navigate(at.Link), b.until(`location.pathname === "/p/brinelight/asset/new.png"`), b.sees("new.png"))
	says(t, rurik.runIn(rurik.home, "", "desk", "--remove").Out, "removed")
	if out := registry(`Software\Classes\tarn`); strings.Contains(out, "URL Protocol") {
		t.Errorf("the scheme is left: %s", out)
	}
	says(t, rurik.runIn(rurik.home, "", "desk", "--end").Out, "has ended")
}
