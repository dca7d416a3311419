package api

import (
	"bytes"
	"encoding/hex"
	"errors"
	"io"
	"testing"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
)

// The example stands in docs/protocol.md.
func TestTheExampleOfTheProtocol(t *testing.T) {
	const example = "85005820722e00723fa81ce64a4c10b12720107397e6e5f3a03913831715d02d9e541cf9001a000000045a0000000473616c74"
	got := pack.AppendEncoded(nil, pack.Chunk, chunk.Sum([]byte("salt")), []byte("salt"))
	if hex.EncodeToString(got) != example {
		t.Errorf("%x", got)
	}
}

func FuzzIncoming(f *testing.F) {
	f.Add(pack.AppendEncoded(nil, pack.Chunk, chunk.Sum([]byte("salt")), []byte("salt")))
	f.Fuzz(func(t *testing.T, body []byte) {
		for next := incoming(pack.NewReader(bytes.NewReader(body))); ; {
			_, err := next()
			if err == io.EOF {
				return
			}
			var problem *model.Problem
			if err != nil {
				if !errors.As(err, &problem) {
					t.Errorf("not a problem: %v", err)
				}
				return
			}
		}
	})
}
