package contents

import (
	"context"
	"errors"
	"fmt"
	"io"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lines"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/store"
)

// Bounds of one read from the store: bytes, and how far apart two records may lie in a pack to be read at once.
const (
	readBytes = 4 << 20
	readGap   = 4 << 10
)

// chunkReader reads chunks and manifest nodes of one project. All that it gives was checked against its digest, but for asStored; what
// can't be read back is set aside. Not safe for concurrent use.
type Reader struct {
	s       *Room
	project int64
	places  map[chunk.Digest]records.Place
	name    string
	open    store.Object
	// memory is nil before something was read.
	memory *memory
	// elsewhere says that stored has another stretch by now than the one that was read last for several.
	elsewhere bool
}

// Reader reads chunks of a project. Whoever asks closes it.
func (s *Room) Reader(project int64) *Reader {
	return &Reader{s: s, project: project, places: map[chunk.Digest]records.Place{}}
}

// memory is what a reader reads into: a stretch of a pack, and one chunk unpacked.
type memory struct{ stored, plain []byte }

// memories are those that are free: few and large, so that they are kept, and not given to the collector, which would clear them.
var memories = make(chan *memory, 8)

func (r *Reader) buffers() *memory {
	if r.memory == nil {
		select {
		case r.memory = <-memories:
		default:
			r.memory = &memory{stored: make([]byte, readBytes), plain: make([]byte, 0, chunk.Max)}
		}
	}
	return r.memory
}

// Close lets go of the packs that it has open. Nothing that it gave is valid any more.
func (r *Reader) Close() {
	r.closePack()
	if r.memory != nil {
		select {
		case memories <- r.memory:
		default:
		}
		r.memory = nil
	}
}

func (r *Reader) closePack() {
	if r.open != nil {
		_ = r.open.Close()
		r.open, r.name = nil, ""
	}
}

// maxPlaces is how many places a reader remembers.
const maxPlaces = 4 * MaxDigests

// locate finds out where chunks lie. It fails where one is missing, and names those.
func (r *Reader) locate(ctx context.Context, digests []chunk.Digest) error {
	if len(r.places) > maxPlaces {
		clear(r.places)
	}
	var ask []chunk.Digest
	for _, d := range digests {
		if _, known := r.places[d]; !known {
			ask = append(ask, d)
		}
	}
	for len(ask) > 0 {
		page := ask[:min(len(ask), MaxDigests)]
		ask = ask[len(page):]
		if err := r.s.Use(ctx, func(tx *records.Tx) error {
			found, err := tx.Places(ctx, r.project, page)
			for d, p := range found {
				r.places[d] = p
			}
			return err
		}); err != nil {
			return err
		}
	}
	var missing []chunk.Digest
	for _, d := range digests {
		if _, ok := r.places[d]; !ok {
			missing = append(missing, d)
		}
	}
	err := chunksMissing(missing)
	var problem *model.Problem
	if errors.As(err, &problem) {
		problem.Remedy = "a workspace that has the file can give it back: ask your team to run tarn heal"
	}
	return err
}

// chunksMissing is the problem of content that is not here, or nil where there is none.
func chunksMissing(missing []chunk.Digest) error {
	if len(missing) == 0 {
		return nil
	}
	p := model.NewProblem(model.ChunksMissing, "send them first",
		"the service does not have all the content that is named; the first chunk is %s", missing[0])
	for _, d := range missing[:min(len(missing), 1000)] {
		p.Missing = append(p.Missing, d.String())
	}
	return p
}

// records calls each with located chunks in the order of digests: the record as it is stored, and what it keeps, checked. Both are valid
// during the call.
func (r *Reader) records(ctx context.Context, digests []chunk.Digest, each func(pack.Record, []byte) error) error {
	return r.asStored(ctx, digests, func(record *pack.Record) error {
		plain, err := r.decode(record)
		if err != nil {
			plain, err = r.again(ctx, record)
		}
		if err != nil {
			return err
		}
		return each(*record, plain)
	})
}

