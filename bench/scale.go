package main

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"kettletarn/internal/client"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
)

// caller talks to the service without a workspace.
type caller struct {
	*client.Client
	b   *bench
	key string
	ws  string
	// took is how long the last handoff of edit took.
	took time.Duration
}

func (b *bench) caller(key string) (*caller, error) {
	c := client.New(b.daemon.URL, "", nil)
	answer, err := c.SignIn(b.ctx, model.SignInRequest{Handle: "odile", Passphrase: passphrase, From: "bench"})
	if err != nil {
		return nil, err
	}
	c = client.New(b.daemon.URL, answer.Token, nil)
	if _, err := c.Start(b.ctx, key); err != nil {
		return nil, err
	}
	w, err := c.AddWorkspace(b.ctx, key, "bench")
	return &caller{Client: c, b: b, key: key, ws: w.ID}, err
}

// bring uploads small contents and returns their names.
func (c *caller) bring(n int) ([]chunk.Digest, error) {
	texts := make([]string, n)
	for i := range texts {
		texts[i] = fmt.Sprintf("%s %d: a small asset", c.key, i)
	}
	return c.upload(texts...)
}

// upload brings contents of one chunk each.
func (c *caller) upload(texts ...string) ([]chunk.Digest, error) {
	out := make([]chunk.Digest, len(texts))
	var body []byte
	for i, text := range texts {
		data := []byte(text)
		ref := chunk.Ref{Digest: chunk.Sum(data), Size: len(data)}
		body = pack.AppendEncoded(body, pack.Chunk, ref.Digest, data)
		for _, node := range manifest.Build([]chunk.Ref{ref}) {
			body = pack.AppendEncoded(body, pack.Manifest, node.Digest, node.Data)
			out[i] = node.Digest
		}
		if len(body) > 4<<20 || i == len(texts)-1 {
			if err := c.StoreRecords(c.b.ctx, c.key, body); err != nil {
				return nil, err
			}
			body = nil
		}
	}
	return out, nil
}

func (c *caller) size(i int) int64 {
	return int64(len(fmt.Sprintf("%s %d: a small asset", c.key, i)))
}

// Folders hold 100 assets each, in a small project as in a large one: the page of a folder is the same work in both.
func folderOf(i int) string  { return fmt.Sprintf("r%02d/d%05d", i/100%50, i/100) }
func assetPath(i int) string { return fmt.Sprintf("%s/asset%07d.bin", folderOf(i), i) }

// add hands off assets number from to to (exclusive), each with one of the contents.
func (c *caller) add(from, to int, contents []chunk.Digest) error {
	send := model.SendRequest{Workspace: c.ws, About: model.About{Note: "more assets"}}
	for i := from; i < to; i++ {
		n := i % len(contents)
		send.Changes = append(send.Changes, model.SendChange{Path: assetPath(i), Content: contents[n], Size: c.size(n)})
	}
	_, err := c.Send(c.b.ctx, c.key, uuid.NewString(), send)
	return err
}

// handoff is S8: many small assets, after the bytes are there, beside COPY of the same rows into tables of the same make.
func (b *bench) handoff(assets int) error {
	var ours, copies series
	for range b.runs {
		c, err := b.caller(b.freshKey())
		if err != nil {
			return err
		}
		contents, err := c.bring(assets)
		if err != nil {
			return err
		}
		start := time.Now()
		if err := c.add(0, assets, contents); err != nil {
			return err
		}
		ours = append(ours, sample{time: time.Since(start)})
		took, err := b.copyRows(c.key)
		if err != nil {
			return err
		}
		copies = append(copies, sample{time: took})
	}
	ratio := ours.median() / copies.median()
	b.row("S8", fmt.Sprintf("a handoff of %s small assets, after the bytes are there", humanize.Comma(int64(assets))), ours.String(),
		"COPY of the same rows "+copies.String(), fmt.Sprintf("%.2f of its time", ratio), "3", ratio <= 3)
	return nil
}

// copyRows writes what a project has in the tables of a handoff with COPY into tables of the same make, and says how long that took.
func (b *bench) copyRows(key string) (time.Duration, error) {
	conn, err := pgx.Connect(b.ctx, b.db)
	if err != nil {
		return 0, err
	}
	defer conn.Close(context.Background())
	tables := []string{"handoffs", "handoff_parents", "assets", "claims", "present", "contents", "versions", "nodes", "events"}
	rows := map[string][]byte{}
	for _, table := range tables {
		if _, err := conn.Exec(b.ctx, fmt.Sprintf("drop table if exists bench_%[1]s; create table bench_%[1]s (like %[1]s including all)",
			table)); err != nil {
			return 0, err
		}
		var buf bytes.Buffer
		sql := fmt.Sprintf("copy (select t.* from %s t join projects p on p.id = t.project_id where p.key = '%s') to stdout binary", table, key)
		if _, err := conn.PgConn().CopyTo(b.ctx, &buf, sql); err != nil {
			return 0, err
		}
		rows[table] = buf.Bytes()
	}
	start := time.Now()
	if _, err := conn.Exec(b.ctx, "begin"); err != nil {
		return 0, err
	}
	for _, table := range tables {
		if _, err := conn.PgConn().CopyFrom(b.ctx, bytes.NewReader(rows[table]),
			fmt.Sprintf("copy bench_%s from stdin binary", table)); err != nil {
			return 0, err
		}
	}
	if _, err := conn.Exec(b.ctx, "commit"); err != nil {
		return 0, err
	}
	return time.Since(start), nil
}

// looks are what S10 times, each a median of many calls.
var looks = []string{"send of one asset", "page of 100 assets", "history of an asset", "difference of two handoffs", "search for a name",
	"update with nothing new"}

const looksEach = 40

