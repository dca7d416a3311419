package scan

import (
	"fmt"
	"os"

	"golang.org/x/sys/windows"
)

// IdentityOf tells a file from every copy of it: its number in the file system, and when it was made. Neither changes when the file or a
// folder above it is moved within its file system.
func IdentityOf(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	var info windows.ByHandleFileInformation
	if err := windows.GetFileInformationByHandle(windows.Handle(f.Fd()), &info); err != nil {
		return "", &os.PathError{Op: "stat", Path: name, Err: err}
	}
	return fmt.Sprintf("%d-%d", uint64(info.FileIndexHigh)<<32|uint64(info.FileIndexLow), info.CreationTime.Nanoseconds()), nil
}
