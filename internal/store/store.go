// Package store keeps packs: immutable files under a name. It knows nothing of what is in them.
package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"time"
)

// ErrNotFound is returned for a name that is not in the store.
var ErrNotFound = errors.New("not in the store")

// ErrFull is wrapped by the error of a Put for which there was no room.
var ErrFull = errors.New("the store is full")

// A Store keeps objects under names of the form "part/part", each part of letters, digits, "-" and ".". Implementations are safe
// for concurrent use and pass storetest.Run.
type Store interface {
	// Put calls write once and keeps what it writes under name. When Put returns nil, the object is whole and survives the loss of
	// power; when it returns an error, there is no object under the name. A name is used once.
	Put(ctx context.Context, name string, write func(io.Writer) error) error
	// Open returns an object to read at any place, from several goroutines. The caller closes it. See ErrNotFound.
	Open(ctx context.Context, name string) (Object, error)
	// Remove deletes an object. One that is not there is no error.
	Remove(ctx context.Context, name string) error
	// List calls each with every object whose name begins with prefix, in no order. An object that is put or removed meanwhile may be
	// among them or not.
	List(ctx context.Context, prefix string, each func(Info) error) error
	// Free is the number of bytes that there is room for, or a negative number where that is not known.
	Free(ctx context.Context) (int64, error)
}

// Info is what a store knows of an object. Size is in bytes.
type Info struct {
	Name     string
	Size     int64
	Modified time.Time
}

// names are those of objects: parts of letters, digits, "-" and ".".
var names = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9.-]*(/[A-Za-z0-9][A-Za-z0-9.-]*)*$`)

func checkName(name string) error {
	if !names.MatchString(name) {
		return fmt.Errorf("%q is not a name in a store", name)
	}
	return nil
}

// OnDisk is what an Object is besides where it is a file of this machine: from one, the system sends by itself. The offset of the file
// belongs to who asked for it, and only one may.
type OnDisk interface {
	OnDisk() *os.File
}

// An Object is one object that is being read.
type Object interface {
	io.ReaderAt
	io.Closer
	Size() int64
}
