// Package e2e drives the two programs as people do: the service on loopback, clients in folders of their own, and a browser.
package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"kettletarn/internal/localpg"
	"kettletarn/internal/testbed"
)

var bin string

func TestMain(m *testing.M) {
	var err error
	if bin, err = os.MkdirTemp("", "kettle-tarn-bin-"); err == nil {
		var out []byte
		if out, err = exec.Command("go", "build", "-o", bin, "../cmd/...").CombinedOutput(); err != nil {
			err = fmt.Errorf("%w\n%s", err, out)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "the programs can't be built:", err)
		os.Exit(1)
	}
	defer os.RemoveAll(bin)
	testbed.Main(m)
}

// daemon is a running tarnd.
type daemon struct {
	t    *testing.T
	url  string
	env  []string
	data string
	cmd  *exec.Cmd
	log  *bytes.Buffer
	done chan struct{}
}

// serve starts a tarnd on a fresh database and folder.
func serve(t *testing.T) *daemon {
	t.Helper()
	port, err := localpg.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	d := &daemon{t: t, url: fmt.Sprintf("http://127.0.0.1:%d", port), data: filepath.Join(t.TempDir(), "data")}
	d.env = []string{"PATH=" + os.Getenv("PATH"), fmt.Sprintf("TARND_LISTEN=127.0.0.1:%d", port), "TARND_DB=" + testbed.Database(t), "TARND_DATA=" + d.data}
	d.start()
	t.Cleanup(d.kill)
	return d
}

func (d *daemon) start() {
	d.t.Helper()
	d.cmd, d.log, d.done = exec.Command(filepath.Join(bin, "tarnd"), "serve"), &bytes.Buffer{}, make(chan struct{})
	d.cmd.Env, d.cmd.Stderr = d.env, d.log
	if err := d.cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	cmd, done := d.cmd, d.done
	go func() {
		_ = cmd.Wait()
		close(done)
	}()
	for range 400 {
		if answer, err := http.Get(d.url + "/readyz"); err == nil {
			_ = answer.Body.Close()
			if answer.StatusCode == http.StatusOK {
				return
			}
		}
		time.Sleep(25 * time.Millisecond)
	}
	d.kill()
	d.t.Fatalf("tarnd does not become ready: %s", d.log)
}

// kill ends tarnd without warning.
func (d *daemon) kill() {
	_ = d.cmd.Process.Kill()
	<-d.done
}

// stop ends it in order, and returns its exit status.
func (d *daemon) stop() int {
	_ = d.cmd.Process.Signal(syscall.SIGTERM)
	<-d.done
	return d.cmd.ProcessState.ExitCode()
}

// person is somebody at a machine of their own.
type person struct {
	t      *testing.T
	d      *daemon
	handle string
	home   string
	dir    string
}

// person makes somebody and signs them in.
func (d *daemon) person(handle string) *person {
	d.t.Helper()
	cmd := exec.Command(filepath.Join(bin, "tarnd"), "person", "add", handle)
	cmd.Env, cmd.Stdin = d.env, strings.NewReader(testbed.Passphrase+"\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		d.t.Fatalf("person add %s: %v\n%s", handle, err, out)
	}
	p := d.machine(handle)
	if r := p.runIn(p.home, testbed.Passphrase+"\n", "sign-in", d.url, "--as", handle); r.status != 0 {
		d.t.Fatalf("%s can't sign in: %s", handle, r.errs)
	}
	return p
}

// machine is a machine on which nobody has signed in yet.
func (d *daemon) machine(handle string) *person {
	home := d.t.TempDir()
	return &person{t: d.t, d: d, handle: handle, home: home, dir: filepath.Join(home, "brinelight")}
}

// result is how a command ended.
type result struct {
	status    int
	out, errs string
}

func (p *person) command(dir string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(bin, "tarn"), args...)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + filepath.Join(p.home, "bin") + ":" + os.Getenv("PATH"), "HOME=" + p.home, "XDG_CONFIG_HOME=" + p.home + "/.config", "XDG_STATE_HOME=" + p.home + "/.state", "TARN_MACHINE=" + p.handle + "-pc"}
	return cmd
}

func (p *person) runIn(dir, input string, args ...string) result {
	p.t.Helper()
	cmd := p.command(dir, args...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(input), &out, &errs
	if err := cmd.Run(); cmd.ProcessState == nil {
		p.t.Fatal(err)
	}
	if strings.Contains(errs.String(), "goroutine ") || strings.Contains(errs.String(), "panic:") {
		p.t.Errorf("tarn %s prints a stack trace: %s", strings.Join(args, " "), errs.String())
	}
	return result{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
}

// tarn runs a command that has to end with the status, and returns what it printed on both.
func (p *person) tarn(status int, args ...string) string {
	p.t.Helper()
	r := p.runIn(p.dir, "", args...)
	if r.status != status {
		p.t.Fatalf("%s: tarn %s ends with %d, want %d:\n%s%s", p.handle, strings.Join(args, " "), r.status, status, r.out, r.errs)
	}
	return r.out + r.errs
}

// json runs a command with --json and reads its object.
func (p *person) json(status int, into any, args ...string) {
	p.t.Helper()
	r := p.runIn(p.dir, "", append(args, "--json")...)
	if r.status != status {
		p.t.Fatalf("%s: tarn %s ends with %d, want %d:\n%s%s", p.handle, strings.Join(args, " "), r.status, status, r.out, r.errs)
	}
	if err := json.Unmarshal([]byte(r.out), into); err != nil {
		p.t.Fatalf("tarn %s --json prints no object: %v\n%s", strings.Join(args, " "), err, r.out)
	}
}

// start makes the project brinelight of the files, by path.
func (p *person) start(files map[string]string) {
	p.t.Helper()
	p.write(files)
	if err := os.MkdirAll(p.dir, 0o755); err != nil {
		p.t.Fatal(err)
	}
	p.tarn(0, "start", "brinelight", "--yes")
}

// join makes a workspace of brinelight for somebody, who is added first by owner.
func (p *person) join(owner *person, role string) {
	p.t.Helper()
	owner.tarn(0, "member", "add", p.handle, "--role", role)
	if r := p.runIn(p.home, "", "join", "brinelight"); r.status != 0 {
		p.t.Fatalf("%s can't join: %s", p.handle, r.errs)
	}
}

func (p *person) write(files map[string]string) {
	p.t.Helper()
	for path, text := range files {
		full := filepath.Join(p.dir, filepath.FromSlash(path))
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			p.t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			p.t.Fatal(err)
		}
	}
}

// has fails the test unless a file has the text; "" stands for no file.
func (p *person) has(path, text string) {
	p.t.Helper()
	data, err := os.ReadFile(filepath.Join(p.dir, filepath.FromSlash(path)))
	if text == "" && err != nil {
		return
	}
	if err != nil || string(data) != text {
		p.t.Errorf("%s: %s has %d bytes %.40q, %v; want %.40q", p.handle, path, len(data), data, err, text)
	}
}

// says fails the test unless text has every part in it.
func says(t *testing.T, text string, parts ...string) {
	t.Helper()
	for _, part := range parts {
		if !strings.Contains(text, part) {
			t.Errorf("%q is not said in:\n%s", part, text)
		}
	}
}

// state is the state of one path, as status --json has it.
func (p *person) state(path string) string {
	p.t.Helper()
	var s struct {
		Assets []struct{ Path, State string }
	}
	p.json(0, &s, "status")
	for _, a := range s.Assets {
		if a.Path == path {
			return a.State
		}
	}
	return ""
}
