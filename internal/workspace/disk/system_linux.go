package disk

import "golang.org/x/sys/unix"

// renameNew is renameat2(2) with RENAME_NOREPLACE.
func renameNew(a int, from string, b int, to string) error {
	return unix.Renameat2(a, from, b, to, unix.RENAME_NOREPLACE)
}
