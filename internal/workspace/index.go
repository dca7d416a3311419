package workspace

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"github.com/fxamacker/cbor/v2"
	"go.etcd.io/bbolt"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// Base is the version of an asset that the workspace has, and how its file looked when it was the same.
type Base struct {
	Version    int
	Digest     chunk.Digest
	Size       int64
	Executable bool
	Stamp      Stamp
}

// Stamp is how a file looked when its content was last known. Looked is when that was: a file that was changed within the clock's
// resolution of it has to be read again.
type Stamp struct {
	Size   int64
	Time   int64 // nanoseconds of the Unix epoch
	Inode  uint64
	Looked int64
}

// resolution is how coarse a file system's clock may be, in nanoseconds.
const resolution = int64(20 * time.Millisecond)

// fits reports whether a file that looks like s2 now still has the content that it had when it looked like s.
func (s Stamp) fits(s2 Stamp) bool {
	return s.Size == s2.Size && s.Time == s2.Time && s.Inode == s2.Inode && s.Time+resolution < s.Looked
}

// Cut is a file's manifest with the stamp that it was made under, kept so that an interrupted send need not read the file again.
type Cut struct {
	Stamp    Stamp
	Manifest chunk.Manifest
}

// Pending is a send that was posted and whose answer is not known yet.
type Pending struct {
	Key   string
	Note  string
	Cuts  map[string]Stamp
	Send  model.SendRequest
	Since time.Time
}

// View is what the service last said, and when.
type View struct {
	At      int
	Fetched time.Time
}

// The buckets of the index: assets the workspace has; what the service last said of each asset; cuts of changed files; the rest.
var (
	bucketBase   = []byte("base")
	bucketNewest = []byte("newest")
	bucketCuts   = []byte("cuts")
	bucketMeta   = []byte("meta")
)

// indexTx is one transaction on the index.
type indexTx struct{ tx *bbolt.Tx }

// update and look open the index for one transaction only, so that a long command keeps nobody from looking.
func (w *Workspace) update(work func(indexTx) error) error {
	return w.index(func(db *bbolt.DB) error {
		return db.Update(func(tx *bbolt.Tx) error { return work(indexTx{tx}) })
	})
}

func (w *Workspace) look(work func(indexTx) error) error {
	return w.index(func(db *bbolt.DB) error {
		return db.View(func(tx *bbolt.Tx) error { return work(indexTx{tx}) })
	})
}

func (w *Workspace) index(work func(*bbolt.DB) error) error {
	name := filepath.Join(w.state, "index")
	db, err := bbolt.Open(name, 0o600, &bbolt.Options{Timeout: 10 * time.Second})
	if errors.Is(err, bbolt.ErrTimeout) {
		return model.NewProblem(model.Taken, "wait until it is done", "another tarn command is at work in this workspace")
	}
	if err != nil {
		return fmt.Errorf("the workspace's index %s can't be opened (%w); if it stays so, remove that file and run tarn join KEY --here", name, err)
	}
	defer db.Close()
	err = db.Update(func(tx *bbolt.Tx) error {
		if tx.Bucket(bucketMeta) != nil {
			return nil
		}
		for _, b := range [][]byte{bucketBase, bucketNewest, bucketCuts, bucketMeta} {
			if _, err := tx.CreateBucketIfNotExists(b); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return work(db)
}

func put(b *bbolt.Bucket, key string, v any) error {
	data, err := cbor.Marshal(v)
	if err != nil {
		return err
	}
	return b.Put([]byte(key), data)
}

func get[T any](b *bbolt.Bucket, key string) (v T, found bool, err error) {
	data := b.Get([]byte(key))
	if data == nil {
		return v, false, nil
	}
	return v, true, manifests.Unmarshal(data, &v)
}

var manifests = func() cbor.DecMode {
	m, err := cbor.DecOptions{MaxArrayElements: 1 << 22, MaxMapPairs: 1 << 22}.DecMode()
	if err != nil {
		panic(err)
	}
	return m
}()

func all[T any](b *bbolt.Bucket) (map[string]T, error) {
	out := map[string]T{}
	return out, b.ForEach(func(k, data []byte) error {
		var v T
		if err := manifests.Unmarshal(bytes.Clone(data), &v); err != nil {
			return err
		}
		out[string(k)] = v
		return nil
	})
}

func (t indexTx) bases() (map[string]Base, error) { return all[Base](t.tx.Bucket(bucketBase)) }
func (t indexTx) newest() (map[string]model.Asset, error) {
	return all[model.Asset](t.tx.Bucket(bucketNewest))
}
func (t indexTx) setBase(path string, b Base) error { return put(t.tx.Bucket(bucketBase), path, b) }
func (t indexTx) dropBase(path string) error        { return t.tx.Bucket(bucketBase).Delete([]byte(path)) }
func (t indexTx) setNewest(a model.Asset) error     { return put(t.tx.Bucket(bucketNewest), a.Path, a) }
func (t indexTx) cut(path string) (Cut, bool, error) {
	return get[Cut](t.tx.Bucket(bucketCuts), path)
}
func (t indexTx) setCut(path string, c Cut) error { return put(t.tx.Bucket(bucketCuts), path, c) }
func (t indexTx) dropCut(path string) error       { return t.tx.Bucket(bucketCuts).Delete([]byte(path)) }

func (t indexTx) view() (View, error) {
	v, _, err := get[View](t.tx.Bucket(bucketMeta), "view")
	return v, err
}
func (t indexTx) setView(v View) error { return put(t.tx.Bucket(bucketMeta), "view", v) }

func (t indexTx) pending() (Pending, bool, error) {
	return get[Pending](t.tx.Bucket(bucketMeta), "pending")
}
func (t indexTx) setPending(p Pending) error { return put(t.tx.Bucket(bucketMeta), "pending", p) }
func (t indexTx) dropPending() error         { return t.tx.Bucket(bucketMeta).Delete([]byte("pending")) }
