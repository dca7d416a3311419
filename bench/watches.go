package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"

	"kettletarn/internal/contest"
	"kettletarn/internal/core/model"
)

// watching is how long S7b looks at each state of affairs, and lockPace how often somebody locks or unlocks in it.
const (
	watching = 20 * time.Second
	lockPace = time.Second / 9
)

// listen opens a stream of news for each client, as a watch does, and returns when all are open. heard counts what they are told, which is
// not taken apart: that would be the work of other machines.
func (b *bench) listen(c *contest.Contest, heard *atomic.Int64) (stop func(), err error) {
	ctx, cancel := context.WithCancel(b.ctx)
	k := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: len(c.Clients), DisableCompression: true}}
	var ended sync.WaitGroup
	opened := make(chan error, len(c.Clients))
	for _, who := range c.Clients {
		ended.Go(func() {
			r, err := http.NewRequestWithContext(ctx, http.MethodGet, b.daemon.URL+"/api/v1/projects/"+c.Project+"/news", nil)
			if err != nil {
				opened <- err
				return
			}
			r.Header.Set("Authorization", "Bearer "+who.Token)
			r.Header.Set("Accept", "text/event-stream")
			answer, err := k.Do(r)
			if err == nil && answer.StatusCode != http.StatusOK {
				err = fmt.Errorf("a watch is answered with %d", answer.StatusCode)
			}
			opened <- err
			if err != nil {
				return
			}
			defer answer.Body.Close()
			buf := make([]byte, 64<<10)
			for {
				n, err := answer.Body.Read(buf)
				heard.Add(int64(bytes.Count(buf[:n], []byte("event: news"))))
				if err != nil {
					return
				}
			}
		})
	}
	stop = func() {
		cancel()
		ended.Wait()
		k.CloseIdleConnections()
	}
	for range c.Clients {
		err = errors.Join(err, <-opened)
	}
	if err != nil {
		stop()
	}
	return stop, err
}

// lockWatched is S7 with a watch beside every client.
func (b *bench) lockWatched(c *contest.Contest, alone load) error {
	var heard atomic.Int64
	stop, err := b.listen(c, &heard)
	if err != nil {
		return err
	}
	defer stop()
	var list []load
	for range b.runs {
		l, err := b.lockLoad(c, lockAssets, lockTime, nil)
		if err != nil {
			return err
		}
		list = append(list, l)
	}
	l := middle(list)
	b.row("S7", fmt.Sprintf("the same with %d watches on, which heard %s events", len(c.Clients), humanize.Comma(heard.Load())), l.String(),
		"the same without, "+alone.String(), fmt.Sprintf("%.2f of the rate", l.rate/alone.rate), "0.9", l.rate >= 0.9*alone.rate)
	return nil
}

// watches is S7b: what the service and PostgreSQL take while 200 watches are on.
func (b *bench) watches() error {
	handles := make([]string, lockPeople)
	for i := range handles {
		handles[i] = fmt.Sprintf("watcher%02d", i)
		if err := b.daemon.AddPerson(b.ctx, handles[i], passphrase); err != nil {
			return err
		}
	}
	own, err := contest.Prepare(b.ctx, b.daemon.URL, b.freshKey(), passphrase, handles, lockWorkspaces, 500)
	if err != nil {
		return err
	}
	other, err := contest.Prepare(b.ctx, b.daemon.URL, b.freshKey(), passphrase, handles[:1], 1, 500)
	if err != nil {
		return err
	}
	// Connections that nobody uses any more are let go after a while, which costs something.
	select {
	case <-b.ctx.Done():
		return b.ctx.Err()
	case <-time.After(idleConnections):
	}
	alone, err := b.pacedLocks(other)
	if err != nil {
		return err
	}
	var heard atomic.Int64
	stop, err := b.listen(own, &heard)
	if err != nil {
		return err
	}
	defer stop()
	// Behind what happened the service looks for more, for a while.
	select {
	case <-b.ctx.Done():
		return b.ctx.Err()
	case <-time.After(idleConnections):
	}
	for _, m := range []struct {
		what string
		in   *contest.Contest
		goal float64 // share of a core, for each of the two
	}{
		{"nothing happening", nil, 0.002},
		{"nine locks a second in their project", own, 0.10},
		{"nine locks a second in another one", other, 0.03},
	} {
		was := heard.Load()
		u, err := b.pacedLocks(m.in)
		if err != nil {
			return err
		}
		yardstick := "none"
		if m.in != nil {
			yardstick = "without watches, " + alone.String()
		}
		b.row("S7b", fmt.Sprintf("%d watches, %s", len(own.Clients), m.what), fmt.Sprintf("the watches heard %s events",
			humanize.Comma(heard.Load()-was)), yardstick, u.String(), fmt.Sprintf("%.1f %% of a core each", 100*m.goal),
			u.service <= m.goal && u.database <= m.goal)
	}
	return nil
}

// idleConnections is longer than a connection to PostgreSQL is kept that nobody uses, and than PostgreSQL takes to look at new rows.
const idleConnections = 75 * time.Second

// use is what the service and PostgreSQL take, in cores.
type use struct{ service, database float64 }

func (u use) String() string {
	return fmt.Sprintf("%.1f %% of a core for the service, %.1f %% for PostgreSQL", 100*u.service, 100*u.database)
}

// pacedLocks is what is taken while somebody locks and unlocks at an even pace; nil waits only.
func (b *bench) pacedLocks(c *contest.Contest) (u use, err error) {
	service, database := treeCPU(b.daemon.Process()), treeCPU(b.pg.Process())
	if _, err := b.slowly(c); err != nil {
		return u, err
	}
	u.service = (treeCPU(b.daemon.Process()) - service).Seconds() / watching.Seconds()
	u.database = (treeCPU(b.pg.Process()) - database).Seconds() / watching.Seconds()
	return u, nil
}

// slowly locks and unlocks, evenly spread; nil waits only.
func (b *bench) slowly(c *contest.Contest) (n int, err error) {
	end := time.After(watching)
	tick := time.NewTicker(lockPace)
	defer tick.Stop()
	k := &http.Client{Transport: &http.Transport{}}
	defer k.CloseIdleConnections()
	for {
		select {
		case <-b.ctx.Done():
			return n, b.ctx.Err()
		case <-end:
			return n, nil
		case <-tick.C:
		}
		if c == nil {
			continue
		}
		who, path := c.Clients[0], c.Assets[n/2%len(c.Assets)]
		address := b.daemon.URL + "/api/v1/projects/" + c.Project + "/locks"
		var status int
		if n%2 == 0 {
			status, err = post(k, address, who.Token, model.LockRequest{Workspace: who.Place.WorkspaceID,
				Assets: []model.LockWant{{Path: path, Version: 1}}})
		} else {
			status, err = post(k, address+"/release", who.Token, model.UnlockRequest{Workspace: who.Place.WorkspaceID, Paths: []string{path}})
		}
		if err != nil || status >= 300 {
			return n, fmt.Errorf("a lock or an unlock is answered with %d, %w", status, err)
		}
		n++
	}
}
