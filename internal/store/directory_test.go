package store_test

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/store"
	"kettletarn/internal/store/storetest"
)

func TestDirectory(t *testing.T) {
	s, err := store.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	if err := storetest.Run(t.Context(), s); err != nil {
		t.Error(err)
	}
}

func TestADirectoryThatCantBeUsedSaysSo(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := store.OpenDirectory(filepath.Join(file, "data")); err == nil || !strings.Contains(err.Error(), "data folder") {
		t.Errorf("got %v", err)
	}
}

func TestSweepRemovesOnlyOldLeftovers(t *testing.T) {
	root := t.TempDir()
	s, err := store.OpenDirectory(root)
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
