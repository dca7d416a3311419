package store

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestADirectoryThatCantBeUsedSaysSo(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenDirectory(filepath.Join(file, "data")); err == nil || !strings.Contains(err.Error(), "data folder") {
		t.Errorf("got %v", err)
	}
}

func TestSweepRemovesOnlyOldLeftovers(t *testing.T) {
	root := t.TempDir()
	s, err := OpenDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	old, young := filepath.Join(root, "incoming", "put-old"), filepath.Join(root, "incoming", "put-young")
	for _, name := range []string{old, young} {
		if err := os.WriteFile(name, []byte("half"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	before := time.Now().Add(-48 * time.Hour)
	if err := os.Chtimes(old, before, before); err != nil {
		t.Fatal(err)
	}
	if err := s.Put(t.Context(), "p1/a.pack", func(w io.Writer) error { return nil }); err != nil {
		t.Fatal(err)
	}
	if err := s.Sweep(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(old); err == nil {
		t.Error("an old leftover stays")
	}
	if _, err := os.Stat(young); err != nil {
		t.Error("what may still be written is removed")
	}
	if _, err := s.Open(t.Context(), "p1/a.pack"); err != nil {
		t.Error("a pack is gone after the sweep")
	}
}

// forgetful is a disk that loses power: what was not synced is gone then. Data of a file is kept by Sync of the file, its name by a
// sync of the folder.
type forgetful struct {
	systemDisk
	// lax, where set, says yes to a sync of a folder and does nothing.
	lax     bool
	files   map[string]*forgetfulFile
	entries map[string][]string // by folder: names that were made and not synced
}

type forgetfulFile struct {
	*os.File
	synced int64
}

func (f *forgetfulFile) Sync() (err error) {
	f.synced, err = f.Seek(0, io.SeekCurrent)
	return err
}

func (d *forgetful) create(path string) (diskFile, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	d.files[path] = &forgetfulFile{File: f}
	d.made(path)
	return d.files[path], nil
}

func (d *forgetful) made(path string) {
	folder := filepath.Dir(path)
	d.entries[folder] = append(d.entries[folder], path)
}

func (d *forgetful) link(from, to string) error {
	d.files[to] = d.files[from]
	d.made(to)
	return d.systemDisk.link(from, to)
}

func (d *forgetful) mkdir(path string) error {
	d.made(path)
	return d.systemDisk.mkdir(path)
}

func (d *forgetful) syncFolder(path string) error {
	if !d.lax {
		delete(d.entries, path)
	}
	return nil
}

// crash takes away what was not synced.
func (d *forgetful) crash(t *testing.T) {
	for path, f := range d.files {
		if err := os.Truncate(path, f.synced); err != nil && !os.IsNotExist(err) {
			t.Fatal(err)
		}
	}
	for _, names := range d.entries {
		for _, name := range names {
			if err := os.RemoveAll(name); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func TestWhatWasAcknowledgedSurvivesTheLossOfPower(t *testing.T) {
	body := strings.Repeat("salt and brine ", 10_000)
	for _, lax := range []bool{false, true} {
		s, err := OpenDirectory(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		d := &forgetful{lax: lax, files: map[string]*forgetfulFile{}, entries: map[string][]string{}}
		s.disk = d
		for _, name := range []string{"p1/a.pack", "p1/b.pack", "p2/c.pack"} {
			if err := s.Put(t.Context(), name, func(w io.Writer) error {
				_, err := io.WriteString(w, body+name)
				return err
			}); err != nil {
				t.Fatal(err)
			}
		}
		d.crash(t)
		whole := 0
		for _, name := range []string{"p1/a.pack", "p1/b.pack", "p2/c.pack"} {
			o, err := s.Open(t.Context(), name)
			if err != nil {
				continue
			}
			if data, err := io.ReadAll(io.NewSectionReader(o, 0, o.Size())); err == nil && string(data) == body+name {
				whole++
			}
			_ = o.Close()
		}
		if !lax && whole != 3 {
			t.Errorf("%d of 3 acknowledged objects are whole after the loss of power", whole)
		}
		if lax && whole != 0 {
			t.Error("the test would not notice a missing sync")
		}
	}
}
