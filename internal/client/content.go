package client

import (
	"context"
	"fmt"
	"io"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
)

// MissingChunks asks which chunks the project lacks.
func (c *Client) MissingChunks(ctx context.Context, key string, digests []chunk.Digest) ([]chunk.Digest, error) {
	var v model.Digests
	err := c.post(ctx, in(key, "/chunks/missing"), model.Digests{Digests: digests}, &v)
	return v.Digests, err
}

// StoreRecords brings records, encoded one behind the other with package pack; when it returns nil they are durable.
func (c *Client) StoreRecords(ctx context.Context, key string, body ...[]byte) error {
	return c.json(ctx, request{method: "POST", path: in(key, "/chunks"), raw: body, rawType: model.CBORSequence}, nil)
}

// FetchChunks gets chunks and manifest nodes, and calls each with them in the order of digests, checked against those. The data is
// valid during the call. Where the connection breaks, it goes on where it was. Of what comes damaged the service is told: it looks whether
// that is so where it lies.
func (c *Client) FetchChunks(ctx context.Context, key string, digests []chunk.Digest, each func(i int, data []byte) error) error {
	done := 0
	pooled := buffers.Get().(*[]byte)
	defer buffers.Put(pooled)
	buf := *pooled
	ask := request{method: "POST", path: in(key, "/chunks/fetch"), body: model.Digests{Digests: digests},
		header: map[string]string{"Accept": model.RecordsAccepted}}
	return c.do(ctx, ask, func(r io.Reader) error {
		d := pack.NewReader(r)
		defer d.Free()
		for i := range digests {
			record, err := d.Next()
			if err != nil {
				return &brokenAnswer{err}
			}
			if i < done {
				continue
			}
			data, err := record.Decode(buf)
			if err != nil || record.Digest != digests[i] {
				return c.suspect(ctx, key, digests[i])
			}
			if err := each(i, data); err != nil {
				return err
			}
			done++
		}
		return nil
	})
}

// suspect tells the service of a chunk that did not arrive as what its name says, and returns what it is: damaged there, or only on its
// way.
func (c *Client) suspect(ctx context.Context, key string, d chunk.Digest) error {
	var v model.Digests
	if err := c.post(ctx, in(key, "/chunks/suspect"), model.Digests{Digests: []chunk.Digest{d}}, &v); err != nil {
		return err
	}
	if len(v.Digests) == 0 {
		return &brokenAnswer{fmt.Errorf("chunk %s arrived damaged", d)}
	}
	return model.NewProblem(model.Damaged, "a workspace that has the file can give it back: ask your team to run tarn heal",
		"the service can't read chunk %s back as it was stored", d)
}

// Wanted lists content that the service lost.
func (c *Client) Wanted(ctx context.Context, key string) ([]chunk.Digest, error) {
	var v model.Digests
	err := c.get(ctx, in(key, "/wanted"), nil, &v)
	return v.Digests, err
}
