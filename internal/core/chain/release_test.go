package chain

import (
	"errors"
	"reflect"
	"testing"

	"kettletarn/internal/core/chunk"
)

func TestReleasesComeBack(t *testing.T) {
	r := Release{Project: "brinelight", Kit: "lamp-parts", Number: 3, Handoff: Parent{Number: 40, Digest: chunk.Sum([]byte("first"))},
		Match: []string{"models/lamp*", "textures/brass*"}, Note: "Worn, and lit", Person: "odile", At: 1772442000000000}
	data, digest := r.Encode()
	got, err := DecodeRelease(data)
	r.Format = ReleaseFormat
	if err != nil || !reflect.DeepEqual(*got, r) {
		t.Fatalf("%+v, %v", got, err)
	}
	const sum = "e0c22d02b8787c3ce0e04efb27f498cde0bd0a023243719455438b230cc12a9e" // docs/formats.md has it, too
	if digest.String() != sum {
		t.Errorf("it is %s", digest)
	}
	for i, spoil := range []func(*Release){func(r *Release) { r.Kit = "" }, func(r *Release) { r.Number = 0 },
		func(r *Release) { r.Match = nil },
		func(r *Release) { r.Project = "" }, func(r *Release) { r.Handoff.Number = 0 }} {
		bad := r
		spoil(&bad)
		data, _ := bad.Encode()
		if _, err := DecodeRelease(data); !errors.Is(err, ErrInvalid) {
			t.Errorf("%d: %v", i, err)
		}
	}
}

func FuzzDecodeRelease(f *testing.F) {
	r := Release{Project: "p", Kit: "n", Number: 1, Handoff: Parent{Number: 1}, Match: []string{"a"}}
	data, _ := r.Encode()
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := DecodeRelease(data)
		if err != nil {
			return
		}
		again, _ := r.Encode()
		if string(again) != string(data) {
			t.Errorf("%x is written as %x", data, again)
		}
	})
}
