package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"kettletarn/internal/localpg"
	"kettletarn/internal/rig"
	"kettletarn/internal/testbed"
)

// TestTheDemo plays the whole scenario, and goes on with it as its people would: the lead brings the second chapter in by looking, somebody
// else has it then, and it can be undone. It takes minutes: make soak.
func TestTheDemo(t *testing.T) {
	if testbed.Steps(0, 1) == 0 {
		t.Skip("make soak plays it")
	}
	folder, err := os.MkdirTemp("/var/tmp", "kettle-tarn-demo-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	if err := os.Chmod(folder, 0o755); err != nil { // PostgreSQL may run as another user
		t.Fatal(err)
	}
	// Its three ports stand side by side.
	port, err := localpg.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	program := filepath.Join(t.TempDir(), "demo")
	if out, err := exec.Command("go", "build", "-o", program, "kettletarn/demo").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	var said bytes.Buffer
	cmd := exec.Command(program, "-port", fmt.Sprint(port), "-folder", filepath.Join(folder, "demo"), "-bin", bin)
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGINT)
		<-ended
	})
	url := fmt.Sprintf("http://127.0.0.1:%d", port)
	played := filepath.Join(folder, "demo", "played")
	for start := time.Now(); ; time.Sleep(time.Second) {
		if _, err := os.Stat(played); err == nil {
			break
		}
		select {
		case err := <-ended:
			ended <- err
			t.Fatalf("%v\n%s", err, said.String())
		default:
		}
		if time.Since(start) > 5*time.Minute {
			t.Fatalf("it takes too long\n%s", said.String())
		}
	}
	at := func(handle string) *person {
		home := filepath.Join(folder, "demo", "people", handle)
		return &person{t: t, handle: handle, home: home, dir: filepath.Join(home, "brinelight"),
			machine: rig.Machine{Bin: bin, Home: home, Handle: handle}}
	}
	odile, tamsin, rurik := at("odile"), at("tamsin"), at("rurik")

	// Six weeks are six weeks: nothing has just happened, and no two handoffs at once.
	type past struct {
		Handoffs []struct {
			Number int
			At     time.Time
		}
	}
	var history past
	odile.json(0, &history, "history", "--last", "100")
	list := history.Handoffs
	if len(list) < 30 || time.Since(list[len(list)-1].At) < 41*24*time.Hour || time.Since(list[0].At) < time.Hour {
		t.Errorf("%d handoffs: %+v", len(list), list)
	}
	for i := 1; i < len(list); i++ {
		if apart := list[i-1].At.Sub(list[i].At); apart < 10*time.Second {
			t.Errorf("h%d is %v behind h%d", list[i-1].Number, apart, list[i].Number)
		}
	}
	says(t, odile.tarn(0, "holders"), "hours ago", "1st in line: keiko", "offered to odile")
	says(t, odile.tarn(0, "branch", "list"), "second-chapter", "done", "white-water", "closed", "heavy-gear")
	says(t, rurik.tarn(0, "status"), "brinelight, on main at h", "textures/plank-albedo.png")
	says(t, odile.tarn(1, "merge", "second-chapter", "--preview"), "levels/harbour/things.json", "models/winch.glb",
		"text/dialogue-keeper.txt")

	b := &browser{t: t, url: url}
	b.ctx = open(t, &daemon{t: t, Daemon: &rig.Daemon{URL: url}}).ctx
	b.do(chromedp.Navigate(url+"/"), chromedp.WaitVisible(`input[name=handle]`), chromedp.SendKeys(`input[name=handle]`, "odile"),
		chromedp.SendKeys(`input[name=passphrase]`, "lantern-and-odile\n"), chromedp.WaitVisible(`//h1[text()="Projects"]`),
		chromedp.EmulateViewport(1280, 1600), chromedp.Navigate(url+"/p/brinelight"), b.sees("Waiting for you"),
		chromedp.Click(`//a[contains(., "Does the bell read from the boat")]`), b.sees("1 of 7"),
		chromedp.SendKeys(`input[aria-label="Why, or what is missing"]`, "in it goes"), chromedp.Click(ready("Yes")), b.sees("odile says yes"),
		chromedp.Navigate(url+"/p/brinelight/merge?from=second-chapter&into=main"), b.sees("3 things left to decide"))
	choose := func(path, words string, nth int) chromedp.Action[chromedp.Void] {
		return chromedp.Click(fmt.Sprintf(`(//article[@aria-label=%q]%s)[%d]`, path, button(words), nth))
	}
	b.do(choose("levels/harbour/things.json", "This one", 1), choose("models/winch.glb", "Keep both", 1),
		choose("text/dialogue-keeper.txt", "This one", 2), b.sees("Nothing is left to decide"), chromedp.Click(ready("Bring it in")),
		b.sees("brings in h"))
	tamsin.tarn(0, "update")
	tamsin.hasFile("models/winch (second-chapter).glb")
	tamsin.hasFile("sounds/drowned-bell.wav")
	b.do(chromedp.Navigate(url+"/p/brinelight/branches"), b.sees("came in at h"), chromedp.Navigate(url+"/p/tidepad/reviews/1"),
		b.sees("Which one is this?"), chromedp.WaitVisible(`button[data-mark="1"]`))
	odile.json(0, &history, "history", "--last", "1")
	says(t, odile.tarn(0, "update"), "drowned-bell")
	says(t, odile.tarn(0, "rollback", "--without", fmt.Sprintf("h%d", history.Handoffs[0].Number), "-m", "Not yet after all"),
		"Nothing was deleted")
	if _, err := os.Stat(filepath.Join(odile.dir, "sounds", "drowned-bell.wav")); err == nil {
		t.Error("the merge was undone, and what it brought is there")
	}
}

func (p *person) hasFile(path string) {
	p.t.Helper()
	if _, err := os.Stat(filepath.Join(p.dir, path)); err != nil {
		p.t.Error(err)
	}
}
