package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/contest"
	"kettletarn/internal/localpg"
	"kettletarn/internal/rig"
	"kettletarn/internal/testbed"
)

// Sixty clients fight for twenty locks through two tarnd on one PostgreSQL, which are killed and started again meanwhile; on two branches,
// of which one comes into the other now and then. Some order of all requests has to explain every answer, and no version may have been sent
// by anybody but the holder.
func TestLocksAreLinearizable(t *testing.T) {
	d := serve(t)
	port, err := localpg.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	db := d.db()
	d.Kill()
	d.Daemon = rig.NewDaemon(bin, strings.TrimPrefix(d.URL, "http://"), named(db, "first"), d.data, &bytes.Buffer{})
	d.start()
	t.Cleanup(d.Kill)
	second := &daemon{t: t, data: d.data, Daemon: rig.NewDaemon(bin, fmt.Sprintf("127.0.0.1:%d", port), named(db, "second"), d.data,
		&bytes.Buffer{})}
	second.start()
	t.Cleanup(second.Kill)
	handles := []string{"odile", "tamsin", "rurik", "imani", "bastien", "keiko"}
	for _, h := range handles {
		if err := d.AddPerson(t.Context(), h, testbed.Passphrase); err != nil {
			t.Fatal(err)
		}
	}
	c, err := contest.Prepare(t.Context(), d.URL, "brinelight", testbed.Passphrase, handles, 10, 20)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Apart(t.Context()); err != nil {
		t.Fatal(err)
	}
	c.URLs = append(c.URLs, second.URL)
	ctx, stop := context.WithCancel(t.Context())
	killed := make(chan int)
	conn, err := pgx.Connect(t.Context(), named(db, "watcher"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	longest := time.Duration(0) // that the database went on with what a killed service had sent it
	go func() {
		n := 0
		defer func() { killed <- n }()
		for ; ; n++ {
			select {
			case <-ctx.Done():
				return
			case <-time.After(2500 * time.Millisecond):
			}
			victim := []*daemon{d, second}[n%2]
			// Who asked may see the connection end before the dead process is gone.
			start := time.Now()
			victim.Kill()
			for left := 1; left > 0; time.Sleep(20 * time.Millisecond) {
				if err := conn.QueryRow(context.Background(), `select count(*) from pg_stat_activity where datname = current_database() and `+
					`application_name = $1`, []string{"first", "second"}[n%2]).Scan(&left); err != nil {
					t.Errorf("the database can't be asked: %v", err)
					return
				}
			}
			longest = max(longest, time.Since(start))
			victim.start()
		}
	}()
	r := c.Run(t.Context(), time.Duration(testbed.Steps(15, 60))*time.Second, 1)
	stop()
	kills := <-killed
	t.Logf("the database went on for %s at most with what a killed service had sent it", longest)
	t.Logf("%d requests were answered, %d of them carried out, %d had no answer (%d of them were refused at a second try); %d versions; %d "+
		"kills; %v", r.Answered, r.Done, r.Unknown, r.Again, r.Sent, kills, r.Kinds)
	if r.Done < 100 || r.Sent < 10 || r.Unknown == 0 || kills < 2 {
		t.Error("the contest did not come to much")
	}
	came := []string{"take", "send", "give back", "leave", "ask", "override", "held", "offered", "merge", "apart"}
	if os.Getenv("SOAK") != "" { // what is rare, on a machine that is busy
		came = append(came, "give", "lock-lost")
	}
	for _, kind := range came {
		if r.Kinds[kind] == 0 {
			t.Errorf("it never came to %q", kind)
		}
	}
	if err := c.Check(r, time.Minute, longest+100*time.Millisecond, filepath.Join(t.TempDir(), "history.html")); err != nil {
		t.Error(err)
	}
	var versions, without int
	if err := conn.QueryRow(t.Context(), `select count(*), count(*) filter (where not exists (
			select from holds o where o.asset_id = v.asset_id and o.handoff = v.handoff
			and o.ending = 'sent' and o.person_id = h.author_id and o.workspace_id = h.workspace_id))
		from versions v join handoffs h on h.project_id = v.project_id and h.number = v.handoff
		where v.number > 1 and (select count(*) from handoff_parents k where k.project_id = h.project_id
			and k.number = h.number) = 1`).Scan(&versions, &without); err != nil {
		t.Fatal(err)
	}
	if versions < r.Sent || without > 0 {
		t.Errorf("%d versions, of %d sends that were answered; %d came from somebody who did not hold the lock", versions, r.Sent, without)
	}
}

// named is a database's address under a name by which its sessions are known.
func named(db, name string) string {
	mark := "?"
	if strings.Contains(db, "?") {
		mark = "&"
	}
	return db + mark + "application_name=" + name
}