// looked is a project to look at, of so many assets with some of the contents.
type looked struct {
	*caller
	assets   int
	contents []chunk.Digest
}

// look times the looks on projects, which take turns: so the machine is for each what it is for the others.
func look(list ...looked) ([]map[string]float64, error) {
	out := make([]map[string]float64, len(list))
	for i := range out {
		out[i] = map[string]float64{}
	}
	for _, name := range looks {
		times := make([][]float64, len(list))
		for n := range looksEach {
			for i, c := range list {
				took, err := c.look(name, n)
				if err != nil {
					return nil, fmt.Errorf("%s: %w", name, err)
				}
				times[i] = append(times[i], took.Seconds())
			}
		}
		for i := range list {
			slices.Sort(times[i])
			out[i][name] = times[i][len(times[i])/2]
		}
	}
	return out, nil
}

// look times one look, the nth.
func (c *looked) look(name string, n int) (time.Duration, error) {
	i := (n*7919 + 11) % c.assets
	p, err := c.Project(c.b.ctx, c.key)
	if err != nil {
		return 0, err
	}
	start := time.Now()
	switch name {
	case "page of 100 assets":
		_, err = c.Folder(c.b.ctx, c.key, folderOf(i), 0, 100)
	case "history of an asset":
		_, err = c.Asset(c.b.ctx, c.key, "", assetPath(i))
	case "difference of two handoffs":
		err = c.Changes(c.b.ctx, c.key, model.ChangesQuery{Since: p.Handoffs - 1, Locks: true}, func(model.Assets) error { return nil })
	case "search for a name":
		_, err = c.Search(c.b.ctx, c.key, fmt.Sprintf("asset%07d", i), 0, 100)
	case "update with nothing new":
		err = c.Changes(c.b.ctx, c.key, model.ChangesQuery{Since: p.Handoffs, Branch: model.FirstBranch, Locks: true},
			func(model.Assets) error { return nil })
	case "send of one asset":
		var h model.AssetHistory
		if h, err = c.Asset(c.b.ctx, c.key, "", assetPath(i)); err != nil {
			return 0, err
		}
		var locks model.Locks
		if locks, err = c.TakeLocks(c.b.ctx, c.key, model.LockRequest{Workspace: c.ws,
			Assets: []model.LockWant{{Path: assetPath(i), Version: h.Asset.Newest}}}); err != nil {
			return 0, err
		}
		k := (i + n + h.Asset.Newest) % len(c.contents)
		change := model.SendChange{Path: assetPath(i), Base: h.Asset.Newest, Fence: locks.Locks[0].Fence, Content: c.contents[k], Size: c.size(k)}
		start = time.Now()
		_, err = c.Send(c.b.ctx, c.key, uuid.NewString(),
			model.SendRequest{Workspace: c.ws, About: model.About{Note: "one asset"}, Changes: []model.SendChange{change}})
	}
	return time.Since(start), err
}

// grown is how long the looks take in a project of so many assets.
type grown struct {
	assets int
	times  map[string]float64
}

// scale is S10: the same in a small and in a very large project with a long history.
func (b *bench) scale(assets, handoffs int) error {
	made := func(n int) (l looked, err error) {
		if l.caller, err = b.caller(b.freshKey()); err != nil {
			return l, err
		}
		l.assets = n
		l.contents, err = l.bring(200)
		return l, err
	}
	small, err := made(1000)
	if err != nil {
		return err
	}
	if err := small.add(0, small.assets, small.contents); err != nil {
		return err
	}
	large, err := made(assets)
	if err != nil {
		return err
	}
	const page = 50_000
	for from := 0; from < assets; from += page {
		to := min(from+page, assets)
		fmt.Printf("scale: %s of %s assets …\n", humanize.Comma(int64(to)), humanize.Comma(int64(assets)))
		if err := large.add(from, to, large.contents); err != nil {
			return err
		}
		if to == 100_000 && assets > to {
			times, err := look(small, looked{large.caller, to, large.contents})
			if err != nil {
				return err
			}
			b.grown = append(b.grown, grown{to, times[1]})
			b.besides("right after a first send of "+humanize.Comma(int64(to)), times)
		}
	}
	fmt.Printf("scale: %s handoffs …\n", humanize.Comma(int64(handoffs)))
	p, err := large.Project(b.ctx, large.key)
	if err != nil {
		return err
	}
	for n := p.Handoffs; n < handoffs; n++ {
		send := model.SendRequest{Workspace: large.ws, About: model.About{Note: "one more"}, Changes: []model.SendChange{
			{Path: fmt.Sprintf("extra/e%03d/x%06d.bin", n%100, n), Content: large.contents[n%200], Size: large.size(n % 200)}}}
		if _, err := large.Send(b.ctx, large.key, uuid.NewString(), send); err != nil {
			return err
		}
	}
	times, err := look(small, large)
	if err != nil {
		return err
	}
	b.grown = append(b.grown, grown{small.assets, times[0]}, grown{assets, times[1]})
	slices.SortFunc(b.grown, func(a, c grown) int { return cmp.Compare(a.assets, c.assets) })
	b.besides(fmt.Sprintf("%s assets and %s handoffs", humanize.Comma(int64(assets)), humanize.Comma(int64(handoffs))), times)
	return nil
}

// besides adds the rows of what looks took in a small project and in a large one.
func (b *bench) besides(large string, times []map[string]float64) {
	for _, name := range looks {
		base, took := times[0][name], times[1][name]
		b.row("S10", name+", "+large, fmt.Sprintf("%.1f ms", took*1000), fmt.Sprintf("1,000 assets %.1f ms", base*1000),
			fmt.Sprintf("%.2f of its time", took/base), "1.5", took/base <= 1.5)
	}
}
