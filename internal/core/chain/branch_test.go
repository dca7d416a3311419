package chain

import (
	"encoding/hex"
	"errors"
	"testing"
)

func TestBranchesComeBack(t *testing.T) {
	b := Branch{Project: "brinelight", Name: "second-chapter", From: "main", At: 12, State: 2, Why: "the drowned bell", Person: "tamsin",
		Made: 1772442000000000, Turn: 3}
	data, digest := b.Encode()
	got, err := DecodeBranch(data)
	b.Format = BranchFormat
	if err != nil || *got != b {
		t.Fatalf("%+v, %v", got, err)
	}
	const want, sum = "8a016a6272696e656c696768746e7365636f6e642d63686170746572646d61696e0c02707468652064726f776e65642062656c6c" +
		"6674616d73696e1b00064c06cfcb840003",
		"9320f605463e84422d2c8a63562d3fe202dcdec08d6e0f8aefcb3f871a9c0bc7" // docs/formats.md has them, too
	if hex.EncodeToString(data) != want || digest.String() != sum {
		t.Errorf("it is %x, %s", data, digest)
	}
	for _, bad := range []Branch{{}, {Project: "p", Name: "n", From: "main", At: 1, State: 3, Turn: 1}, {Project: "p", Name: "n", At: 1,
		Turn: 1}} {
		data, _ := bad.Encode()
		if _, err := DecodeBranch(data); !errors.Is(err, ErrInvalid) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if _, err := DecodeBranch([]byte{0x80}); !errors.Is(err, ErrInvalid) {
		t.Error(err)
	}
}

func FuzzDecodeBranch(f *testing.F) {
	b := Branch{Project: "p", Name: "n", From: "main", At: 1, Turn: 1}
	data, _ := b.Encode()
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		b, err := DecodeBranch(data)
		if err != nil {
			return
		}
		again, _ := b.Encode()
		if string(again) != string(data) {
			t.Errorf("%x is written as %x", data, again)
		}
	})
}
