// Package localpg runs a PostgreSQL of Debian's packages on loopback, in a folder of its own, for the demo, the tests and the
// benchmarks. It is not for a team's data: docs/operations.md says how to set up that.
package localpg

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Server is one running PostgreSQL.
type Server struct {
	folder string
	bin    string
	port   int
	fast   bool
	clock  string
	owner  *syscall.Credential
	cmd    *exec.Cmd
	done   chan error
}

// Options say how to run it. Port 0 takes a free one. Fast gives up durability, and looking after what changed, which tests do not need:
// with a hundred databases that starts a process twice a second. Clock, where not "", is a file that SetClock writes, in a folder that the
// user postgres can reach: the server goes by that clock, with Debian's faketime.
type Options struct {
	Folder string
	Port   int
	Fast   bool
	Clock  string
}

// Start runs a PostgreSQL with its data in o.Folder, which is made and filled where it is missing. As root, it runs as the user
// postgres of Debian's package, who has to be able to reach the folder.
func Start(ctx context.Context, o Options) (*Server, error) {
	s := &Server{folder: o.Folder, port: o.Port, fast: o.Fast}
	var err error
	if s.bin, err = binaries(); err != nil {
		return nil, err
	}
	if err := s.takeFolder(); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(s.folder, "PG_VERSION")); err != nil {
		init := s.command(ctx, "initdb", "-D", s.folder, "-U", "tarnd", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
		if out, err := init.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("initdb: %w\n%s", err, out)
		}
	}
	if s.port == 0 {
		if s.port, err = FreePort(); err != nil {
			return nil, err
		}
	}
	if s.clock = o.Clock; s.clock != "" {
		if err := s.SetClock(0); err != nil {
			return nil, err
		}
	}
	return s, s.Up(ctx)
}

// SetClock puts the clock of a server that was started with one back by so much, to a second. It may run while the server does; a
// clock that is put back by more than before goes backwards, which a database does not expect.
func (s *Server) SetClock(back time.Duration) error {
	fresh := s.clock + ".new"
	if err := os.WriteFile(fresh, fmt.Appendf(nil, "%+d\n", -int64(back/time.Second)), 0o644); err != nil {
		return err
	}
	return os.Rename(fresh, s.clock)
}

// RealClock starts the server again with the real time.
func (s *Server) RealClock(ctx context.Context) error {
	if err := s.Down(); err != nil {
		return err
	}
	s.clock = ""
	return s.Up(ctx)
}

// Up starts the server again after Down.
func (s *Server) Up(ctx context.Context) error {
	args := []string{"-D", s.folder, "-p", strconv.Itoa(s.port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c",
		"log_min_messages=fatal"}
	if s.fast {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off", "-c", "wal_level=minimal",
			"-c", "max_wal_senders=0", "-c", "autovacuum=off")
	}
	var errs bytes.Buffer
	s.cmd = s.command(context.Background(), "postgres", args...)
	if s.clock != "" {
		libraries, _ := filepath.Glob("/usr/lib/*/faketime/libfaketime.so.1")
		if len(libraries) == 0 {
			return errors.New("there is no faketime; apt-get install faketime brings it")
		}
		s.cmd.Env = append(s.cmd.Env, "LD_PRELOAD="+libraries[0], "FAKETIME_TIMESTAMP_FILE="+s.clock, "FAKETIME_NO_CACHE=1",
			"FAKETIME_DONT_FAKE_MONOTONIC=1", "DONT_FAKE_MONOTONIC=1")
	}
	s.cmd.Stderr = &errs
	if err := s.cmd.Start(); err != nil {
		return err
	}
	s.done = make(chan error, 1)
	go func() { s.done <- s.cmd.Wait() }()
	for deadline := time.Now().Add(30 * time.Second); ; {
		conn, err := pgx.Connect(ctx, s.url("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-s.done:
			return fmt.Errorf("PostgreSQL ended at once: %s", strings.TrimSpace(errs.String()))
		case <-ctx.Done():
			_ = s.Down()
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			_ = s.Down()
			return fmt.Errorf("PostgreSQL does not answer: %w", err)
		}
	}
}

// Down ends the server, cutting its connections.
func (s *Server) Down() error {
	if s.cmd == nil {
		return nil
	}
	// SIGINT is a fast shutdown: no waiting for clients, nothing lost.
	if err := s.cmd.Process.Signal(syscall.SIGINT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-s.done:
	case <-time.After(20 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.done
	}
	s.cmd = nil
	return nil
}

// Process is the id of the running server.
func (s *Server) Process() int { return s.cmd.Process.Pid }

// Database makes an empty database where it is missing, and returns its address.
func (s *Server) Database(ctx context.Context, name string) (string, error) {
	return s.DatabaseFrom(ctx, name, "template1")
}

// DatabaseFrom is Database with what another one has, which nobody is connected to.
func (s *Server) DatabaseFrom(ctx context.Context, name, template string) (string, error) {
	conn, err := pgx.Connect(ctx, s.url("postgres"))
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, "select exists (select 1 from pg_database where datname = $1)", name).Scan(&there); err != nil {
		return "", err
	}
	if !there {
		if _, err := conn.Exec(ctx,
			"create database "+pgx.Identifier{name}.Sanitize()+" template "+pgx.Identifier{template}.Sanitize()+
				" strategy file_copy"); err != nil {
			return "", err
		}
	}
	return s.url(name), nil
}

func (s *Server) url(database string) string {
	return fmt.Sprintf("postgres://tarnd@127.0.0.1:%d/%s?sslmode=disable", s.port, database)
}

func (s *Server) command(ctx context.Context, program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(s.bin, program), args...)
	// A group of its own: Ctrl-C at the terminal ends it through Down, in order.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: s.owner}
	cmd.Dir = "/"
	cmd.Env = []string{"LC_ALL=C.UTF-8", "PATH=/usr/bin:/bin"}
	return cmd
}

// takeFolder makes the folder, and as root gives it to the user postgres.
func (s *Server) takeFolder() error {
	if err := os.MkdirAll(s.folder, 0o700); err != nil {
		return err
	}
	if os.Getuid() != 0 {
		return nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return fmt.Errorf("as root, PostgreSQL runs as the user postgres of Debian's package: %w", err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	s.owner = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return os.Chown(s.folder, uid, gid)
}

// binaries finds the newest PostgreSQL of Debian's packages.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", errors.New("there is no PostgreSQL; apt-get install postgresql brings it")
	}
	sort.Slice(found, func(i, j int) bool { return major(found[i]) < major(found[j]) })
	return filepath.Dir(found[len(found)-1]), nil
}

func major(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}

// given are the ports that FreePort gave: what asked for one may not listen on it yet.
var given sync.Map

// FreePort is a port of loopback that nothing listens on, each time another one.
func FreePort() (int, error) {
	for {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return 0, err
		}
		port := l.Addr().(*net.TCPAddr).Port
		_ = l.Close()
		if _, before := given.LoadOrStore(port, true); !before {
			return port, nil
		}
	}
}
