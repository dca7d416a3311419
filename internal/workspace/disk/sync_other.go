//go:build !linux

package disk

// SyncFiles makes files below root durable.
func SyncFiles(root string, names []string) error { return syncEach(root, names) }
