package main

import (
	"bufio"
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"kettletarn/internal/client"
	"kettletarn/internal/contest"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/localpg"
	"kettletarn/internal/rig"
)

// pgbenchScript has the statements of a lock and an unlock, as tarnd makes them.
//
//go:embed locks.sql
var pgbenchScript string

// The clients of S7: so many people with so many workspaces each, and how long they and pgbench are let run.
const (
	lockPeople     = 20
	lockWorkspaces = 10
	lockAssets     = 100_000
	lockTime       = 10 * time.Second
	contestAssets  = 50
)

// load is what a number of locks and unlocks took: pairs a second, and how long a pair takes, sorted, in seconds.
type load struct {
	rate  float64
	times []float64
}

func (l load) p99() float64 {
	if len(l.times) == 0 {
		return 0
	}
	return l.times[min(len(l.times)*99/100, len(l.times)-1)]
}

func (l load) String() string {
	return fmt.Sprintf("%s a second, p99 %.0f ms", humanize.CommafWithDigits(l.rate, 0), l.p99()*1000)
}

// locks is S7: many clients at once on many assets, and on one; beside pgbench with the same statements.
func (b *bench) locks() error {
	handles := make([]string, lockPeople)
	for i := range handles {
		handles[i] = fmt.Sprintf("person%02d", i)
		if err := b.daemon.AddPerson(b.ctx, handles[i], passphrase); err != nil {
			return err
		}
	}
	c, err := contest.Prepare(b.ctx, b.daemon.URL, b.freshKey(), passphrase, handles, lockWorkspaces, lockAssets)
	if err != nil {
		return err
	}
	if err := b.nameClients(c); err != nil {
		return err
	}
	for _, m := range []struct {
		work   string
		assets int
	}{{"on 100,000 assets", lockAssets}, {"all on one asset", 1}} {
		var ours, theirs []load
		var cpu time.Duration
		pairs := 0
		for range b.runs {
			before := treeCPU(b.daemon.Process()) + treeCPU(b.pg.Process())
			l, err := b.lockLoad(c, m.assets, lockTime, nil)
			if err != nil {
				return err
			}
			cpu += treeCPU(b.daemon.Process()) + treeCPU(b.pg.Process()) - before
			pairs += len(l.times)
			ours = append(ours, l)
			p, err := b.pgbench(c, m.assets)
			if err != nil {
				return err
			}
			theirs = append(theirs, p)
		}
		a, p := middle(ours), middle(theirs)
		fmt.Printf("locks: %s: ours %s; pgbench %s; %.1f CPU ms a pair\n", m.work, a, p, cpu.Seconds()*1000/float64(max(pairs, 1)))
		b.row("S7", fmt.Sprintf("lock and unlock by %d clients at once, %s", len(c.Clients), m.work), a.String(),
			fmt.Sprintf("pgbench, as many clients: %s", p),
			fmt.Sprintf("%.2f of its rate; %.1f times its p99", a.rate/p.rate, a.p99()/p.p99()), "1; 1", a.rate >= p.rate && a.p99() <= p.p99())
		if m.assets > 1 {
			if err := b.lockWatched(c, a); err != nil {
				return err
			}
		}
	}
	if err := b.lockWhile(c); err != nil {
		return err
	}
	return b.contest(handles)
}

