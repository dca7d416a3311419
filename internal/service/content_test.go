package service_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"io"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/google/uuid"

	"kettletarn/demo/scene"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/records"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

func TestContentIsNeverKeptUnderADigestThatItDoesNotHave(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	good := pack.Encode(pack.Chunk, chunk.Sum([]byte("salt")), []byte("salt"))
	lie := good
	lie.Digest = chunk.Sum([]byte("sugar"))
	_, err := m.StoreChunks(ctx, m.tamsin, key, testbed.From([]pack.Record{good, lie}))
	testbed.Problem(t, err, model.DigestMismatch)
	if missing, err := m.MissingChunks(ctx, m.tamsin, key, []chunk.Digest{good.Digest}); err != nil || len(missing) != 1 {
		t.Errorf("a refused upload left a chunk: %v, %v", missing, err)
	}
	for kind, what := range map[uint8]string{pack.Manifest: "text that is no manifest", pack.Node: "a tree node", pack.Handoff: "a handoff"} {
		r := pack.Encode(kind, chunk.Sum([]byte(what)), []byte(what))
		_, err := m.StoreChunks(ctx, m.tamsin, key, testbed.From([]pack.Record{r}))
		testbed.Problem(t, err, model.BadRequest)
	}

	real := m.content(m.tamsin, bytes.Repeat([]byte("kelp and brine "), 200_000))
	if len(real.Chunks) < 2 {
		t.Fatal("the test needs a content of several chunks")
	}
	// manifests that can't be, each brought as a record like any other
	short := real.Chunks[0]
	short.Size--
	never := chunk.Ref{Digest: chunk.Sum([]byte("never sent")), Size: 10}
	for name, c := range map[string]struct {
		refs []chunk.Ref
		want string
	}{
		"a chunk of another size": {[]chunk.Ref{short, real.Chunks[1]}, model.DigestMismatch},
		"a chunk never sent":      {[]chunk.Ref{real.Chunks[0], never}, model.ChunksMissing},
	} {
		nodes := manifest.Build(c.refs)
		root := nodes[len(nodes)-1]
		ok(t)(m.StoreChunks(ctx, m.tamsin, key, testbed.From([]pack.Record{pack.Encode(pack.Manifest, root.Digest, root.Data)})))
		size := int64(0)
		for _, ref := range c.refs {
			size += int64(ref.Size)
		}
		_, err := m.send(m.tamsin, handoffs.Change{Path: "bad.bin", Content: root.Digest, Size: size})
		testbed.Problem(t, err, c.want)
		var p *model.Problem
		if errors.As(err, &p) && c.want == model.ChunksMissing && (len(p.Missing) != 1 || p.Missing[0] != never.Digest.String()) {
			t.Errorf("%s: named as missing: %v", name, p.Missing)
		}
	}
	_, err = m.send(m.tamsin, handoffs.Change{Path: "ghost.png", Content: chunk.Sum([]byte("never sent")), Size: 10})
	testbed.Problem(t, err, model.ChunksMissing)
	_, err = m.send(m.tamsin, handoffs.Change{Path: "chunk.png", Content: real.Chunks[0].Digest, Size: int64(real.Chunks[0].Size)})
	testbed.Problem(t, err, model.DigestMismatch)
	_, err = m.send(m.tamsin, handoffs.Change{Path: "wrong.png", Content: real.Content, Size: 10})
	reason(t, err, "size")
}

