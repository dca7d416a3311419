package index

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"go.etcd.io/bbolt"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

func fresh(t *testing.T) *Index {
	t.Helper()
	x := In(t.TempDir(), "brinelight")
	if x.There() {
		t.Fatal("there is one before it was made")
	}
	if err := x.Ready(); err != nil || !x.There() {
		t.Fatal(err)
	}
	return x
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func refsOf(texts ...string) Refs {
	r := MakeRefs(len(texts))
	for _, text := range texts {
		r = r.Add(chunk.Ref{Digest: chunk.Sum([]byte(text)), Size: len(text)})
	}
	return r
}

func TestWhatIsKeptIsThereForTheNext(t *testing.T) {
	x := fresh(t)
	base := Base{Version: 7, Content: chunk.Sum([]byte("lamp")), Size: 1 << 40, Executable: true,
		Stamp: Stamp{Size: 1 << 40, Time: 1_764_000_000_000_000_001, Inode: 1 << 63, Looked: 1_764_000_000_000_000_002}}
	asset := model.Asset{Path: "levels/lamp.glb", Newest: 8, Size: 5, Content: chunk.Sum([]byte("lamp2")).String(), Author: "rurik",
		Note: "a brighter lamp"}
	at := time.Unix(1_764_000_000, 0).UTC()
	asset.At = &at
	held := model.Lock{Path: asset.Path, Holder: "imani", WorkspaceID: "6e9c1f0a-0000-4000-8000-000000000001"}
	asset.Lock, asset.Holder = &held, held.Holder
	heads := []model.HeadsUp{{Path: asset.Path, Handle: "tamsin"}}
	step := Step{Asset: model.Asset{Path: asset.Path, Version: 8}, Stamp: &base.Stamp, Was: &base.Content}
	must(t, x.Update(func(tx Tx) error {
		return errors.Join(tx.SetBase(asset.Path, base, refsOf("a", "bc")), tx.SetNewest(asset), tx.SetHeadsUps(asset.Path, heads),
			tx.SetMove("b.png", "a.png"), tx.AddStep(asset.Path, step), tx.SetTold("itself", []byte("here")), tx.SetReadOnly(true),
			tx.SetCut("c.png", Cut{Stamp: base.Stamp, Size: 3, Refs: refsOf("abc")}))
	}))
	again := In(x.folder, "brinelight")
	must(t, again.Ready())
	must(t, again.Look(func(tx Tx) error {
		got, had, err := tx.Base(asset.Path)
		must(t, err)
		if !had || got != base {
			t.Errorf("the base is %+v", got)
		}
		if list := tx.Refs(asset.Path).List(); len(list) != 2 || list[1] != (chunk.Ref{Digest: chunk.Sum([]byte("bc")), Size: 2}) {
			t.Errorf("its chunks are %v", list)
		}
		said, known, err := tx.Newest(asset.Path)
		must(t, err)
		if !known || said.Lock == nil || said.Lock.WorkspaceID != held.WorkspaceID || said.Holder != held.Holder ||
			!reflect.DeepEqual(said.HeadsUp, heads) || said.At == nil || !said.At.Equal(at) {
			t.Errorf("the service said %+v", said)
		}
		said.Lock, said.Holder, said.HeadsUp, said.At = nil, "", nil, nil
		want := model.Asset{Path: asset.Path, Newest: 8, Size: 5, Content: asset.Content, Author: "rurik", Note: "a brighter lamp"}
		if !reflect.DeepEqual(said, want) {
			t.Errorf("the service said %+v", said)
		}
		steps, err := tx.Journal()
		must(t, err)
		if !tx.InJournal() || !reflect.DeepEqual(steps, map[string]Step{asset.Path: step}) {
			t.Errorf("the journal has %+v", steps)
		}
		readOnly, err := tx.ReadOnly()
		must(t, err)
		cut, ok, err := tx.Cut("c.png")
		must(t, err)
		if tx.Moves()["b.png"] != "a.png" || string(tx.Told("itself")) != "here" || !readOnly || !ok || !bytes.Equal(cut.Refs, refsOf("abc")) {
			t.Error("something is lost")
		}
		return nil
	}))
	must(t, x.Update(func(tx Tx) error {
		return errors.Join(tx.EndJournal(), tx.ForgetCuts(), tx.ForgetMoves(), tx.ForgetHolders(), tx.SetTold("itself", nil),
			tx.DropBase(asset.Path))
	}))
	must(t, x.Look(func(tx Tx) error {
		_, had, err := tx.Base(asset.Path)
		must(t, err)
		said, _, err := tx.Newest(asset.Path)
		must(t, err)
		if had || tx.InJournal() || len(tx.Moves()) > 0 || said.Lock != nil || len(said.HeadsUp) > 0 || tx.Told("itself") != nil ||
			len(tx.Refs(asset.Path)) > 0 {
			t.Error("something is still there")
		}
		return nil
	}))
}

func TestEachGoesThroughHereAndThereInOrder(t *testing.T) {
	x := fresh(t)
	must(t, x.Update(func(tx Tx) error {
		for i, path := range []string{"b", "a/x", "c"} {
			must(t, tx.SetBase(path, Base{Version: i + 1}, nil))
		}
		for i, path := range []string{"a", "b", "d", "a/x/y"} {
			must(t, tx.SetNewest(model.Asset{Path: path, Newest: 10 + i}))
		}
		return nil
	}))
	var got []string
	must(t, x.Look(func(tx Tx) error {
		must(t, tx.Each(func(path string) bool { return path != "c" }, func(e *Entry) {
			what := e.Path
			if e.Had {
				what += " here"
			}
			if e.Known {
				what += " there"
			}
			if e.Path == "b" && (e.Base.Version != 1 || e.Theirs.Newest != 11) {
				t.Errorf("b is %+v", e)
			}
			got = append(got, what)
		}))
		for path, want := range map[string]bool{"a": true, "a/x": true, "a/x/y": true, "a/": false, "a/x/y/z": false, "e": false, "c": true} {
			if tx.Knows(path) != want {
				t.Errorf("%s: %v", path, !want)
			}
		}
		return nil
	}))
	if want := []string{"a there", "a/x here", "a/x/y there", "b here there", "d there"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
}

// TestAStampHolds only where the file was written before it was looked at by more than the clock can tell.
func TestAStampHolds(t *testing.T) {
	looked := Stamp{Size: 3, Time: 1000, Inode: 5, Looked: 1000 + int64(Resolution)}
	now := looked
	now.Looked++
	if looked.Fits(now) || !looked.Is(now) {
		t.Error("what was written within the clock's resolution of the look is trusted")
	}
	looked.Looked++
	if !looked.Fits(now) {
		t.Error("what was not touched is not trusted")
	}
	for _, other := range []Stamp{{Size: 4, Time: 1000, Inode: 5}, {Size: 3, Time: 1001, Inode: 5}, {Size: 3, Time: 1000, Inode: 6}} {
		if looked.Fits(other) {
			t.Errorf("%+v is taken for it", other)
		}
	}
}

func TestWritesAreCountedButForThoseOfAWatch(t *testing.T) {
	x := fresh(t)
	write := func() { must(t, x.Update(func(tx Tx) error { return tx.SetMove("b", "a") })) }
	n := x.Writes()
	write()
	x.Uncounted(true)
	write()
	if got := x.Writes(); got != n+1 {
		t.Errorf("%d writes became %d", n, got)
	}
	failed := errors.New("no")
	x.Uncounted(false)
	if err := x.Update(func(tx Tx) error { return errors.Join(tx.SetMove("c", "a"), failed) }); !errors.Is(err, failed) {
		t.Fatal(err)
	}
	must(t, x.Look(func(tx Tx) error {
		if tx.Moves()["c"] != "" {
			t.Error("a write that failed stayed")
		}
		return nil
	}))
	if got := x.Writes(); got != n+1 {
		t.Errorf("a write that failed is counted: %d", got)
	}
}

func TestAnIndexOfAnotherFormatOrDamagedIsRefused(t *testing.T) {
	x := fresh(t)
	must(t, x.open(false, func(db *bbolt.DB) error {
		return db.Update(func(tx *bbolt.Tx) error { return put(tx.Bucket(bucketMeta), "format", format+1) })
	}))
	var problem *model.Problem
	if err := x.Ready(); !errors.As(err, &problem) || !strings.Contains(problem.Remedy, "tarn join brinelight --here") {
		t.Errorf("%v", err)
	}
	y := fresh(t)
	must(t, y.open(false, func(db *bbolt.DB) error {
		return db.Update(func(tx *bbolt.Tx) error { return tx.Bucket(bucketBase).Put([]byte("a"), []byte("short")) })
	}))
	if err := y.Look(func(tx Tx) error { return tx.EachBase(func(string, Base) error { return nil }) }); !errors.Is(err, errDamaged) {
		t.Errorf("%v", err)
	}
	z := In(t.TempDir(), "brinelight")
	must(t, os.WriteFile(filepath.Join(z.folder, "index"), nil, 0o600))
	if z.There() {
		t.Error("one that was begun on a full disk counts")
	}
	must(t, z.Ready())
	must(t, os.WriteFile(filepath.Join(z.folder, "index"), bytes.Repeat([]byte("salt"), 4000), 0o600))
	if err := z.Ready(); err == nil || !strings.Contains(err.Error(), "join KEY --here") {
		t.Errorf("%v", err)
	}
}
