package workspace

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/adrg/xdg"
	"github.com/fxamacker/cbor/v2"
	"go.etcd.io/bbolt"
	bbolterrors "go.etcd.io/bbolt/errors"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/scope"
)

// Base is the version of an asset that the workspace has, and how its file looked when it was the same.
type Base struct {
	Version    int
	Content    chunk.Digest
	Size       int64
	Executable bool
	Stamp      Stamp
}

// Stamp is how a file looked when its content was last known. Looked is when that was, or a little before: a file that was changed
// within the clock's resolution of it has to be read again.
type Stamp struct {
	Size   int64
	Time   int64 // nanoseconds of the Unix epoch
	Inode  uint64
	Looked int64
}

// resolution is how coarse a file system's clock may be, in nanoseconds.
const resolution = int64(20 * time.Millisecond)

// is reports whether a file that looks like s2 now was not written since it looked like s, as far as looks tell.
func (s Stamp) is(s2 Stamp) bool {
	return s.Size == s2.Size && s.Time == s2.Time && s.Inode == s2.Inode
}

// fits reports whether a file that looks like s2 now still has the content that it had when it looked like s.
func (s Stamp) fits(s2 Stamp) bool {
	return s.is(s2) && s.Time+resolution < s.Looked
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

// View is what the service last said, and when. At is the handoff that the workspace is at, or follows; Newest the newest that there is.
// Turn grows with whatever this workspace itself brings about, so that an answer from before that is not taken for newer.
type View struct {
	At      int
	Newest  int
	Fetched time.Time
	Turn    int
	// Follows is the handoff that the workspace stays at, 0 for the newest; Pinned says that it is the one that tarn.pin names.
	Follows int
	Pinned  bool
	// Scope are the folders that come down; none for all.
	Scope scope.Scope
}

// theirs is what the service last said of an asset, as far as a look at the folder needs it.
type theirs struct {
	newest     int
	gone       bool
	executable bool
	size       int64
	content    chunk.Digest
}

// The buckets of the index: assets the workspace has, and their chunks; what the service last said of each asset, and who holds what and
// has unsent changes; cuts of changed files; moves made here, from where by to where; what an update is about to put in place; the rest.
var (
	bucketBase    = []byte("base")
	bucketRefs    = []byte("refs")
	bucketNewest  = []byte("newest")
	bucketLocks   = []byte("locks")
	bucketHeads   = []byte("heads-up")
	bucketCuts    = []byte("cuts")
	bucketMoves   = []byte("moves")
	bucketJournal = []byte("journal")
	bucketMeta    = []byte("meta")
)

// indexFormat is kept in the index; one of another format is refused.
const indexFormat = 2

// indexTx is one transaction on the index.
type indexTx struct{ tx *bbolt.Tx }

// update and look open the index for one transaction only, so that a long command keeps nobody from looking.
func (w *Workspace) update(work func(indexTx) error) error {
	return w.index(false, func(db *bbolt.DB) error {
		return db.Update(func(tx *bbolt.Tx) error {
			if err := work(indexTx{tx}); err != nil || w.uncounted {
				return err
			}
			n, _, err := get[int](tx.Bucket(bucketMeta), "writes")
			if err != nil {
				return err
			}
			return put(tx.Bucket(bucketMeta), "writes", n+1)
		})
	})
}

// writes counts how often the index was written to, but for what a running watch wrote: by it that notices that its picture is old.
func (w *Workspace) writes() (n int) {
	_ = w.look(func(t indexTx) (err error) {
		n, _, err = get[int](t.tx.Bucket(bucketMeta), "writes")
		return err
	})
	return n
}

func (w *Workspace) look(work func(indexTx) error) error {
	return w.index(true, func(db *bbolt.DB) error {
		return db.View(func(tx *bbolt.Tx) error { return work(indexTx{tx}) })
	})
}

func (w *Workspace) index(readOnly bool, work func(*bbolt.DB) error) error {
	name := filepath.Join(w.state, "index")
	db, err := bbolt.Open(name, 0o600, &bbolt.Options{Timeout: 10 * time.Second, ReadOnly: readOnly})
	if errors.Is(err, bbolterrors.ErrTimeout) {
		return model.NewProblem(model.Taken, "wait until it is done", "another tarn command is at work in this workspace")
	}
	if full := stateFull(err); full != nil {
		return full
	}
	if err != nil {
		return fmt.Errorf("the workspace's index %s can't be opened (%w); if it stays so, remove that file and run tarn join KEY --here", name,
			err)
	}
	defer db.Close()
	err = work(db)
	if full := stateFull(err); full != nil {
		return full
	}
	return err
}

// stateFull says in words that the disk of the state folder is full; nil for any other error.
func stateFull(err error) error {
	if !errors.Is(err, syscall.ENOSPC) && !errors.Is(err, syscall.EDQUOT) {
		return nil
	}
	return model.NewProblem(model.DiskFull, "make room on it, then run the same command again: your files are as they were",
		"the disk of your state folder %s is full, where tarn keeps what it knows of this workspace", filepath.Join(xdg.StateHome, "kettle-tarn"))
}

// makeIndex makes the index where it is missing, and refuses one of another format.
func (w *Workspace) makeIndex() error {
	format := 0
	err := w.update(func(t indexTx) error {
		if meta := t.tx.Bucket(bucketMeta); meta != nil {
			format, _, _ = get[int](meta, "format")
			return nil
		}
		for _, b := range [][]byte{bucketBase, bucketRefs, bucketNewest, bucketLocks, bucketHeads, bucketCuts, bucketMoves, bucketJournal,
			bucketMeta} {
			if _, err := t.tx.CreateBucketIfNotExists(b); err != nil {
				return err
			}
		}
		format = indexFormat
		return put(t.tx.Bucket(bucketMeta), "format", format)
	})
	if err == nil && format != indexFormat {
		err = model.NewProblem(model.Taken, "remove "+filepath.Join(w.state, "index")+" and run tarn join "+w.Marker.Project+
			" --here, which overwrites nothing", "this workspace was made by another version of tarn")
	}
	return err
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
		if err := manifests.Unmarshal(data, &v); err != nil {
			return err
		}
		out[string(k)] = v
		return nil
	})
}

