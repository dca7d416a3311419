// Package e2e drives the two programs as people do: the service on loopback, clients in folders of their own, and a browser.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/localpg"
	"kettletarn/internal/rig"
	"kettletarn/internal/testbed"
)

var bin string

func TestMain(m *testing.M) { testbed.MainBuilt(m, &bin) }

// daemon is a running tarnd.
type daemon struct {
	*rig.Daemon
	t    *testing.T
	data string
}

// serve starts a tarnd on a fresh database and folder.
func serve(t *testing.T) *daemon {
	t.Helper()
	port, err := localpg.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	data := filepath.Join(t.TempDir(), "data")
	d := &daemon{t: t, data: data, Daemon: rig.NewDaemon(bin, fmt.Sprintf("127.0.0.1:%d", port), testbed.Migrated(t), data, &bytes.Buffer{})}
	d.start()
	t.Cleanup(d.Kill)
	return d
}

func (d *daemon) start() {
	d.t.Helper()
	if err := d.Start(context.Background()); err != nil {
		d.t.Fatalf("%v: %s", err, d.Log)
	}
}

// tarnd runs another command of tarnd on the same database and store, beside the one that serves. It has to end with the status.
func (d *daemon) tarnd(status int, args ...string) string {
	d.t.Helper()
	cmd := d.command(args...)
	out, err := cmd.CombinedOutput()
	if got := cmd.ProcessState.ExitCode(); got != status {
		d.t.Fatalf("tarnd %s ends with %d, want %d (%v):\n%s", strings.Join(args, " "), got, status, err, out)
	}
	return string(out)
}

// command is another command of tarnd, which the test runs by itself.
func (d *daemon) command(args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(bin, "tarnd"), args...)
	cmd.Env = d.Env
	return cmd
}

// stopWithin ends it in order, and fails the test where that takes longer.
func (d *daemon) stopWithin(limit time.Duration) int {
	d.t.Helper()
	start := time.Now()
	status := d.Stop()
	if took := time.Since(start); took > limit {
		d.t.Errorf("tarnd takes %s to end", took)
	}
	return status
}

func listen() (net.Listener, error) { return net.Listen("tcp", "127.0.0.1:0") }

// person is somebody at a machine of their own.
type person struct {
	t       *testing.T
	handle  string
	home    string
	dir     string
	machine rig.Machine
}

// person makes somebody and signs them in.
func (d *daemon) person(handle string) *person {
	d.t.Helper()
	if err := d.AddPerson(d.t.Context(), handle, testbed.Passphrase); err != nil {
		d.t.Fatal(err)
	}
	p := d.machine(handle)
	if r := p.runIn(p.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", handle); r.Status != 0 {
		d.t.Fatalf("%s can't sign in: %s", handle, r.Errs)
	}
	return p
}

// machine is a machine on which nobody has signed in yet.
func (d *daemon) machine(handle string) *person {
	home := d.t.TempDir()
	return &person{t: d.t, handle: handle, home: home, dir: filepath.Join(home, "brinelight"),
		machine: rig.Machine{Bin: bin, Home: home, Handle: handle}}
}

// command is one that the test runs by itself.
func (p *person) command(dir string, args ...string) *exec.Cmd {
	return p.machine.Command(context.Background(), dir, args...)
}

func (p *person) runIn(dir, input string, args ...string) rig.Result {
	p.t.Helper()
	r, err := p.machine.Run(context.Background(), dir, input, args...)
	if err != nil {
		p.t.Fatal(err)
	}
	if strings.Contains(r.Errs, "goroutine ") || strings.Contains(r.Errs, "panic:") {
		p.t.Errorf("tarn %s prints a stack trace: %s", strings.Join(args, " "), r.Errs)
	}
	return r
}

// tarn runs a command that has to end with the status, and returns what it printed on both.
func (p *person) tarn(status int, args ...string) string {
	p.t.Helper()
	r := p.runIn(p.dir, "", args...)
	if r.Status != status {
		p.t.Fatalf("%s: tarn %s ends with %d, want %d:\n%s%s", p.handle, strings.Join(args, " "), r.Status, status, r.Out, r.Errs)
	}
	return r.Out + r.Errs
}

// json runs a command with --json and reads its object.
func (p *person) json(status int, into any, args ...string) {
	p.t.Helper()
	r := p.runIn(p.dir, "", append(args, "--json")...)
	if r.Status != status {
		p.t.Fatalf("%s: tarn %s ends with %d, want %d:\n%s%s", p.handle, strings.Join(args, " "), r.Status, status, r.Out, r.Errs)
	}
	if err := json.Unmarshal([]byte(r.Out), into); err != nil {
		p.t.Fatalf("tarn %s --json prints no object: %v\n%s", strings.Join(args, " "), err, r.Out)
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
	if r := p.runIn(p.home, "", "join", "brinelight"); r.Status != 0 {
		p.t.Fatalf("%s can't join: %s", p.handle, r.Errs)
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
