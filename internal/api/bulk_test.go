package api

import (
	"bytes"
	"encoding/hex"
	"errors"
	"io"
	"net/http/httptest"
	"testing"

	"github.com/fxamacker/cbor/v2"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
)

// The example stands in docs/protocol.md.
func TestTheExampleOfTheProtocol(t *testing.T) {
	const example = "845820722e00723fa81ce64a4c10b12720107397e6e5f3a03913831715d02d9e541cf900044473616c74"
	got, err := cbor.Marshal(pack.Encode(chunk.Sum([]byte("salt")), []byte("salt")))
	if err != nil || hex.EncodeToString(got) != example {
		t.Errorf("%x, %v", got, err)
	}
}

// drain reads a whole sequence as one kind of item.
func drain[T any](body []byte, each func(T)) error {
	r := httptest.NewRequest("POST", "/", bytes.NewReader(body))
	next := sequence(httptest.NewRecorder(), r, maxUpload)
	for {
		var v T
		err := next(&v)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		each(v)
	}
}

func FuzzSequence(f *testing.F) {
	record, _ := cbor.Marshal(pack.Encode(chunk.Sum([]byte("salt")), []byte("salt")))
	manifest, _ := cbor.Marshal(chunk.Manifest{Digest: chunk.Sum([]byte("salt")), Size: 4, Chunks: []chunk.Ref{{Digest: chunk.Sum([]byte("salt")), Size: 4}}})
	f.Add(record)
	f.Add(manifest)
	f.Add(append(record, manifest...))
	f.Fuzz(func(t *testing.T, body []byte) {
		wrong := func(err error) {
			var problem *model.Problem
			if err != nil && !errors.As(err, &problem) {
				t.Errorf("not a problem: %v", err)
			}
		}
		wrong(drain(body, func(r pack.Record) { _, _ = r.Decode(nil) }))
		wrong(drain(body, func(m chunk.Manifest) { _ = m.Check() }))
	})
}
