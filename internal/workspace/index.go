package workspace

import (
	"bytes"
	"encoding/binary"
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
	Content    chunk.Digest
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

// Cut is what a file was cut into, with the stamp that it was made under, kept so that an interrupted send need not read the file
// again. Content is the root of its manifest.
type Cut struct {
	Stamp   Stamp
	Content chunk.Digest
	Size    int64
	Refs    Refs
}

// Refs are the chunks of a content, packed: digest (32 bytes) and size (4 bytes, big endian) of each.
type Refs []byte

const refSize = 32 + 4

func (r Refs) add(ref chunk.Ref) Refs {
	return binary.BigEndian.AppendUint32(append(r, ref.Digest[:]...), uint32(ref.Size))
}

// orNone is r, never nil: an empty content has no chunks, and that is worth keeping.
func (r Refs) orNone() Refs {
	if r == nil {
		return Refs{}
	}
	return r
}

func (r Refs) list() []chunk.Ref {
	out := make([]chunk.Ref, 0, len(r)/refSize)
	for ; len(r) >= refSize; r = r[refSize:] {
		out = append(out, chunk.Ref{Digest: chunk.Digest(r[:32]), Size: int(binary.BigEndian.Uint32(r[32:refSize]))})
	}
	return out
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

// The buckets of the index: assets the workspace has, and their chunks; what the service last said of each asset; cuts of changed
// files; the rest.
var (
	bucketBase   = []byte("base")
	bucketRefs   = []byte("refs")
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
		for _, b := range [][]byte{bucketBase, bucketRefs, bucketNewest, bucketCuts, bucketMeta} {
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

// setBase keeps a base; refs are its chunks, nil where they stay as they are.
func (t indexTx) setBase(path string, b Base, refs Refs) error {
	if refs != nil {
		if err := t.tx.Bucket(bucketRefs).Put([]byte(path), refs); err != nil {
			return err
		}
	}
	return put(t.tx.Bucket(bucketBase), path, b)
}

func (t indexTx) dropBase(path string) error {
	if err := t.tx.Bucket(bucketRefs).Delete([]byte(path)); err != nil {
		return err
	}
	return t.tx.Bucket(bucketBase).Delete([]byte(path))
}

// refs are the chunks of the base of a path.
func (t indexTx) refs(path string) Refs {
	return bytes.Clone(t.tx.Bucket(bucketRefs).Get([]byte(path)))
}

// eachRef calls each with every chunk of every base.
func (t indexTx) eachRef(each func(path string, start int64, digest chunk.Digest, size int)) error {
	return t.tx.Bucket(bucketRefs).ForEach(func(path, refs []byte) error {
		start := int64(0)
		for r := Refs(refs); len(r) >= refSize; r = r[refSize:] {
			size := int(binary.BigEndian.Uint32(r[32:refSize]))
			each(string(path), start, chunk.Digest(r[:32]), size)
			start += int64(size)
		}
		return nil
	})
}

func (t indexTx) setNewest(a model.Asset) error { return put(t.tx.Bucket(bucketNewest), a.Path, a) }
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
