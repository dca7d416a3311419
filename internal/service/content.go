package service

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/zeebo/blake3"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/records"
	"kettletarn/internal/store"
)

// Bounds of one request about content.
const (
	MaxDigests   = 8192
	MaxManifests = 1024
)

// MissingChunks tells which chunks the project lacks.
func (s *Service) MissingChunks(ctx context.Context, actor Actor, key string, digests []chunk.Digest) (missing []chunk.Digest, err error) {
	if len(digests) > MaxDigests {
		return nil, model.NewProblem(model.TooLarge, "", "ask about at most %d chunks at once", MaxDigests)
	}
	err = s.read(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		missing, err = lacking(ctx, tx, p.ID, digests)
		return err
	})
	return missing, err
}

func lacking(ctx context.Context, tx *records.Tx, project int64, digests []chunk.Digest) ([]chunk.Digest, error) {
	places, err := tx.Places(ctx, project, digests)
	missing := []chunk.Digest{}
	seen := map[chunk.Digest]bool{}
	for _, d := range digests {
		if _, there := places[d]; !there && !seen[d] {
			seen[d] = true
			missing = append(missing, d)
		}
	}
	return missing, err
}

// StoreChunks checks what next gives, until io.EOF, and keeps it in one pack. When it returns nil, everything is durable; when it
// fails, nothing of it is kept.
func (s *Service) StoreChunks(ctx context.Context, actor Actor, key string, next func() (pack.Record, error)) (count int, err error) {
	var p records.Project
	if err = s.read(ctx, func(tx *records.Tx) (err error) {
		p, err = project(ctx, tx, actor, key, model.Artist)
		return err
	}); err != nil {
		return 0, err
	}
	return s.storePack(ctx, p, next)
}

func (s *Service) storePack(ctx context.Context, p records.Project, next func() (pack.Record, error)) (int, error) {
	first, err := next()
	if err == io.EOF {
		return 0, nil
	}
	var entries []pack.Entry
	var size int64
	name := fmt.Sprintf("p%d/%s.pack", p.ID, newID())
	err = s.explain(s.store.Put(ctx, name, func(w io.Writer) error {
		packed := pack.NewWriter(w)
		buf := make([]byte, 0, chunk.Max)
		for record, err := first, err; err != io.EOF; record, err = next() {
			if err != nil {
				return err
			}
			if _, err := record.Decode(buf); err != nil {
				return model.NewProblem(model.DigestMismatch, "send it again; if it happens again, check the memory and the disk of the machine that sends", "%s", err.Error())
			}
			if err := packed.Add(record); err != nil {
				return err
			}
		}
		entries, err = packed.Close()
		size = packed.Size()
		return err
	}))
	if err != nil {
		return 0, err
	}
	err = s.write(ctx, func(tx *records.Tx) error { return tx.AddPack(ctx, p.ID, name, size, entries) })
	if err != nil && !errors.Is(err, unavailable) {
		_ = s.store.Remove(context.WithoutCancel(ctx), name)
	}
	return len(entries), err
}

// DeclareContents makes contents known whose chunks are there. Each is read back and hashed: a content is never kept under a
// digest that it does not have. A content that is known already is passed over.
func (s *Service) DeclareContents(ctx context.Context, actor Actor, key string, manifests []chunk.Manifest) error {
	if len(manifests) > MaxManifests {
		return model.NewProblem(model.TooLarge, "", "declare at most %d contents at once", MaxManifests)
	}
	var p records.Project
	digests := make([]chunk.Digest, len(manifests))
	for i := range manifests {
		if err := manifests[i].Check(); err != nil {
			return model.NewProblem(model.BadRequest, "", "the manifest of %s is not one: %v", manifests[i].Digest, err)
		}
		digests[i] = manifests[i].Digest
	}
	var known map[chunk.Digest]records.Content
	if err := s.read(ctx, func(tx *records.Tx) (err error) {
		if p, err = project(ctx, tx, actor, key, model.Artist); err != nil {
			return err
		}
		known, err = tx.Contents(ctx, p.ID, digests)
		return err
	}); err != nil {
		return err
	}
	for len(manifests) > 0 {
		var group []*chunk.Manifest
		for chunks := 0; len(manifests) > 0 && (len(group) == 0 || chunks+len(manifests[0].Chunks) <= MaxDigests); manifests = manifests[1:] {
			if _, there := known[manifests[0].Digest]; !there {
				group = append(group, &manifests[0])
				chunks += len(manifests[0].Chunks)
			}
		}
		if err := s.seal(ctx, p, group); err != nil {
			return err
		}
		if err := s.write(ctx, func(tx *records.Tx) error { return tx.AddContents(ctx, p.ID, group) }); err != nil {
			return err
		}
	}
	return nil
}