// asStored calls each with located chunks in the order of digests, as they lie in the packs. Nothing is unpacked and nothing checked:
// whoever gets them does that. Neighbours in a pack are read at once.
func (r *Reader) asStored(ctx context.Context, digests []chunk.Digest, each func(*pack.Record) error) error {
	for len(digests) > 0 {
		first := r.places[digests[0]]
		n, end := 1, first.Offset+int64(first.Stored)
		for ; n < len(digests); n++ {
			next := r.places[digests[n]]
			if next.Pack != first.Pack || next.Offset < end || next.Offset > end+readGap || next.Offset+int64(next.Stored)-first.Offset > readBytes {
				break
			}
			end = next.Offset + int64(next.Stored)
		}
		run := digests[:n]
		digests = digests[n:]
		data, err := r.span(ctx, first.Pack, first.Offset, int(end-first.Offset))
		for i, d := range run {
			at := r.places[d]
			record := pack.Record{Kind: at.Kind, Digest: d, Codec: at.Codec, Size: at.Size}
			r.elsewhere = false
			if err == nil {
				record.Data = data[at.Offset-first.Offset:][:at.Stored]
			} else if _, err = r.again(ctx, &record); err != nil {
				return err
			}
			if failed := each(&record); failed != nil {
				return failed
			}
			if r.elsewhere && i+1 < len(run) {
				data, err = r.span(ctx, first.Pack, first.Offset, int(end-first.Offset))
			}
		}
	}
	return nil
}

func (r *Reader) decode(record *pack.Record) ([]byte, error) {
	return record.Decode(r.buffers().plain)
}

// span reads a stretch of a pack, of at most readBytes.
func (r *Reader) span(ctx context.Context, name string, at int64, n int) (_ []byte, err error) {
	if r.open == nil || r.name != name {
		r.closePack()
		if r.open, err = r.s.Store.Open(ctx, name); err != nil {
			r.open = nil
			return nil, err
		}
		r.name = name
	}
	into := r.buffers().stored
	if n > len(into) {
		into = make([]byte, n)
	}
	into = into[:n]
	got, err := r.open.ReadAt(into, at)
	if got == n {
		err = nil
	}
	return into, err
}

// again reads one chunk once more, alone, and where the database says now: packs are moved, and a neighbour's damage is not its own. Where
// it can't be read because of its bytes and not because of the store, it is set aside.
func (r *Reader) again(ctx context.Context, record *pack.Record) ([]byte, error) {
	r.elsewhere = true
	delete(r.places, record.Digest)
	r.closePack()
	if err := r.locate(ctx, []chunk.Digest{record.Digest}); err != nil {
		return nil, err
	}
	at := r.places[record.Digest]
	record.Codec, record.Size = at.Codec, at.Size
	data, err := r.span(ctx, at.Pack, at.Offset, at.Stored)
	if err == nil {
		record.Data = data
		var plain []byte
		if plain, err = r.decode(record); err == nil {
			return plain, nil
		}
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if !errors.Is(err, pack.ErrDamaged) && !errors.Is(err, store.ErrNotFound) && !errors.Is(err, io.EOF) &&
		!errors.Is(err, io.ErrUnexpectedEOF) {
		r.s.Log.Error("the store can't be read", "pack", at.Pack, "error", err)
		return nil, model.NewProblem(model.Unavailable, "try again in a moment; nothing was lost", "the service can't read its store right now")
	}
	delete(r.places, record.Digest)
	r.s.SetAside(ctx, r.project, at, err)
	return nil, model.NewProblem(model.Damaged, "a workspace that has the file can give it back: ask your team to run tarn heal",
		"the service can't read chunk %s back as it was stored", record.Digest)
}

// SetAside notes a damaged or missing chunk: from now on it counts as lacking.
func (s *Room) SetAside(ctx context.Context, project int64, at records.Place, cause error) {
	s.Log.Error("a chunk is damaged", "project", project, "chunk", at.Digest.String(), "pack", at.Pack, "at", at.Offset, "error", cause)
	if err := s.Write(ctx, func(tx *records.Tx) error {
		return tx.AddDamage(ctx, project, records.Damage{Digest: at.Digest, Pack: at.Pack, Start: at.Offset, Cause: cause.Error()})
	}); err != nil {
		s.Log.Error("the damage can't be noted", "error", err)
	}
}

// Load gives manifest nodes, as manifest.Load says.
func (r *Reader) Load(ctx context.Context, digests []chunk.Digest) ([][]byte, error) {
	if err := r.locate(ctx, digests); err != nil {
		return nil, err
	}
	out := make([][]byte, 0, len(digests))
	return out, r.records(ctx, digests, func(_ pack.Record, data []byte) error {
		out = append(out, append([]byte(nil), data...))
		return nil
	})
}

// Suspect looks at chunks that somebody could not read as they came, and returns those that are damaged here: they are set aside, and
// asked back from whoever has them.
func (s *Room) Suspect(ctx context.Context, actor ground.Actor, key string, digests []chunk.Digest) (damaged []chunk.Digest, err error) {
	if len(digests) > MaxSuspects {
		return nil, model.NewProblem(model.TooLarge, "", "name at most %d chunks at once", MaxSuspects)
	}
	var p records.Project
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		p, err = ground.Project(ctx, tx, actor, key, model.Viewer)
		return err
	}); err != nil {
		return nil, err
	}
	r := s.Reader(p.ID)
	defer r.Close()
	for _, d := range digests {
		one := []chunk.Digest{d}
		err := r.locate(ctx, one)
		if err == nil {
			err = r.records(ctx, one, func(pack.Record, []byte) error { return nil })
		}
		var problem *model.Problem
		switch {
		case errors.As(err, &problem) && (problem.Type == model.Damaged || problem.Type == model.ChunksMissing):
			damaged = append(damaged, d)
		case err != nil:
			return nil, err
		}
	}
	return damaged, nil
}