// A base has its own form: a look at the folder reads all of them. Its stamp's size is its own.
const baseSize = 4 + 1 + 8 + 8 + 8 + 8 + 32

var errIndex = errors.New("the workspace's index is damaged; tarn join KEY --here makes it anew and overwrites nothing")

func (b Base) encode() []byte {
	out := make([]byte, 0, baseSize)
	out = binary.BigEndian.AppendUint32(out, uint32(b.Version))
	out = append(out, flag(b.Executable, 1))
	for _, n := range []uint64{uint64(b.Size), uint64(b.Stamp.Time), b.Stamp.Inode, uint64(b.Stamp.Looked)} {
		out = binary.BigEndian.AppendUint64(out, n)
	}
	return append(out, b.Content[:]...)
}

func decodeBase(d []byte) (b Base, err error) {
	if len(d) != baseSize {
		return b, errIndex
	}
	b.Version, b.Executable, b.Size = int(binary.BigEndian.Uint32(d)), d[4]&1 != 0, int64(binary.BigEndian.Uint64(d[5:]))
	b.Stamp = Stamp{Size: b.Size, Time: int64(binary.BigEndian.Uint64(d[13:])), Inode: binary.BigEndian.Uint64(d[21:]),
		Looked: int64(binary.BigEndian.Uint64(d[29:]))}
	b.Content = chunk.Digest(d[37:])
	return b, nil
}

func flag(on bool, bit byte) byte {
	if on {
		return bit
	}
	return 0
}

// What the service said of an asset begins in the same way; the rest of it follows as CBOR.
const theirsSize = 4 + 1 + 8 + 32

