// Package rig runs the two programs as a team does, on loopback, for the demo, the end-to-end tests and the benchmarks.
package rig

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Daemon is a tarnd. Its methods are not safe for concurrent use.
type Daemon struct {
	URL string
	// Env are its settings, as variables.
	Env []string
	// Log gets what it prints.
	Log io.Writer
	// Ended is closed when the running tarnd has ended.
	Ended chan struct{}

	bin string
	cmd *exec.Cmd
}

// NewDaemon describes a tarnd that listens on an address of loopback. bin is the folder with the programs.
func NewDaemon(bin, address, db, data string, log io.Writer) *Daemon {
	return &Daemon{URL: "http://" + address, Log: log, bin: bin,
		Env: []string{"PATH=" + os.Getenv("PATH"), "TARND_LISTEN=" + address, "TARND_DB=" + db, "TARND_DATA=" + data}}
}

// Start runs it and waits until it is ready.
func (d *Daemon) Start(ctx context.Context) error {
	d.cmd, d.Ended = exec.Command(filepath.Join(d.bin, "tarnd"), "serve"), make(chan struct{})
	d.cmd.Env, d.cmd.Stderr, d.cmd.Stdout = d.Env, d.Log, d.Log
	// A group of its own: Ctrl-C at the terminal ends it through Stop, in order.
	d.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := d.cmd.Start(); err != nil {
		return err
	}
	cmd, ended := d.cmd, d.Ended
	go func() {
		_ = cmd.Wait()
		close(ended)
	}()
	for range 400 {
		if answer, err := http.Get(d.URL + "/readyz"); err == nil {
			_ = answer.Body.Close()
			if answer.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-ended:
			return errors.New("tarnd ended at once")
		case <-ctx.Done():
			d.Kill()
			return ctx.Err()
		case <-time.After(25 * time.Millisecond):
		}
	}
	d.Kill()
	return errors.New("tarnd does not become ready")
}

// Kill ends it without warning.
func (d *Daemon) Kill() {
	_ = d.cmd.Process.Kill()
	<-d.Ended
}

// Stop ends it in order, and returns its exit status.
func (d *Daemon) Stop() int {
	_ = d.cmd.Process.Signal(syscall.SIGTERM)
	<-d.Ended
	return d.cmd.ProcessState.ExitCode()
}

// Process is the id of the running tarnd.
func (d *Daemon) Process() int { return d.cmd.Process.Pid }

// AddPerson makes a person with tarnd person add.
func (d *Daemon) AddPerson(ctx context.Context, handle, passphrase string, flags ...string) error {
	cmd := exec.CommandContext(ctx, filepath.Join(d.bin, "tarnd"), append([]string{"person", "add", handle}, flags...)...)
	cmd.Env, cmd.Stdin = d.Env, strings.NewReader(passphrase+"\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("tarnd person add %s: %w\n%s", handle, err, out)
	}
	return nil
}

// Machine is a machine of one person: a home of their own with sign-in and state. Through, where it is set, is what runs the program of
// another system, and Env what that needs.
type Machine struct {
	Bin, Home, Handle string
	Through           string
	Env               []string
	// Served says that its folders are on a file system that this process serves itself. A child that went there before its own program
	// runs would wait for this process, which may be waiting for the child.
	Served bool
}

// Command is a command of tarn on that machine, in a folder of it. A program in Home/bin comes before those of the system.
func (m Machine) Command(ctx context.Context, dir string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(m.Bin, "tarn"), args...)
	if m.Through != "" {
		cmd = exec.CommandContext(ctx, m.Through, append([]string{filepath.Join(m.Bin, "tarn.exe")}, args...)...)
	}
	if cmd.Dir = dir; m.Served {
		cmd = exec.CommandContext(ctx, "env", append([]string{"-C", dir}, cmd.Args...)...)
	}
	cmd.Env = []string{"PATH=" + filepath.Join(m.Home, "bin") + ":" + os.Getenv("PATH"), "HOME=" + m.Home, "XDG_CONFIG_HOME=" + m.Home +
		"/.config",
		"XDG_STATE_HOME=" + m.Home + "/.state", "TARN_MACHINE=" + m.Handle + "-pc"}
	cmd.Env = append(cmd.Env, m.Env...)
	return cmd
}

// Result is how a command ended.
type Result struct {
	Status    int
	Out, Errs string
	CPU       time.Duration
}

// Run runs a command of tarn to its end. The error is that of a command that could not be run at all.
func (m Machine) Run(ctx context.Context, dir, input string, args ...string) (Result, error) {
	cmd := m.Command(ctx, dir, args...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(input), &out, &errs
	err := cmd.Run()
	if cmd.ProcessState == nil {
		return Result{}, err
	}
	return Result{Status: cmd.ProcessState.ExitCode(), Out: out.String(), Errs: errs.String(),
		CPU: cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()}, ctx.Err()
}
