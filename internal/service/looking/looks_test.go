package looking

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// What is kept stays within its bounds, the oldest goes first, and nothing is gone through while there is room.
func TestWhatIsKeptIsBounded(t *testing.T) {
	l := newLooks(t.TempDir())
	l.most = 100 << 10
	add := func(n, size int) string {
		dir := filepath.Join(l.folder, "1", "ab", fmt.Sprintf("%06d", n))
		if err := os.MkdirAll(dir, 0o700); err != nil {
			t.Fatal(err)
		}
		name := filepath.Join(dir, "report.json")
		if err := os.WriteFile(name, make([]byte, size), 0o600); err != nil {
			t.Fatal(err)
		}
		at := time.Now().Add(time.Duration(n-10_000) * time.Second)
		if err := os.Chtimes(name, at, at); err != nil {
			t.Fatal(err)
		}
		return dir
	}
	there := func(dir string) bool {
		_, err := os.Stat(dir)
		return err == nil
	}
	l.kept(add(100, 1<<10))
	stranger := add(0, 200<<10) // nobody said that it is there
	for n := 101; n < 190; n++ {
		l.kept(add(n, 1<<10))
	}
	if !there(stranger) {
		t.Error("all was gone through while there was room")
	}
	for n := 190; n < 1000; n++ {
		l.kept(add(n, 1<<10))
	}
	list, err := filepath.Glob(filepath.Join(l.folder, "1", "ab", "*"))
	if err != nil || len(list) > 107 || len(list) < 80 {
		t.Errorf("%d are kept, %v", len(list), err)
	}
	if there(stranger) || there(filepath.Join(l.folder, "1", "ab", "000100")) || !there(filepath.Join(l.folder, "1", "ab", "000999")) {
		t.Error("the oldest did not go first")
	}
	l.trim(half)
	if half, _ := filepath.Glob(filepath.Join(l.folder, "1", "ab", "*")); len(half) > len(list)/2+1 || len(half) < len(list)/2-1 {
		t.Errorf("%d are left of %d", len(half), len(list))
	}
}
