package store

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Directory is a Store below a folder of the local file system.
type Directory struct {
	root string
	disk disk
}

// OpenDirectory opens the store below root, making the folder where it is missing.
func OpenDirectory(root string) (*Directory, error) {
	incoming := filepath.Join(root, "incoming")
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %s can't be made: %w", root, reason(err))
	}
	probe, err := os.CreateTemp(incoming, "probe-")
	if err != nil {
		return nil, fmt.Errorf("the data folder %s can't be written to: %w", root, reason(err))
	}
	_ = probe.Close()
	_ = os.Remove(probe.Name())
	return &Directory{root: root, disk: systemDisk{}}, nil
}

// reason drops the path that the os package puts into its errors, where the message has it already.
func reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

func (d *Directory) path(name string) (string, error) {
	if err := checkName(name); err != nil {
		return "", err
	}
	return filepath.Join(d.root, "packs", filepath.FromSlash(name)), nil
}

// Put writes beside the place, syncs, moves in, and syncs the folder, each new folder and the one above it.
func (d *Directory) Put(_ context.Context, name string, write func(io.Writer) error) (err error) {
	path, err := d.path(name)
	if err != nil {
		return err
	}
	temporary := filepath.Join(d.root, "incoming", "put-"+rand.Text())
	f, err := d.disk.create(temporary)
	if err != nil {
		return full(err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = d.disk.remove(temporary)
		}
	}()
	large := writers.Get().(*bufio.Writer)
	defer writers.Put(large)
	large.Reset(f)
	if err := write(large); err != nil {
		return full(err)
	}
	if err := large.Flush(); err != nil {
		return full(err)
	}
	if err := f.Sync(); err != nil {
		return full(err)
	}
	if err := f.Close(); err != nil {
		return full(err)
	}
	if err := d.makeFolder(filepath.Dir(path)); err != nil {
		return full(err)
	}
	// A link fails where the name is taken, and a rename would not.
	if err := d.disk.link(temporary, path); err != nil {
		return full(err)
	}
	_ = d.disk.remove(temporary)
	if err := d.disk.syncFolder(filepath.Dir(path)); err != nil {
		_ = d.disk.remove(path)
		return full(err)
	}
	return nil
}

// writers make large pieces of what a pack is written in.
var writers = sync.Pool{New: func() any { return bufio.NewWriterSize(nil, 256<<10) }}

func (d *Directory) makeFolder(path string) error {
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	if err := d.makeFolder(filepath.Dir(path)); err != nil {
		return err
	}
	if err := d.disk.mkdir(path); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return d.disk.syncFolder(filepath.Dir(path))
}

// disk is what a Directory does to the file system. Tests put one in its place that forgets what was not synced.
type disk interface {
	create(path string) (diskFile, error)
	link(from, to string) error
	remove(path string) error
	mkdir(path string) error
	syncFolder(path string) error
}

type diskFile interface {
	io.Writer
	Sync() error
	Close() error
}

// systemDisk is the file system.
type systemDisk struct{}

func (systemDisk) create(path string) (diskFile, error) {
	return os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
}
func (systemDisk) link(from, to string) error { return os.Link(from, to) }
func (systemDisk) remove(path string) error   { return os.Remove(path) }
func (systemDisk) mkdir(path string) error    { return os.Mkdir(path, 0o700) }

func (systemDisk) syncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

func full(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("%w (%w)", ErrFull, err)
	}
	return err
}

type file struct {
	*os.File
	size int64
}

func (f *file) Size() int64 { return f.size }

// OnDisk is the file itself.
func (f *file) OnDisk() *os.File { return f.File }

// Open opens an object.
func (d *Directory) Open(_ context.Context, name string) (Object, error) {
	path, err := d.path(name)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", name, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return &file{File: f, size: info.Size()}, nil
}

// Remove deletes an object.
func (d *Directory) Remove(_ context.Context, name string) error {
	path, err := d.path(name)
	if err != nil {
		return err
	}
	err = d.disk.remove(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return d.disk.syncFolder(filepath.Dir(path))
}

// List walks the folder.
func (d *Directory) List(ctx context.Context, prefix string, each func(Info) error) error {
	root := filepath.Join(d.root, "packs")
	err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(root, path)
		if err != nil {
			return err
		}
		name := filepath.ToSlash(rel)
		if !strings.HasPrefix(name, prefix) {
			return nil
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		return each(Info{Name: name, Size: info.Size(), Modified: info.ModTime()})
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Free asks the file system.
func (d *Directory) Free(context.Context) (int64, error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(d.root, &s); err != nil {
		return -1, err
	}
	return int64(s.Bavail) * int64(s.Bsize), nil
}

// Sweep removes what interrupted writes left behind more than a day ago.
func (d *Directory) Sweep() error {
	incoming := filepath.Join(d.root, "incoming")
	entries, err := os.ReadDir(incoming)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > 24*time.Hour {
			if err := os.Remove(filepath.Join(incoming, e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}
