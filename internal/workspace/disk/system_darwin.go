package disk

import "golang.org/x/sys/unix"

// renameNew is renameatx_np(2) with RENAME_EXCL.
func renameNew(a int, from string, b int, to string) error {
	return unix.RenameatxNp(a, from, b, to, unix.RENAME_EXCL)
}
