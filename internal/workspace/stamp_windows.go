package workspace

import "io/fs"

// Windows gives no inode without opening the file; size and time have to do.
func inode(fs.FileInfo) uint64 { return 0 }

func executable(fs.FileInfo) bool { return false }

// keepsExecutable says that the system keeps no such bit: it stays as the service has it.
const keepsExecutable = false
