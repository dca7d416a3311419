package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
)

// ReadSmall reads a file, at most one byte more than most.
func ReadSmall(name string, most int64) ([]byte, error) {
	// Opening a pipe would wait until somebody writes into it.
	if info, err := os.Stat(name); err != nil {
		return nil, err
	} else if !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "read", Path: name, Err: errors.New("it is not a regular file")}
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, most+1))
}

// Cause is what an error of the file system says, without the path.
func Cause(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}
