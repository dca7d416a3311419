package scan

import (
	"io/fs"
	"os"

	"kettletarn/internal/workspace/index"
)

// Windows gives no inode without opening the file; size and time have to do.
func inode(fs.FileInfo) uint64 { return 0 }

func Executable(fs.FileInfo) bool { return false }

// KeepsExecutable says that the system keeps no such bit: it stays as the service has it.
const KeepsExecutable = false

// glance looks at one entry of an open folder: the listing has all of it.
func glance(_ *os.File, entry fs.DirEntry) (f File, regular bool, err error) {
	info, err := entry.Info()
	if err != nil {
		return f, false, err
	}
	f.Stamp = index.Stamp{Size: info.Size(), Time: info.ModTime().UnixNano()}
	return f, info.Mode().IsRegular(), nil
}