func TestWhatASenderClaimsIsCheckedInTheBackground(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	true1, true2 := bytes.Repeat([]byte("kelp and brine "), 200_000), bytes.Repeat([]byte("salt and brine "), 200_000)
	honest, false2 := chunk.Sum(true1), chunk.Sum([]byte("other"))
	a, b, c := m.content(m.tamsin, true1), m.content(m.tamsin, true2), m.content(m.tamsin, []byte("one chunk"))
	ok(t)(m.send(m.tamsin, handoffs.Change{Path: "a.bin", Content: a.Content, Size: a.Size, Digest: &honest},
		handoffs.Change{Path: "b.bin", Content: b.Content, Size: b.Size, Digest: &false2},
		handoffs.Change{Path: "c.bin", Content: c.Content, Size: c.Size}))
	digest := func(path string) string {
		_, versions, err := m.History(ctx, m.odile, key, "", path)
		if err != nil {
			t.Fatal(err)
		}
		return versions[0].Digest
	}
	if digest("a.bin") != "" || digest("c.bin") != chunk.Sum([]byte("one chunk")).String() {
		t.Error("a claim is shown before it was checked, or the digest of one chunk is not")
	}
	if err := m.SealAll(ctx, nil); err != nil {
		t.Fatal(err)
	}
	if digest("a.bin") != honest.String() || digest("b.bin") != chunk.Sum(true2).String() {
		t.Error("a sealed content has not the digest of its bytes")
	}
	var events []model.Event
	if err := m.DB.Use(ctx, func(tx *records.Tx) (err error) {
		p, err := tx.ProjectFor(ctx, key, 0)
		if err != nil {
			return err
		}
		events, _, err = tx.Events(ctx, p.ID, records.Cursor{}, 100)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, e := range events {
		if e.Kind == "content.false-claim" {
			found++
			if e.Person != "tamsin" || fmt.Sprint(e.Subject["paths"]) != "[b.bin]" || e.Subject["claimed"] != false2.String() {
				t.Errorf("the false claim is on record as %+v", e)
			}
		}
	}
	if found != 1 {
		t.Errorf("%d false claims are on record", found)
	}
	other := chunk.Sum([]byte("other"))
	d := m.content(m.tamsin, []byte("another chunk"))
	_, err := m.send(m.tamsin, handoffs.Change{Path: "d.bin", Content: d.Content, Size: d.Size, Digest: &other})
	testbed.Problem(t, err, model.DigestMismatch)
}

func TestContentReadsBackWholeAndInRanges(t *testing.T) {
	m := newTeam(t, nil)
	big := bytes.Repeat([]byte("kelp and brine and salt "), 150_000)
	for i := range big {
		big[i] ^= byte(i >> 12)
	}
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "big.bin", 0, 0, string(big)), m.change(m.tamsin, "empty.bin", 0, 0, "")))
	_, content, err := m.OpenVersion(t.Context(), m.viewer, key, "big.bin", 0)
	if err != nil {
		t.Fatal(err)
	}
	defer content.Close()
	if all, err := io.ReadAll(content); err != nil || !bytes.Equal(all, big) {
		t.Fatalf("%d bytes come back, %v", len(all), err)
	}
	for _, at := range []int64{0, 1, 262_144, 1_000_000, int64(len(big)) - 3} {
		if _, err := content.Seek(at, io.SeekStart); err != nil {
			t.Fatal(err)
		}
		part := make([]byte, min(5000, int64(len(big))-at))
		if _, err := io.ReadFull(content, part); err != nil || !bytes.Equal(part, big[at:at+int64(len(part))]) {
			t.Errorf("a range at %d comes back changed, %v", at, err)
		}
	}
	_, empty, err := m.OpenVersion(t.Context(), m.viewer, key, "empty.bin", 1)
	if err != nil || empty.Size() != 0 {
		t.Errorf("an empty file: %v", err)
	}
}

// fullStore has room for a number of packs.
type fullStore struct {
	store.Store
	mu   sync.Mutex
	room int
}

func (f *fullStore) Put(ctx context.Context, name string, write func(io.Writer) error) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.room == 0 {
		return fmt.Errorf("%w (%w)", store.ErrFull, syscall.ENOSPC)
	}
	f.room--
	return f.Store.Put(ctx, name, write)
}

func TestAFullDiskLosesNothing(t *testing.T) {
	directory, err := store.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	full := &fullStore{Store: directory, room: 1}
	m := newTeam(t, full)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	record := pack.Encode(pack.Chunk, chunk.Sum([]byte("more")), []byte("more"))
	_, err = m.StoreChunks(t.Context(), m.tamsin, key, testbed.From([]pack.Record{record}))
	testbed.Problem(t, err, model.DiskFull)
	fence := m.lock(m.tamsin, "a.png", 1) // what needs no room goes on
	if _, content, err := m.OpenVersion(t.Context(), m.viewer, key, "a.png", 1); err != nil {
		t.Error(err)
	} else if data, err := io.ReadAll(content); err != nil || string(data) != "one" {
		t.Errorf("reading on a full disk gives %q, %v", data, err)
	}
	full.mu.Lock()
	full.room = 10
	full.mu.Unlock()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 1, fence, "more")))
}

// counted counts the reads of a store.
type counted struct {
	store.Store
	reads, bytes atomic.Int64
}

func (c *counted) Open(ctx context.Context, name string) (store.Object, error) {
	o, err := c.Store.Open(ctx, name)
	return &countedObject{o, c}, err
}

type countedObject struct {
	store.Object
	c *counted
}

