package transfer

import (
	"context"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/workspace/index"
)

// Supply brings those of the lacking chunks and manifest nodes that are in files with these chunks. A file that is not as it was any
// more has none of those.
func (w *Way) Supply(ctx context.Context, files map[string]index.Refs, lacking map[chunk.Digest]bool) (given int, size int64, err error) {
	var body []byte
	flush := func(least int) error {
		if len(body) <= least {
			return nil
		}
		err := w.Client.StoreRecords(ctx, w.Project, body)
		body = body[:0]
		return err
	}
	add := func(kind uint8, d chunk.Digest, data []byte) error {
		if !lacking[d] {
			return nil
		}
		delete(lacking, d)
		given, size = given+1, size+int64(len(data))
		body = pack.AppendEncoded(body, kind, d, data)
		return flush(BatchBytes)
	}
	for path, refs := range files {
		list := refs.List()
		for _, n := range manifest.Build(list) {
			if err := add(pack.Manifest, n.Digest, n.Data); err != nil {
				return given, size, err
			}
		}
		start := int64(0)
		for _, ref := range list {
			if lacking[ref.Digest] {
				if data, ok := w.readLocal(source{path, start}, ref); ok {
					if err := add(pack.Chunk, ref.Digest, data); err != nil {
						return given, size, err
					}
				}
			}
			start += int64(ref.Size)
		}
	}
	return given, size, flush(0)
}