// contest lets the clients fight for few locks through two services, and checks that some order of all requests explains every answer.
func (b *bench) contest(handles []string) error {
	port, err := localpg.FreePort()
	if err != nil {
		return err
	}
	log, err := os.Create(filepath.Join(b.folder, "tarnd-2.log"))
	if err != nil {
		return err
	}
	defer log.Close()
	second := rig.NewDaemon(b.bin, fmt.Sprintf("127.0.0.1:%d", port), b.db, filepath.Join(b.folder, "data"), log)
	if err := second.Start(b.ctx); err != nil {
		return err
	}
	defer second.Stop()
	c, err := contest.Prepare(b.ctx, b.daemon.URL, b.freshKey(), passphrase, handles, lockWorkspaces, contestAssets)
	if err != nil {
		return err
	}
	c.URLs = append(c.URLs, second.URL)
	r := c.Run(b.ctx, 2*lockTime, 1)
	err = c.Check(r, 5*time.Minute, 2*time.Second, filepath.Join(b.folder, "history.html"))
	verdict := "some order explains every answer"
	if err != nil {
		verdict = err.Error()
	}
	b.row("S7", fmt.Sprintf("%d clients, %d locks, two tarnd: linearizable", len(c.Clients), contestAssets),
		fmt.Sprintf("%s requests, %s carried out, %d versions", humanize.Comma(int64(r.Answered)), humanize.Comma(int64(r.Done)), r.Sent), "none",
		verdict, "every answer", err == nil)
	return nil
}