func (o *countedObject) ReadAt(p []byte, at int64) (int, error) {
	o.c.reads.Add(1)
	o.c.bytes.Add(int64(len(p)))
	return o.Object.ReadAt(p, at)
}

func TestNeighboursInAPackAreReadAtOnce(t *testing.T) {
	directory, err := store.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	packs := &counted{Store: directory}
	m := newTeam(t, packs)
	var digests []chunk.Digest
	size := int64(0)
	var all []pack.Record
	for i := range 60 {
		c := testbed.Cut(t, []byte(noise(byte(i), 30_000)))
		all = append(all, c.Records...)
	}
	ok(t)(m.StoreChunks(t.Context(), m.tamsin, key, testbed.From(all)))
	for _, r := range all {
		digests, size = append(digests, r.Digest), size+int64(len(r.Data))
	}
	n := 0
	fetch := func(digests []chunk.Digest) {
		t.Helper()
		n = 0
		packs.reads.Store(0)
		packs.bytes.Store(0)
		if err := m.FetchChunks(t.Context(), m.viewer, key, digests, func(r pack.Record) error {
			if _, err := r.Decode(nil); err != nil || r.Digest != digests[n] {
				t.Errorf("record %d comes as %s, %v", n, r.Digest, err)
			}
			n++
			return nil
		}); err != nil || n != len(digests) {
			t.Fatalf("%d of %d records come, %v", n, len(digests), err)
		}
	}
	if fetch(digests); packs.reads.Load() > 2 || packs.bytes.Load() > size+100*int64(len(digests)) {
		t.Errorf("%d neighbours are read with %d reads of %d bytes", n, packs.reads.Load(), packs.bytes.Load())
	}
	// In another order, or far apart, each is read by itself, and nothing between them.
	backwards := slices.Clone(digests)
	slices.Reverse(backwards)
	if fetch(backwards); packs.bytes.Load() > size {
		t.Errorf("backwards, %d bytes are read for %d", packs.bytes.Load(), size)
	}
	fetch([]chunk.Digest{digests[0], digests[100], digests[0]})
}

func TestThumbnails(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "rust.png", 0, 0, string(scene.Albedo("rust", 200, 0)))))
	for range 2 { // the second comes from the cache
		data, err := m.Thumbnail(t.Context(), m.viewer, key, "rust.png", 1, 96)
		if err != nil {
			t.Fatal(err)
		}
		if c, err := png.DecodeConfig(bytes.NewReader(data)); err != nil || c.Width != 96 || c.Height != 96 {
			t.Errorf("a thumbnail of %d x %d, %v", c.Width, c.Height, err)
		}
	}
	outsider, _ := m.Person(t, "stranger")
	_, err := m.Thumbnail(t.Context(), outsider, key, "rust.png", 1, 96)
	testbed.Problem(t, err, model.NotFound)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "not-really.png", 0, 0, "no picture"), m.change(m.tamsin, "sound.wav", 0, 0, "RIFF")))
	for _, path := range []string{"not-really.png", "sound.wav", "none.png"} {
		_, err := m.Thumbnail(t.Context(), m.viewer, key, path, 0, 96)
		var problem *model.Problem
		if !errors.As(err, &problem) || problem.Type != model.NotFound {
			t.Errorf("%s: %v", path, err)
		}
	}
}

func TestADropFromThePage(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	drop := func(path string, base int, body string) (handoffs.Receipt, error) {
		return m.Drop(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: model.KindConsole, About: model.About{Note: "dropped"},
			Changes: []handoffs.Change{{Path: path, Base: base}}}, strings.NewReader(body))
	}
	large := strings.Repeat("kelp and brine ", 400_000)
	ok(t)(drop("a.bin", 0, large))
	_, content, err := m.OpenVersion(ctx, m.viewer, key, "a.bin", 1)
	if err != nil {
		t.Fatal(err)
	}
	if data, err := io.ReadAll(content); err != nil || string(data) != large {
		t.Errorf("%d bytes come back, %v", len(data), err)
	}
	read := &counting{r: strings.NewReader(large)}
	_, err = m.Drop(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: model.KindConsole, About: model.About{Note: "dropped"},
		Changes: []handoffs.Change{{Path: "a.bin", Base: 1}}}, read)
	reason(t, err, "not-locked")
	if read.n != 0 {
		t.Errorf("%d bytes were read of a drop that is refused", read.n)
	}
	ok(t)(m.lockAtConsole(ctx, m.tamsin, "a.bin", 1))
	ok(t)(drop("a.bin", 1, "small"))
}

type counting struct {
	r io.Reader
	n int
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += n
	return n, err
}