// seal reads the chunks of contents and checks that they make up what is claimed. Where the chunks of all lie is asked at once,
// unless one content alone has too many.
func (s *Service) seal(ctx context.Context, p records.Project, group []*chunk.Manifest) error {
	r := s.chunkReader(p.ID)
	defer r.close()
	if len(group) > 1 {
		var refs []chunk.Ref
		for _, m := range group {
			refs = append(refs, m.Chunks...)
		}
		if err := r.locate(ctx, refs); err != nil {
			return err
		}
	}
	for _, m := range group {
		if err := s.sealOne(ctx, r, m, len(group) > 1); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) sealOne(ctx context.Context, r *chunkReader, m *chunk.Manifest, located bool) error {
	whole := blake3.New()
	// A content of one chunk has that chunk's digest, which was checked when it came; what remains is that it is there.
	hash := len(m.Chunks) != 1
	for rest := m.Chunks; len(rest) > 0; {
		page := rest[:min(len(rest), 1024)]
		rest = rest[len(page):]
		if !located {
			if err := r.locate(ctx, page); err != nil {
				return err
			}
		}
		for _, ref := range page {
			if r.places[ref.Digest].Size != ref.Size {
				return mismatch(m)
			}
			if !hash {
				continue
			}
			data, err := r.read(ctx, ref.Digest)
			if err != nil {
				return err
			}
			_, _ = whole.Write(data)
		}
	}
	var sum chunk.Digest
	whole.Sum(sum[:0])
	if hash && sum != m.Digest || !hash && m.Chunks[0].Digest != m.Digest {
		return mismatch(m)
	}
	return nil
}

func mismatch(m *chunk.Manifest) error {
	return model.NewProblem(model.DigestMismatch, "read the file again and send it again", "the chunks named for %s do not make up a content with that digest", m.Digest)
}

// chunkReader reads chunks of one project. Not safe for concurrent use.
type chunkReader struct {
	s       *Service
	project int64
	places  map[chunk.Digest]records.Place
	name    string
	open    store.Object
	stored  []byte
	buf     []byte
}

func (s *Service) chunkReader(project int64) *chunkReader {
	return &chunkReader{s: s, project: project}
}

func (r *chunkReader) close() {
	if r.open != nil {
		_ = r.open.Close()
	}
}

// locate finds out where chunks lie. It fails where one is missing.
func (r *chunkReader) locate(ctx context.Context, refs []chunk.Ref) error {
	digests := make([]chunk.Digest, len(refs))
	for i, ref := range refs {
		digests[i] = ref.Digest
	}
	if err := r.s.read(ctx, func(tx *records.Tx) (err error) {
		r.places, err = tx.Places(ctx, r.project, digests)
		return err
	}); err != nil {
		return err
	}
	for _, d := range digests {
		if _, ok := r.places[d]; !ok {
			return model.NewProblem(model.ChunksMissing, "send them first", "the service does not have all the chunks that are named; the first is %s", d)
		}
	}
	return nil
}

// record reads a located chunk as it is stored, checked against its digest. It is valid until the next call, as is data.
func (r *chunkReader) record(ctx context.Context, d chunk.Digest) (record pack.Record, data []byte, err error) {
	at := r.places[d]
	if r.open == nil || r.name != at.Pack {
		r.close()
		if r.open, err = r.s.store.Open(ctx, at.Pack); err != nil {
			r.open = nil
			return record, nil, r.damaged(d, err)
		}
		r.name = at.Pack
	}
	if cap(r.stored) < at.Stored {
		r.stored = make([]byte, chunk.Max)
	}
	record = pack.Record{Digest: d, Codec: at.Codec, Size: at.Size, Data: r.stored[:at.Stored]}
	if _, err := r.open.ReadAt(record.Data, at.Offset); err != nil {
		return record, nil, r.damaged(d, err)
	}
	if r.buf == nil {
		r.buf = make([]byte, 0, chunk.Max)
	}
	if data, err = record.Decode(r.buf); err != nil {
		return record, nil, r.damaged(d, err)
	}
	return record, data, nil
}

func (r *chunkReader) read(ctx context.Context, d chunk.Digest) ([]byte, error) {
	_, data, err := r.record(ctx, d)
	return data, err
}

func (r *chunkReader) damaged(d chunk.Digest, err error) error {
	r.s.log.Error("a chunk can't be read", "chunk", d.String(), "pack", r.name, "error", err)
	return model.NewProblem(model.Damaged, "tell whoever runs the service", "the service can't read chunk %s back as it was stored", d)
}

// FetchChunks calls each with the asked-for chunks, in that order. A record is valid during the call only.
func (s *Service) FetchChunks(ctx context.Context, actor Actor, key string, digests []chunk.Digest, each func(pack.Record) error) error {
	if len(digests) > MaxDigests {
		return model.NewProblem(model.TooLarge, "", "ask for at most %d chunks at once", MaxDigests)
	}
	var p records.Project
	if err := s.read(ctx, func(tx *records.Tx) (err error) {
		p, err = project(ctx, tx, actor, key, model.Viewer)
		return err
	}); err != nil {
		return err
	}
	r := s.chunkReader(p.ID)
	defer r.close()
	refs := make([]chunk.Ref, len(digests))
	for i, d := range digests {
		refs[i].Digest = d
	}
	if err := r.locate(ctx, refs); err != nil {
		return err
	}
	for _, d := range digests {
		record, _, err := r.record(ctx, d)
		if err != nil {
			return err
		}
		if err := each(record); err != nil {
			return err
		}
	}
	return nil
}

// Manifests returns the manifests of contents, in the order asked for.
func (s *Service) Manifests(ctx context.Context, actor Actor, key string, digests []chunk.Digest) ([]chunk.Manifest, error) {
	if len(digests) > MaxManifests {
		return nil, model.NewProblem(model.TooLarge, "", "ask for at most %d contents at once", MaxManifests)
	}
	out := make([]chunk.Manifest, len(digests))
	err := s.read(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		known, err := tx.Contents(ctx, p.ID, digests)
		if err != nil {
			return err
		}
		for i, d := range digests {
			c, ok := known[d]
			if !ok {
				return model.NewProblem(model.NotFound, "", "the project has no content %s", d)
			}
			out[i] = chunk.Manifest{Digest: d, Size: c.Size, Chunks: []chunk.Ref{}}
			if c.Size > 0 {
				if out[i].Chunks, _, err = tx.ChunksOf(ctx, c.ID, 0, 1<<30); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return out, err
}

// Content reads one content at any place. Not safe for concurrent use; Close it.
type Content struct {
	ctx    context.Context
	r      *chunkReader
	row    records.Content
	pos    int64
	page   []chunk.Ref
	starts []int64
	data   []byte
	dataAt int64
}

func (s *Service) openContent(ctx context.Context, project int64, row records.Content) *Content {
	return &Content{ctx: ctx, r: s.chunkReader(project), row: row, dataAt: -1}
}

// Size is in bytes.
func (c *Content) Size() int64 { return c.row.Size }

// Close frees what is open.
func (c *Content) Close() { c.r.close() }

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
		if err := c.load(); err != nil {
			return 0, err
		}
	}
	n := copy(p, c.data[c.pos-c.dataAt:])
	c.pos += int64(n)
	return n, nil
}

func (c *Content) load() error {
	for retry := false; ; retry = true {
		for i, start := range c.starts {
			if c.pos >= start && c.pos < start+int64(c.page[i].Size) {
				data, err := c.r.read(c.ctx, c.page[i].Digest)
				c.data, c.dataAt = data, start
				return err
			}
		}
		if retry {
			return fmt.Errorf("content %s has no chunk at %d", c.row.Digest, c.pos)
		}
		var start int64
		if err := c.r.s.read(c.ctx, func(tx *records.Tx) (err error) {
			c.page, start, err = tx.ChunksOf(c.ctx, c.row.ID, c.pos, 256)
			return err
		}); err != nil {
			return err
		}
		c.starts = c.starts[:0]
		for _, ref := range c.page {
			c.starts = append(c.starts, start)
			start += int64(ref.Size)
		}
		if err := c.r.locate(c.ctx, c.page); err != nil {
			return err
		}
	}
}

// ingestBatch is how much of a dropped file is held in memory at once, in bytes.
const ingestBatch = 8 << 20

// ingest cuts and keeps all that body gives, for senders that can't cut: a page. It returns the content's digest and size.
func (s *Service) ingest(ctx context.Context, p records.Project, body io.Reader) (*chunk.Manifest, error) {
	var batch []pack.Record
	held := 0
	flush := func() error {
		digests := make([]chunk.Digest, len(batch))
		for i := range batch {
			digests[i] = batch[i].Digest
		}
		var missing []chunk.Digest
		if err := s.read(ctx, func(tx *records.Tx) (err error) {
			missing, err = lacking(ctx, tx, p.ID, digests)
			return err
		}); err != nil {
			return err
		}
		wanted := map[chunk.Digest]bool{}
		for _, d := range missing {
			wanted[d] = true
		}
		_, err := s.storePack(ctx, p, func() (pack.Record, error) {
			for len(batch) > 0 {
				r := batch[0]
				batch = batch[1:]
				if wanted[r.Digest] {
					delete(wanted, r.Digest)
					return r, nil
				}
			}
			return pack.Record{}, io.EOF
		})
		batch, held = nil, 0
		return err
	}
	m, err := chunk.NewCutter(body).Manifest(body, func(ref chunk.Ref, data []byte) error {
		r := pack.Encode(ref.Digest, data)
		r.Data = append([]byte(nil), r.Data...)
		batch = append(batch, r)
		if held += len(r.Data); held < ingestBatch {
			return nil
		}
		return flush()
	})
	if err != nil {
		return nil, err
	}
	if err := flush(); err != nil {
		return nil, err
	}
	return m, s.write(ctx, func(tx *records.Tx) error { return tx.AddContents(ctx, p.ID, []*chunk.Manifest{m}) })
}
