package chain

import (
	"errors"
	"reflect"
	"testing"

	"kettletarn/internal/core/canonical"
	"kettletarn/internal/core/chunk"
)

func sample() *Handoff {
	return &Handoff{Format: Format, Project: "brinelight", Number: 2, Branch: "main",
		Parents: []Parent{{Number: 1, Digest: chunk.Sum([]byte("first"))}},
		Root:    chunk.Sum([]byte("root")), Author: "tamsin", At: 1_700_000_000_000_001, Note: "Rust on the crane", Tasks: []string{"BRL-1"},
		Stage: "draft"}
}

func TestAHandoffComesBackAndItsDigestCoversEverything(t *testing.T) {
	data, digest := sample().Encode()
	back, err := Decode(data)
	if err != nil || !reflect.DeepEqual(back, sample()) || digest != chunk.Sum(data) {
		t.Fatalf("%+v comes back, %v", back, err)
	}
	// The vector stands in docs/formats.md too.
	if digest.String() != vector {
		t.Errorf("the digest is %s, want %s", digest, vector)
	}
	for name, change := range map[string]func(*Handoff){
		"project": func(h *Handoff) { h.Project = "other" }, "number": func(h *Handoff) { h.Number++ },
		"branch": func(h *Handoff) { h.Branch = "b" },
		"parent": func(h *Handoff) { h.Parents[0].Digest[0]++ }, "root": func(h *Handoff) { h.Root[0]++ },
		"author": func(h *Handoff) { h.Author = "rurik" },
		"time":   func(h *Handoff) { h.At++ }, "note": func(h *Handoff) { h.Note += "." }, "tasks": func(h *Handoff) { h.Tasks = nil },
		"stage":  func(h *Handoff) { h.Stage = "" },
		"commit": func(h *Handoff) { h.Commit = "c0ffee" }, "name": func(h *Handoff) { h.Signed = "Ada" },
	} {
		h := sample()
		change(h)
		if _, other := h.Encode(); other == digest {
			t.Errorf("the digest does not cover %s", name)
		}
	}
	for _, bad := range [][]byte{nil, []byte("x"), data[:20], make([]byte, chunk.Max+1)} {
		if _, err := Decode(bad); !errors.Is(err, ErrInvalid) {
			t.Errorf("%d bytes are taken: %v", len(bad), err)
		}
	}
}

// TestAHandoffWithTwoParents has a format of its own, so that who knows only one line does not take it for one.
func TestAHandoffWithTwoParents(t *testing.T) {
	h := sample()
	h.Format = Merged
	h.Parents = append(h.Parents, Parent{Number: 2, Digest: chunk.Sum([]byte("second"))})
	h.Number = 3
	data, digest := h.Encode()
	back, err := Decode(data)
	if err != nil || !reflect.DeepEqual(back, h) || data[1] != Merged {
		t.Fatalf("%+v comes back, %v", back, err)
	}
	if got := digest.String(); got != mergedVector {
		t.Errorf("the digest is %s", got)
	}
	h.Parents = append(h.Parents, Parent{Number: 1})
	data, _ = h.Encode()
	if _, err := Decode(data); !errors.Is(err, ErrInvalid) {
		t.Error("a handoff with three parents:", err)
	}
	h.Parents, h.Format = h.Parents[:1], Merged
	data = canonical.Encode(record{Format: Merged, Project: h.Project, Number: 3, Branch: "main", Parents: h.Parents, Author: "tamsin"})
	if _, err := Decode(data); !errors.Is(err, ErrInvalid) {
		t.Error("a merge with one parent:", err)
	}
}

const mergedVector = "910c59627843bbc3d7f1c1ba6376b8aff2574ef51e6e0e48e9ffc51425bd5d23" // docs/formats.md has it, too

func TestAHandoffThatStandsForACommitComesBack(t *testing.T) {
	for _, change := range []func(*Handoff){func(h *Handoff) { h.Commit = "5e2edf7a25eaddfa566d98b817a1da95a0a25329" },
		func(h *Handoff) { h.Commit, h.Signed = "c0ffee", "Ada Brine" }} {
		h := sample()
		change(h)
		h.Format = Brought
		data, _ := h.Encode()
		if back, err := Decode(data); err != nil || !reflect.DeepEqual(back, h) {
			t.Errorf("%+v comes back, %v", back, err)
		}
	}
}

func FuzzDecode(f *testing.F) {
	data, _ := sample().Encode()
	f.Add(data)
	brought := sample()
	brought.Commit, brought.Signed = "c0ffee", "Ada"
	data, _ = brought.Encode()
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		if h, err := Decode(data); err == nil {
			again, _ := h.Encode()
			if _, err := Decode(again); err != nil {
				t.Errorf("what was read can't be written: %v", err)
			}
		}
	})
}

// TestFormat2SaysSomething: a record of format 2 that names neither commit nor author is none: the same handoff would have two digests.
func TestFormat2SaysSomething(t *testing.T) {
	h := sample()
	h.Commit, h.Signed, h.Format = "", "", Brought
	h.Parents, h.Tasks = append([]Parent{}, h.Parents...), append([]string{}, h.Tasks...)
	if _, err := Decode(canonical.Encode(*h)); !errors.Is(err, ErrInvalid) {
		t.Errorf("%v", err)
	}
	h.Signed = "Ada"
	if _, err := Decode(canonical.Encode(*h)); err != nil {
		t.Errorf("%v", err)
	}
	h.Format = Format
	if _, err := Decode(canonical.Encode(*h)); !errors.Is(err, ErrInvalid) {
		t.Errorf("format 1 with an author of its own: %v", err)
	}
}