func decodeTheirs(d []byte) (t theirs, err error) {
	if len(d) < theirsSize {
		return t, errIndex
	}
	t.newest, t.gone, t.executable, t.size = int(binary.BigEndian.Uint32(d)), d[4]&1 != 0, d[4]&2 != 0, int64(binary.BigEndian.Uint64(d[5:]))
	t.content = chunk.Digest(d[13:])
	return t, nil
}

func (t indexTx) base(path string) (b Base, had bool, err error) {
	data := t.tx.Bucket(bucketBase).Get([]byte(path))
	if data == nil {
		return b, false, nil
	}
	b, err = decodeBase(data)
	return b, err == nil, err
}

// setBase keeps a base; refs are its chunks, nil where they stay as they are.
func (t indexTx) setBase(path string, b Base, refs Refs) error {
	if refs != nil {
		if err := t.tx.Bucket(bucketRefs).Put([]byte(path), refs); err != nil {
			return err
		}
	}
	return t.tx.Bucket(bucketBase).Put([]byte(path), b.encode())
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

// holders is what is known of locks and of unsent changes elsewhere, by path, to be compared.
func (t indexTx) holders() map[string]string {
	all := map[string]string{}
	for _, bucket := range [][]byte{bucketLocks, bucketHeads} {
		_ = t.tx.Bucket(bucket).ForEach(func(path, said []byte) error {
			all[string(path)] += string(said) + "\x00"
			return nil
		})
	}
	return all
}

// refsOf calls each with the chunks of the base of a path.
func (t indexTx) refsOf(path string, each func(start int64, digest chunk.Digest)) {
	eachOf(t.tx.Bucket(bucketRefs).Get([]byte(path)), each)
}

// eachRef calls each with the chunks of one base after another, as long as it is true.
func (t indexTx) eachRef(each func(path []byte, start int64, digest chunk.Digest) bool) {
	c := t.tx.Bucket(bucketRefs).Cursor()
	more := true
	for path, refs := c.First(); path != nil && more; path, refs = c.Next() {
		eachOf(refs, func(start int64, digest chunk.Digest) { more = more && each(path, start, digest) })
	}
}

func eachOf(refs Refs, each func(start int64, digest chunk.Digest)) {
	start := int64(0)
	for r := refs; len(r) >= refSize; r = r[refSize:] {
		each(start, chunk.Digest(r[:32]))
		start += int64(binary.BigEndian.Uint32(r[32:refSize]))
	}
}

// setNewest keeps what the service said of an asset, and of its lock.
func (t indexTx) setNewest(a model.Asset) error {
	l := a.Lock
	if len(a.Waiting) > 0 {
		l = &model.Lock{Path: a.Path}
		if a.Lock != nil {
			*l = *a.Lock
		}
		l.Waitlist = a.Waiting
	}
	if err := t.setLock(a.Path, l); err != nil {
		return err
	}
	data := binary.BigEndian.AppendUint32(make([]byte, 0, 160), uint32(a.Newest))
	data = append(data, flag(a.Gone, 1)|flag(a.Executable, 2))
	data = binary.BigEndian.AppendUint64(data, uint64(a.Size))
	content, _ := chunk.ParseDigest(a.Content)
	data = append(data, content[:]...)
	rest, err := cbor.Marshal(model.Asset{Digest: a.Digest, Author: a.Author, At: a.At, Handoff: a.Handoff, Note: a.Note, MovedTo: a.MovedTo})
	if err != nil {
		return err
	}
	return t.tx.Bucket(bucketNewest).Put([]byte(a.Path), append(data, rest...))
}

// newest is what the service said of an asset.
func (t indexTx) newest(path string) (a model.Asset, known bool, err error) {
	data := t.tx.Bucket(bucketNewest).Get([]byte(path))
	if data == nil {
		return a, false, nil
	}
	about, err := decodeTheirs(data)
	if err == nil {
		err = manifests.Unmarshal(data[theirsSize:], &a)
	}
	if err != nil {
		return a, false, err
	}
	a.Path, a.Newest, a.Gone, a.Executable, a.Size = path, about.newest, about.gone, about.executable, about.size
	if !about.gone {
		a.Content = about.content.String()
	}
	if err := t.addLock(&a); err != nil {
		return a, true, err
	}
	if err == nil {
		a.HeadsUp, _, err = get[[]model.HeadsUp](t.tx.Bucket(bucketHeads), path)
	}
	return a, true, err
}

func (t indexTx) dropNewest(path string) error {
	if err := t.setLock(path, nil); err != nil {
		return err
	}
	return t.tx.Bucket(bucketNewest).Delete([]byte(path))
}

// addLock adds to an asset who holds its lock, and who waits for it. The index keeps a line whose lock is free under a lock of nobody.
func (t indexTx) addLock(a *model.Asset) error {
	l, known, err := get[model.Lock](t.tx.Bucket(bucketLocks), a.Path)
	if err != nil || !known {
		return err
	}
	if a.Waiting = l.Waitlist; l.Holder != "" {
		a.Lock, a.Holder = &l, l.Holder
	}
	return nil
}

// leaveLine takes a workspace out of the line for an asset.
func (t indexTx) leaveLine(path, workspace string) error {
	l, known, err := get[model.Lock](t.tx.Bucket(bucketLocks), path)
	if err != nil || !known {
		return err
	}
	l.Waitlist = slices.DeleteFunc(l.Waitlist, func(x model.Waiter) bool { return x.WorkspaceID == workspace })
	if len(l.Waitlist) == 0 && l.Holder == "" {
		return t.setLock(path, nil)
	}
	return t.setLock(path, &l)
}

func (t indexTx) setLock(path string, l *model.Lock) error {
	if l == nil {
		return t.tx.Bucket(bucketLocks).Delete([]byte(path))
	}
	return put(t.tx.Bucket(bucketLocks), path, *l)
}

// replace empties a bucket.
func (t indexTx) replace(bucket []byte) error {
	if err := t.tx.DeleteBucket(bucket); err != nil {
		return err
	}
	_, err := t.tx.CreateBucket(bucket)
	return err
}

func (t indexTx) cut(path string) (Cut, bool, error) {
	return get[Cut](t.tx.Bucket(bucketCuts), path)
}
func (t indexTx) setCut(path string, c Cut) error { return put(t.tx.Bucket(bucketCuts), path, c) }
func (t indexTx) dropCut(path string) error       { return t.tx.Bucket(bucketCuts).Delete([]byte(path)) }

func (t indexTx) setMove(to, from string) error {
	return t.tx.Bucket(bucketMoves).Put([]byte(to), []byte(from))
}
func (t indexTx) dropMove(to string) error { return t.tx.Bucket(bucketMoves).Delete([]byte(to)) }
func (t indexTx) moves() map[string]string {
	out := map[string]string{}
	_ = t.tx.Bucket(bucketMoves).ForEach(func(to, from []byte) error {
		out[string(to)] = string(from)
		return nil
	})
	return out
}

func (t indexTx) view() (View, error) {
	v, _, err := get[View](t.tx.Bucket(bucketMeta), "view")
	return v, err
}
func (t indexTx) setView(v View) error { return put(t.tx.Bucket(bucketMeta), "view", v) }

// turn notes that this workspace itself brought something about.
func (t indexTx) turn() error {
	v, err := t.view()
	if err != nil {
		return err
	}
	v.Turn++
	return t.setView(v)
}

func (t indexTx) pending() (Pending, bool, error) {
	return get[Pending](t.tx.Bucket(bucketMeta), "pending")
}
func (t indexTx) setPending(p Pending) error { return put(t.tx.Bucket(bucketMeta), "pending", p) }
func (t indexTx) dropPending() error         { return t.tx.Bucket(bucketMeta).Delete([]byte("pending")) }

func (w *Workspace) view() (v View, err error) {
	err = w.look(func(t indexTx) error {
		v, err = t.view()
		return err
	})
	return v, err
}
