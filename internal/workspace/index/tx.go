package index

import (
	"bytes"
	"encoding/binary"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"
	"go.etcd.io/bbolt"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

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

// format is kept in the index; one of another format is refused.
const format = 2

// Tx is one transaction on the index. Paths are those of the workspace, with slashes.
type Tx struct{ tx *bbolt.Tx }

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

var errDamaged = errors.New("the workspace's index is damaged; tarn join KEY --here makes it anew and overwrites nothing")

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
		return b, errDamaged
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

func decodeTheirs(d []byte) (t Theirs, err error) {
	if len(d) < theirsSize {
		return t, errDamaged
	}
	t.Newest, t.Gone, t.Executable, t.Size = int(binary.BigEndian.Uint32(d)), d[4]&1 != 0, d[4]&2 != 0, int64(binary.BigEndian.Uint64(d[5:]))
	t.Content = chunk.Digest(d[13:])
	return t, nil
}

// Base is the version that the workspace has at a path.
func (t Tx) Base(path string) (b Base, had bool, err error) {
	data := t.tx.Bucket(bucketBase).Get([]byte(path))
	if data == nil {
		return b, false, nil
	}
	b, err = decodeBase(data)
	return b, err == nil, err
}

// SetBase keeps a base; refs are its chunks, nil where they stay as they are.
func (t Tx) SetBase(path string, b Base, refs Refs) error {
	if refs != nil {
		if err := t.tx.Bucket(bucketRefs).Put([]byte(path), refs); err != nil {
			return err
		}
	}
	return t.tx.Bucket(bucketBase).Put([]byte(path), b.encode())
}

// DropBase forgets it, with its chunks.
func (t Tx) DropBase(path string) error {
	if err := t.tx.Bucket(bucketRefs).Delete([]byte(path)); err != nil {
		return err
	}
	return t.tx.Bucket(bucketBase).Delete([]byte(path))
}

// Refs are the chunks of the base of a path.
func (t Tx) Refs(path string) Refs {
	return bytes.Clone(t.tx.Bucket(bucketRefs).Get([]byte(path)))
}

// Holders is what is known of locks and of unsent changes elsewhere, by path, to be compared.
func (t Tx) Holders() map[string]string {
	all := map[string]string{}
	for _, bucket := range [][]byte{bucketLocks, bucketHeads} {
		_ = t.tx.Bucket(bucket).ForEach(func(path, said []byte) error {
			all[string(path)] += string(said) + "\x00"
			return nil
		})
	}
	return all
}

// RefsOf calls each with the chunks of the base of a path.
func (t Tx) RefsOf(path string, each func(start int64, digest chunk.Digest)) {
	eachOf(t.tx.Bucket(bucketRefs).Get([]byte(path)), each)
}

// EachRef calls each with the chunks of one base after another, as long as it is true.
func (t Tx) EachRef(each func(path []byte, start int64, digest chunk.Digest) bool) {
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

// SetNewest keeps what the service said of an asset, and of its lock.
func (t Tx) SetNewest(a model.Asset) error {
	l := a.Lock
	if len(a.Waiting) > 0 {
		l = &model.Lock{Path: a.Path}
		if a.Lock != nil {
			*l = *a.Lock
		}
		l.Waitlist = a.Waiting
	}
	if err := t.SetLock(a.Path, l); err != nil {
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

// Newest is what the service said of an asset.
func (t Tx) Newest(path string) (a model.Asset, known bool, err error) {
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
	a.Path, a.Newest, a.Gone, a.Executable, a.Size = path, about.Newest, about.Gone, about.Executable, about.Size
	if !about.Gone {
		a.Content = about.Content.String()
	}
	if err := t.AddLock(&a); err != nil {
		return a, true, err
	}
	if err == nil {
		a.HeadsUp, _, err = get[[]model.HeadsUp](t.tx.Bucket(bucketHeads), path)
	}
	return a, true, err
}

// DropNewest forgets what the service said of an asset.
func (t Tx) DropNewest(path string) error {
	if err := t.SetLock(path, nil); err != nil {
		return err
	}
	return t.tx.Bucket(bucketNewest).Delete([]byte(path))
}

// AddLock adds to an asset who holds its lock, and who waits for it. The index keeps a line whose lock is free under a lock of nobody.
func (t Tx) AddLock(a *model.Asset) error {
	l, known, err := get[model.Lock](t.tx.Bucket(bucketLocks), a.Path)
	if err != nil || !known {
		return err
	}
	if a.Waiting = l.Waitlist; l.Holder != "" {
		a.Lock, a.Holder = &l, l.Holder
	}
	return nil
}

// LeaveLine takes a workspace out of the line for an asset.
func (t Tx) LeaveLine(path, workspace string) error {
	l, known, err := get[model.Lock](t.tx.Bucket(bucketLocks), path)
	if err != nil || !known {
		return err
	}
	l.Waitlist = slices.DeleteFunc(l.Waitlist, func(x model.Waiter) bool { return x.WorkspaceID == workspace })
	if len(l.Waitlist) == 0 && l.Holder == "" {
		return t.SetLock(path, nil)
	}
	return t.SetLock(path, &l)
}

// SetLock keeps who holds what; nil for nobody.
func (t Tx) SetLock(path string, l *model.Lock) error {
	if l == nil {
		return t.tx.Bucket(bucketLocks).Delete([]byte(path))
	}
	return put(t.tx.Bucket(bucketLocks), path, *l)
}

// Cut is what a changed file was cut into.
func (t Tx) Cut(path string) (Cut, bool, error) {
	return get[Cut](t.tx.Bucket(bucketCuts), path)
}

// SetCut keeps that.
func (t Tx) SetCut(path string, c Cut) error { return put(t.tx.Bucket(bucketCuts), path, c) }

// DropCut forgets it.
func (t Tx) DropCut(path string) error { return t.tx.Bucket(bucketCuts).Delete([]byte(path)) }

// SetMove notes that a file was moved here.
func (t Tx) SetMove(to, from string) error {
	return t.tx.Bucket(bucketMoves).Put([]byte(to), []byte(from))
}

// DropMove forgets that.
func (t Tx) DropMove(to string) error { return t.tx.Bucket(bucketMoves).Delete([]byte(to)) }

// Moves are the moves made here, from where by to where.
func (t Tx) Moves() map[string]string {
	out := map[string]string{}
	_ = t.tx.Bucket(bucketMoves).ForEach(func(to, from []byte) error {
		out[string(to)] = string(from)
		return nil
	})
	return out
}

// View is what the service last said as a whole.
func (t Tx) View() (View, error) {
	v, _, err := get[View](t.tx.Bucket(bucketMeta), "view")
	return v, err
}

// SetView keeps it.
func (t Tx) SetView(v View) error { return put(t.tx.Bucket(bucketMeta), "view", v) }

// Turn notes that this workspace itself brought something about.
func (t Tx) Turn() error {
	v, err := t.View()
	if err != nil {
		return err
	}
	v.Turn++
	return t.SetView(v)
}

// Arrived notes that a handoff of this workspace is there, made on parent: where that is what the workspace is at, it is at the new one.
func (t Tx) Arrived(number, parent int, now time.Time) error {
	v, err := t.View()
	if err != nil {
		return err
	}
	v.Turn++
	if parent == v.At && v.Newest <= v.At && v.Follows == 0 {
		v.At, v.Fetched = number, now
	}
	v.Newest = max(v.Newest, number)
	return t.SetView(v)
}

// MovedAway notes that an asset is at another place now, at the service too.
func (t Tx) MovedAway(from, to string) error {
	refs := t.Refs(from)
	if err := t.SetRefs(to, refs); err != nil {
		return err
	}
	if err := t.DropBase(from); err != nil {
		return err
	}
	if err := t.DropNewest(from); err != nil {
		return err
	}
	return t.DropMove(to)
}

// Pending is the send that was posted and whose answer is not known yet, if there is one.
func (t Tx) Pending() (Pending, bool, error) {
	return get[Pending](t.tx.Bucket(bucketMeta), "pending")
}

// SetPending notes a send before it is posted.
func (t Tx) SetPending(p Pending) error { return put(t.tx.Bucket(bucketMeta), "pending", p) }

// DropPending forgets it.
func (t Tx) DropPending() error { return t.tx.Bucket(bucketMeta).Delete([]byte("pending")) }

// forget empties a bucket.
func (t Tx) forget(bucket []byte) error {
	if err := t.tx.DeleteBucket(bucket); err != nil {
		return err
	}
	_, err := t.tx.CreateBucket(bucket)
	return err
}

// ForgetHolders forgets who holds what and who has unsent changes.
func (t Tx) ForgetHolders() error { return errors.Join(t.forget(bucketLocks), t.forget(bucketHeads)) }

// ForgetCuts forgets what changed files were cut into.
func (t Tx) ForgetCuts() error { return t.forget(bucketCuts) }

// ForgetMoves forgets the moves made here.
func (t Tx) ForgetMoves() error { return t.forget(bucketMoves) }

// Locks are the locks that are known, by path; one of nobody has a line.
func (t Tx) Locks() (map[string]model.Lock, error) { return all[model.Lock](t.tx.Bucket(bucketLocks)) }

// HeadsUps are those that the service told of for a path.
func (t Tx) HeadsUps(path string) (list []model.HeadsUp, err error) {
	list, _, err = get[[]model.HeadsUp](t.tx.Bucket(bucketHeads), path)
	return list, err
}

// SetHeadsUps keeps them; none forgets them.
func (t Tx) SetHeadsUps(path string, list []model.HeadsUp) error {
	if len(list) == 0 {
		return t.tx.Bucket(bucketHeads).Delete([]byte(path))
	}
	return put(t.tx.Bucket(bucketHeads), path, list)
}

// EachHeld calls each with the paths of which somebody holds the lock, waits for it, or has unsent changes; with some of them twice.
func (t Tx) EachHeld(each func(path string)) {
	for _, bucket := range [][]byte{bucketLocks, bucketHeads} {
		_ = t.tx.Bucket(bucket).ForEach(func(path, _ []byte) error {
			each(string(path))
			return nil
		})
	}
}

// EachBase calls each with what the workspace has, in the order of paths, until it fails.
func (t Tx) EachBase(each func(path string, b Base) error) error {
	return t.tx.Bucket(bucketBase).ForEach(func(path, data []byte) error {
		b, err := decodeBase(data)
		if err != nil {
			return err
		}
		return each(string(path), b)
	})
}

// EachRefs calls each with the chunks of what the workspace has, in the order of paths, until it fails. They are valid during the call.
func (t Tx) EachRefs(each func(path string, refs Refs) error) error {
	return t.tx.Bucket(bucketRefs).ForEach(func(path, refs []byte) error { return each(string(path), refs) })
}

// SetRefs keeps the chunks of a base.
func (t Tx) SetRefs(path string, refs Refs) error {
	return t.tx.Bucket(bucketRefs).Put([]byte(path), refs.OrNone())
}

// EachNewest calls each with the paths that the service told of, in order, until it fails.
func (t Tx) EachNewest(each func(path string) error) error {
	return t.tx.Bucket(bucketNewest).ForEach(func(path, _ []byte) error { return each(string(path)) })
}

// Knows reports whether there is something at a path or, where it is a folder, below it: here, or at the service.
func (t Tx) Knows(path string) bool {
	for _, bucket := range [][]byte{bucketBase, bucketNewest} {
		b := t.tx.Bucket(bucket)
		if b.Get([]byte(path)) != nil {
			return true
		}
		if k, _ := b.Cursor().Seek([]byte(path + "/")); bytes.HasPrefix(k, []byte(path+"/")) {
			return true
		}
	}
	return false
}

// Entry is one path with what the workspace has there and what the service last said of it, as far as there is either.
type Entry struct {
	Path   string
	Had    bool // Base says something
	Base   Base
	Known  bool // Theirs says something
	Theirs Theirs
}

// Each calls each with every path that is wanted, in order; what each is handed holds only until it returns. It is what a look at a hundred
// thousand files begins with, so two share the work: one walks, and asks wanted from a goroutine of its own, the other takes apart what was
// found.
func (t Tx) Each(wanted func(path string) bool, each func(*Entry)) error {
	batches, stop := make(chan []found, 4), make(chan struct{})
	go func() {
		defer close(batches)
		t.walk(wanted, batches, stop)
	}()
	defer func() {
		close(stop)
		for range batches { // nothing reads in the transaction once this has returned
		}
	}()
	var e Entry
	for batch := range batches {
		for i := range batch {
			if err := batch[i].decode(&e); err != nil {
				return err
			}
			each(&e)
		}
	}
	return nil
}

// found is a path with what lies in the buckets for it, nil where nothing does.
type found struct {
	path         string
	base, theirs []byte
}

// batchOf is how many go from one to the other at once.
const batchOf = 1000

// walk goes through both buckets side by side, until stop is closed.
func (t Tx) walk(wanted func(path string) bool, batches chan<- []found, stop <-chan struct{}) {
	var batch []found
	flush := func() bool {
		select {
		case batches <- batch:
			batch = nil
			return true
		case <-stop:
			return false
		}
	}
	var names paths
	b, n := t.tx.Bucket(bucketBase).Cursor(), t.tx.Bucket(bucketNewest).Cursor()
	bk, bv := b.First()
	nk, nv := n.First()
	for bk != nil || nk != nil {
		order := bytes.Compare(bk, nk)
		if bk == nil {
			order = 1
		} else if nk == nil {
			order = -1
		}
		f := found{}
		key := bk
		if order > 0 {
			key = nk
		}
		if order <= 0 {
			f.base = bv
			bk, bv = b.Next()
		}
		if order >= 0 {
			f.theirs = nv
			nk, nv = n.Next()
		}
		if f.path = names.add(key); !wanted(f.path) {
			continue
		}
		if batch == nil {
			batch = make([]found, 0, batchOf)
		}
		if batch = append(batch, f); len(batch) == batchOf && !flush() {
			return
		}
	}
	flush()
}

// paths makes strings of many short keys, with few allocations.
type paths struct{ block strings.Builder }

func (p *paths) add(key []byte) string {
	if p.block.Cap()-p.block.Len() < len(key) {
		p.block = strings.Builder{}
		p.block.Grow(max(16<<10, len(key)))
	}
	from := p.block.Len()
	p.block.Write(key)
	return p.block.String()[from:]
}

func (f *found) decode(e *Entry) (err error) {
	*e = Entry{Path: f.path, Had: f.base != nil, Known: f.theirs != nil}
	if e.Had {
		if e.Base, err = decodeBase(f.base); err != nil {
			return err
		}
	}
	if e.Known {
		if e.Theirs, err = decodeTheirs(f.theirs); err != nil {
			return err
		}
	}
	return nil
}

// Len is about how many paths there are.
func (t Tx) Len() int { return t.tx.Bucket(bucketNewest).Stats().KeyN }

// Journal is what an update is about to put in place, by place.
func (t Tx) Journal() (map[string]Step, error) { return all[Step](t.tx.Bucket(bucketJournal)) }

// InJournal reports whether there is something in it.
func (t Tx) InJournal() bool {
	key, _ := t.tx.Bucket(bucketJournal).Cursor().First()
	return key != nil
}

// AddStep writes what is about to be done at a place into the journal.
func (t Tx) AddStep(place string, s Step) error { return put(t.tx.Bucket(bucketJournal), place, s) }

// EndJournal says that all of it was done.
func (t Tx) EndJournal() error { return t.forget(bucketJournal) }

// Told is what the service was told last, by what about: a digest or a text of the caller's, nil for nothing.
func (t Tx) Told(about string) []byte {
	return bytes.Clone(t.tx.Bucket(bucketMeta).Get([]byte("told " + about)))
}

// SetTold keeps it; nil forgets it.
func (t Tx) SetTold(about string, what []byte) error {
	if what == nil {
		return t.tx.Bucket(bucketMeta).Delete([]byte("told " + about))
	}
	return t.tx.Bucket(bucketMeta).Put([]byte("told "+about), what)
}

// ReadOnly tells whether files are read-only here whose lock is not held.
func (t Tx) ReadOnly() (on bool, err error) {
	on, _, err = get[bool](t.tx.Bucket(bucketMeta), "read-only")
	return on, err
}

// SetReadOnly keeps that.
func (t Tx) SetReadOnly(on bool) error { return put(t.tx.Bucket(bucketMeta), "read-only", on) }
