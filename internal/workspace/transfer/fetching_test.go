package transfer

import (
	"fmt"
	"testing"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
)

// What a file's own version before has is found, however much the workspace has; of the rest, as much as it pays to look for.
func TestChunksOnThisDiskAreLookedForAsFarAsItPays(t *testing.T) {
	kept := index.In(t.TempDir(), "brinelight")
	if err := kept.Ready(); err != nil {
		t.Fatal(err)
	}
	w := &Way{Folder: &placing.Folder{Index: kept}}
	refs := func(from, n int) (list index.Refs) {
		for i := range n {
			list = list.Add(chunk.Ref{Digest: chunk.Sum([]byte(fmt.Sprint(from + i))), Size: 1000})
		}
		return list
	}
	if err := kept.Update(func(tx index.Tx) error {
		for path, r := range map[string]index.Refs{"a": refs(0, 10), "b": refs(1000, lookThrough+100), "y": refs(1_000_000, 10),
			"z": refs(2_000_000,
				10)} {
			if err := tx.SetBase(path, index.Base{Version: 1}, r); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	arrives := func(path string, numbers ...int) (f arriving) {
		f.Wanted = placing.Wanted{Asset: model.Asset{Path: path}, Place: path}
		for _, n := range numbers {
			f.refs = append(f.refs, chunk.Ref{Digest: chunk.Sum([]byte(fmt.Sprint(n))), Size: 1000})
		}
		return f
	}
	found, err := w.onDisk([]arriving{arrives("z", 2_000_003, 5, 1_000_001, 77_777_777)})
	if err != nil {
		t.Fatal(err)
	}
	for n, want := range map[int]source{2_000_003: {"z", 3000}, 5: {"a", 5000}, 1_000_001: {}, 77_777_777: {}} {
		if got := found[chunk.Sum([]byte(fmt.Sprint(n)))]; got != want {
			t.Errorf("%d is found at %+v, want %+v", n, got, want)
		}
	}
	// Where much lacks, more is looked through.
	large := arrives("new", 1_000_001)
	large.refs[0].Size = 1 << 20
	for i := range 40 {
		large.refs = append(large.refs, chunk.Ref{Digest: chunk.Sum([]byte(fmt.Sprint("far ", i))), Size: 1 << 20})
	}
	if found, err = w.onDisk([]arriving{large}); err != nil || found[large.refs[0].Digest] != (source{"y", 1000}) {
		t.Errorf("%+v, %v", found, err)
	}
}