// MaxSuspects is how many chunks are looked at in one request.
const MaxSuspects = 100

// Content reads one content at any place. Not safe for concurrent use; Close it.
type Content struct {
	ctx    context.Context
	r      *Reader
	row    records.Content
	pos    int64
	page   []chunk.Ref
	starts []int64
	data   []byte
	dataAt int64
}

// OpenRow opens a content. Nothing is read before it is asked for.
func (s *Room) OpenRow(ctx context.Context, row records.Content) *Content {
	return contentOf(ctx, s.Reader(row.Project), row)
}

// contentOf is OpenRow with a reader that somebody else closes.
func contentOf(ctx context.Context, r *Reader, row records.Content) *Content {
	return &Content{ctx: ctx, r: r, row: row, dataAt: -1}
}

// Size is in bytes.
func (c *Content) Size() int64 { return c.row.Size }

// Close frees what is open.
func (c *Content) Close() { c.r.Close() }

// Seek sets where the next Read starts, as io.Seeker says.
func (c *Content) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += c.pos
	case io.SeekEnd:
		offset += c.row.Size
	}
	if offset < 0 {
		return 0, errors.New("seek before the start")
	}
	c.pos = offset
	return offset, nil
}

// Read reads at most to the end of the chunk that it is in.
func (c *Content) Read(p []byte) (int, error) {
	if c.pos >= c.row.Size {
		return 0, io.EOF
	}
	if c.dataAt < 0 || c.pos < c.dataAt || c.pos >= c.dataAt+int64(len(c.data)) {
		if err := c.fill(); err != nil {
			return 0, err
		}
	}
	n := copy(p, c.data[c.pos-c.dataAt:])
	c.pos += int64(n)
	return n, nil
}

// pageChunks is how many chunks a Content knows the places of at once.
const pageChunks = 256

// ErrPageFull ends a walk that has enough.
var ErrPageFull = errors.New("enough for now")