// nameClients makes the table from which pgbench draws its clients.
func (b *bench) nameClients(c *contest.Contest) error {
	conn, err := pgx.Connect(b.ctx, b.db)
	if err != nil {
		return err
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(b.ctx, `create table bench_clients (n integer primary key,
		ws uuid, digest bytea, person bigint, handle text)`); err != nil {
		return err
	}
	for i, k := range c.Clients {
		digest := chunk.Sum([]byte(k.Token))
		if _, err := conn.Exec(b.ctx, `insert into bench_clients select $1, $2, $3, id, handle from people where handle = $4`, i,
			k.Place.WorkspaceID, digest[:], k.Place.Handle); err != nil {
			return err
		}
	}
	_, err = conn.Exec(b.ctx, `analyze`)
	return err
}

func middle(list []load) load {
	slices.SortFunc(list, func(a, b load) int { return int(a.rate - b.rate) })
	return list[len(list)/2]
}

// lockLoad lets all clients lock and unlock for a time, or until until is closed.
func (b *bench) lockLoad(c *contest.Contest, assets int, length time.Duration, until <-chan struct{}) (load, error) {
	ctx, stop := context.WithTimeout(b.ctx, length)
	defer stop()
	transport := &http.Transport{MaxIdleConnsPerHost: len(c.Clients), DisableCompression: true}
	defer transport.CloseIdleConnections()
	k := &http.Client{Transport: transport}
	var mu sync.Mutex
	var out load
	var failed error
	var group sync.WaitGroup
	start := time.Now()
	for id, who := range c.Clients {
		group.Go(func() {
			rnd := rand.New(rand.NewPCG(7, uint64(id)))
			var times []float64
			for ctx.Err() == nil {
				select {
				case <-until:
					stop()
				default:
				}
				path := c.Assets[rnd.IntN(assets)]
				began := time.Now()
				status, err := post(k, c.URLs[0]+"/api/v1/projects/"+c.Project+"/locks", who.Token,
					model.LockRequest{Workspace: who.Place.WorkspaceID, Assets: []model.LockWant{{Path: path, Version: 1}}})
				if err == nil && status == http.StatusOK {
					status, err = post(k, c.URLs[0]+"/api/v1/projects/"+c.Project+"/locks/release", who.Token,
						model.UnlockRequest{Workspace: who.Place.WorkspaceID, Paths: []string{path}})
					if status != http.StatusOK && err == nil {
						err = fmt.Errorf("an unlock is answered with %d", status)
					}
				} else if err == nil && status != http.StatusConflict {
					err = fmt.Errorf("a lock is answered with %d", status)
				}
				if err != nil {
					mu.Lock()
					failed = errors.Join(failed, err)
					mu.Unlock()
					return
				}
				times = append(times, time.Since(began).Seconds())
			}
			mu.Lock()
			out.times = append(out.times, times...)
			mu.Unlock()
		})
	}
	group.Wait()
	out.rate = float64(len(out.times)) / time.Since(start).Seconds()
	slices.Sort(out.times)
	return out, failed
}

func post(k *http.Client, url, token string, body any) (int, error) {
	text, err := json.Marshal(body)
	if err != nil {
		return 0, err
	}
	r, err := http.NewRequest(http.MethodPost, url, bytes.NewReader(text))
	if err != nil {
		return 0, err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := k.Do(r)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	_, err = io.Copy(io.Discard, answer.Body)
	return answer.StatusCode, err
}

// pgbench runs the same statements.
func (b *bench) pgbench(c *contest.Contest, assets int) (l load, err error) {
	programs, err := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if err != nil || len(programs) == 0 {
		return l, errors.New("there is no pgbench; it comes with the package postgresql")
	}
	folder, err := os.MkdirTemp(b.folder, "pgbench-")
	if err != nil {
		return l, err
	}
	script := filepath.Join(folder, "locks.sql")
	if err := os.WriteFile(script, []byte(pgbenchScript), 0o644); err != nil {
		return l, err
	}
	cmd := exec.CommandContext(b.ctx, programs[len(programs)-1], "-n", "-M", "prepared", "-c", strconv.Itoa(len(c.Clients)), "-j", "2", "-T",
		strconv.Itoa(int(lockTime.Seconds())), "-l", "-f", script,
		"-D", "assets="+strconv.Itoa(assets), "-D", "project="+c.Project, "-D", "clients="+strconv.Itoa(len(c.Clients)), b.db)
	cmd.Dir = folder
	if text, err := cmd.CombinedOutput(); err != nil {
		return l, fmt.Errorf("pgbench: %w: %s", err, text)
	}
	logs, err := filepath.Glob(filepath.Join(folder, "pgbench_log.*"))
	if err != nil {
		return l, err
	}
	for _, name := range logs {
		f, err := os.Open(name)
		if err != nil {
			return l, err
		}
		for lines := bufio.NewScanner(f); lines.Scan(); {
			fields := strings.Fields(lines.Text())
			if len(fields) < 3 {
				continue
			}
			us, err := strconv.ParseFloat(fields[2], 64)
			if err != nil {
				return l, err
			}
			l.times = append(l.times, us/1e6)
		}
		_ = f.Close()
	}
	l.rate = float64(len(l.times)) / lockTime.Seconds()
	slices.Sort(l.times)
	return l, nil
}

// lockWhile is how long a lock takes while somebody hands off 10,000 assets, beside how long it takes otherwise: few clients, so that it
// is the handoff that they wait for, and not each other.
func (b *bench) lockWhile(c *contest.Contest) error {
	few := *c
	few.Clients = c.Clients[10:18]
	owner := client.New(b.daemon.URL, c.Clients[0].Token, nil)
	var quiet, busy []float64
	for n := range b.runs {
		l, err := b.lockLoad(&few, lockAssets, 3*time.Second, nil)
		if err != nil {
			return err
		}
		quiet = append(quiet, l.p99())
		send := model.SendRequest{Workspace: c.Clients[0].Place.WorkspaceID, About: model.About{Note: "ten thousand more"}}
		for i := range 10_000 {
			send.Changes = append(send.Changes, model.SendChange{Path: fmt.Sprintf("more/r%02d/d%03d/x%05d.bin", n, i/500, i), Content: c.Content,
				Size: c.Size})
		}
		done := make(chan struct{})
		sent := make(chan error, 1)
		go func() {
			defer close(done)
			_, err := owner.Send(b.ctx, c.Project, uuid.NewString(), send)
			sent <- err
		}()
		if l, err = b.lockLoad(&few, lockAssets, time.Minute, done); err != nil {
			return err
		}
		if err := <-sent; err != nil {
			return err
		}
		busy = append(busy, l.p99())
	}
	slices.Sort(quiet)
	slices.Sort(busy)
	q, w := quiet[len(quiet)/2], busy[len(busy)/2]
	b.row("S7", "lock and unlock by 8 clients while 10,000 assets are handed off", fmt.Sprintf("p99 %.0f ms", w*1000),
		fmt.Sprintf("the same without it, p99 %.0f ms", q*1000), fmt.Sprintf("%.1f times", w/q), "2", w/q <= 2)
	return nil
}
