package disk

import (
	"os"

	"golang.org/x/sys/unix"
)

// fewFiles are synced one by one; more of them with the whole file system.
const fewFiles = 32

// SyncFiles makes files below root durable.
func SyncFiles(root string, names []string) error {
	if len(names) > fewFiles {
		f, err := os.Open(root)
		if err != nil {
			return err
		}
		defer f.Close()
		return unix.Syncfs(int(f.Fd()))
	}
	return syncEach(root, names)
}