func (c *Content) fill() error {
	for retry := false; ; retry = true {
		for i, start := range c.starts {
			if c.pos >= start && c.pos < start+int64(c.page[i].Size) {
				return c.r.records(c.ctx, []chunk.Digest{c.page[i].Digest}, func(_ pack.Record, data []byte) error {
					c.data, c.dataAt = data, start
					return nil
				})
			}
		}
		if retry {
			return fmt.Errorf("content %s has no chunk at %d", c.row.Digest, c.pos)
		}
		c.page, c.starts = c.page[:0], c.starts[:0]
		digests := make([]chunk.Digest, 0, pageChunks)
		err := manifest.Walk(c.ctx, c.r.Load, c.row.Digest, c.pos, nil, func(start int64, ref chunk.Ref) error {
			if len(c.page) == pageChunks {
				return ErrPageFull
			}
			c.page, c.starts, digests = append(c.page, ref), append(c.starts, start), append(digests, ref.Digest)
			return nil
		})
		if err != nil && err != ErrPageFull {
			return err
		}
		if err := c.r.locate(c.ctx, digests); err != nil {
			return err
		}
	}
}

// OpenDigest opens the content with a digest (64 hex digits), where the project knows it.
func (s *Room) OpenDigest(ctx context.Context, p records.Project, content string) (*Content, error) {
	digest, err := chunk.ParseDigest(content)
	if err != nil {
		return nil, err
	}
	var row records.Content
	if err := s.Use(ctx, func(tx *records.Tx) error {
		known, err := tx.Contents(ctx, p.ID, []chunk.Digest{digest}, false)
		row = known[digest]
		return err
	}); err != nil {
		return nil, err
	}
	if row.Digest != digest {
		return nil, model.NewProblem(model.NotFound, "", "the content %s is not known", digest)
	}
	return s.OpenRow(ctx, row), nil
}

// VersionOf finds a version that is not gone; number 0 is the newest, or the one that is shown to somebody outside. It looks at that
// version alone, however many there are.
func (s *Room) VersionOf(ctx context.Context, actor ground.Actor, key, path string,
	number int) (p records.Project, v model.Version, err error) {
	if actor.Outside != nil {
		return s.versionOutside(ctx, actor.Outside, path, number)
	}
	err = s.AtHead(ctx, actor, key, func(tx *records.Tx, in records.Project, branch records.Branch) (err error) {
		p = in
		v, err = tx.Version(ctx, p.ID, branch.Head, assetpath.Fold(path), number)
		return err
	})
	switch {
	case errors.Is(err, records.ErrNotFound) && number == 0:
		return p, v, model.NewProblem(model.NotFound, "check the spelling", "there is no asset %s in %s", ground.Printable(path), key)
	case errors.Is(err, records.ErrNotFound):
		return p, v, model.NewProblem(model.NotFound, "see its history", "%s has no version %d", ground.Printable(path), number)
	case err == nil && v.Gone:
		return p, v, model.NewProblem(model.NotFound, "choose another version", "%s was removed in version %d", ground.Printable(path), v.Version)
	}
	return p, v, err
}

// versionOutside finds a version for somebody outside, who is told nothing of what is not shown.
func (s *Room) versionOutside(ctx context.Context, o *ground.Outside, path string, number int) (records.Project, model.Version, error) {
	var v model.Version
	handoff, ok := o.Handoff(path, number)
	err := records.ErrNotFound
	if ok {
		err = s.Use(ctx, func(tx *records.Tx) (err error) {
			v, err = tx.Version(ctx, o.Project.ID, handoff, assetpath.Fold(path), 0)
			return err
		})
	}
	if errors.Is(err, records.ErrNotFound) || err == nil && (v.Gone || number != 0 && v.Version != number) {
		err = model.NewProblem(model.NotFound, "go back to what this link shows", "this link does not show %s", ground.Printable(path))
	}
	return o.Project, o.Told(v), err
}

// TextOf reads a version as text. Its error is that of package lines where it is none.
func (s *Room) TextOf(ctx context.Context, p records.Project, v model.Version) ([]string, error) {
	if v.Size > lines.MaxSize {
		return nil, lines.ErrTooLarge
	}
	content, err := s.OpenDigest(ctx, p, v.Content)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	data, err := io.ReadAll(content)
	if err != nil {
		return nil, err
	}
	return lines.Decode(data)
}
