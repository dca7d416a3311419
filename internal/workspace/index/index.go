package index

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/adrg/xdg"
	"go.etcd.io/bbolt"
	bbolterrors "go.etcd.io/bbolt/errors"

	"kettletarn/internal/core/model"
)

// Index is the index of one workspace. It is open for one transaction at a time only, so that a long command keeps nobody from looking;
// several processes may use it.
type Index struct {
	folder, project string
	// uncounted says that what is written needs not be counted: see Writes.
	uncounted bool
}

// In is the index in a workspace's state folder. project is its key, for messages. Nothing is looked at yet.
func In(folder, project string) *Index { return &Index{folder: folder, project: project} }

func (x *Index) file() string { return filepath.Join(x.folder, "index") }

// There tells whether there is one. One of no bytes was begun on a full disk, and nothing ever stood in it.
func (x *Index) There() bool {
	info, err := os.Stat(x.file())
	return err == nil && info.Size() > 0 || err != nil && !errors.Is(err, os.ErrNotExist)
}

// Remove forgets everything.
func (x *Index) Remove() error { return os.Remove(x.file()) }

// Ready makes the index where it is missing, and refuses one of another format. Looking at one that is there costs no write.
func (x *Index) Ready() error {
	found := 0
	if info, err := os.Stat(x.file()); err == nil && info.Size() > 0 {
		err := x.Look(func(t Tx) error {
			if meta := t.tx.Bucket(bucketMeta); meta != nil {
				found, _, _ = get[int](meta, "format")
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	if found == format {
		return nil
	}
	return x.make()
}

func (x *Index) make() error {
	found := 0
	err := x.Update(func(t Tx) error {
		if meta := t.tx.Bucket(bucketMeta); meta != nil {
			found, _, _ = get[int](meta, "format")
			return nil
		}
		for _, b := range [][]byte{bucketBase, bucketRefs, bucketNewest, bucketLocks, bucketHeads, bucketCuts, bucketMoves, bucketJournal,
			bucketMeta} {
			if _, err := t.tx.CreateBucketIfNotExists(b); err != nil {
				return err
			}
		}
		found = format
		return put(t.tx.Bucket(bucketMeta), "format", found)
	})
	if err == nil && found != format {
		err = model.NewProblem(model.Taken, "remove "+x.file()+" and run tarn join "+x.project+" --here, which overwrites nothing",
			"this workspace was made by another version of tarn")
	}
	return err
}

// Update does work in a transaction that changes things, all of it or, where work fails, nothing.
func (x *Index) Update(work func(Tx) error) error {
	return x.open(false, func(db *bbolt.DB) error {
		return db.Update(func(tx *bbolt.Tx) error {
			if err := work(Tx{tx}); err != nil || x.uncounted {
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

// Look does work in a transaction that changes nothing.
func (x *Index) Look(work func(Tx) error) error {
	return x.open(true, func(db *bbolt.DB) error {
		return db.View(func(tx *bbolt.Tx) error { return work(Tx{tx}) })
	})
}

// Writes counts how often the index was written to, but for what was written between Uncounted and Counted: by it a running watch notices
// that its picture is old.
func (x *Index) Writes() (n int) {
	_ = x.Look(func(t Tx) (err error) {
		n, _, err = get[int](t.tx.Bucket(bucketMeta), "writes")
		return err
	})
	return n
}

// Uncounted sets whether what this Index writes from now on is left out of Writes.
func (x *Index) Uncounted(on bool) { x.uncounted = on }

func (x *Index) open(readOnly bool, work func(*bbolt.DB) error) error {
	db, err := bbolt.Open(x.file(), 0o600, &bbolt.Options{Timeout: 10 * time.Second, ReadOnly: readOnly})
	if errors.Is(err, bbolterrors.ErrTimeout) {
		return model.NewProblem(model.Taken, "wait until it is done", "another tarn command is at work in this workspace")
	}
	if full := Full(err); full != nil {
		return full
	}
	if err != nil {
		return fmt.Errorf("the workspace's index %s can't be opened (%w); if it stays so, remove that file and run tarn join KEY --here",
			x.file(),
			err)
	}
	defer db.Close()
	err = work(db)
	if full := Full(err); full != nil {
		return full
	}
	return err
}

// Full says in words that the disk of the state folder is full; nil for any other error.
func Full(err error) error {
	if !errors.Is(err, syscall.ENOSPC) && !errors.Is(err, syscall.EDQUOT) {
		return nil
	}
	return model.NewProblem(model.DiskFull, "make room on it, then run the same command again: your files are as they were",
		"the disk of your state folder %s is full, where tarn keeps what it knows of this workspace", filepath.Join(xdg.StateHome, "kettle-tarn"))
}
