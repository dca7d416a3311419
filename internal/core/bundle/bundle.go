// Package bundle writes the files of a state into one stream: a tar archive (POSIX.1-2001, pax) or a ZIP archive (APPNOTE 6.3, with ZIP64
// where it is needed). The same files give the same bytes.
package bundle

import (
	"archive/tar"
	"archive/zip"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"kettletarn/internal/core/assetpath"
)

// Forms that a bundle may have.
const (
	Tar = "tar"
	Zip = "zip"
)

// File is one file of a bundle. Size is in bytes.
type File struct {
	Path       string
	Size       int64
	Executable bool
	At         time.Time
}

// Writer writes one bundle. Add is called for one file after the other; Close is called once, behind the last one. A bundle that was not
// closed does not read as a whole one. Not safe for concurrent use.
type Writer interface {
	// Add writes a file, whose content has to have exactly its size.
	Add(f File, content io.Reader) error
	Close() error
}

// New makes a writer of a form.
func New(form string, out io.Writer) (Writer, error) {
	switch form {
	case Tar:
		return tarWriter{tar.NewWriter(out)}, nil
	case Zip:
		return zipWriter{zip.NewWriter(out)}, nil
	}
	return nil, fmt.Errorf("a bundle is a %s or a %s", Tar, Zip)
}

func mode(f File) int64 {
	if f.Executable {
		return 0o755
	}
	return 0o644
}

func check(f File) error {
	if bad := assetpath.Check(f.Path); bad != nil {
		return bad
	}
	return nil
}

type tarWriter struct{ *tar.Writer }

func (w tarWriter) Add(f File, content io.Reader) error {
	if err := check(f); err != nil {
		return err
	}
	if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: f.Path, Size: f.Size, Mode: mode(f),
		ModTime: f.At.UTC().Truncate(time.Second), Format: tar.FormatPAX}); err != nil {
		return err
	}
	n, err := io.Copy(w.Writer, content)
	if err == nil && n != f.Size {
		err = io.ErrUnexpectedEOF
	}
	return err
}

type zipWriter struct{ *zip.Writer }

// packed are names of what does not get smaller.
var packed = map[string]bool{".png": true, ".jpg": true, ".jpeg": true, ".webp": true, ".gif": true, ".zip": true, ".gz": true, ".7z": true,
	".ogg": true, ".mp3": true, ".flac": true, ".mp4": true, ".webm": true}

func (w zipWriter) Add(f File, content io.Reader) error {
	if err := check(f); err != nil {
		return err
	}
	h := &zip.FileHeader{Name: f.Path, Method: zip.Deflate, Modified: f.At.UTC()}
	if packed[strings.ToLower(path.Ext(f.Path))] {
		h.Method = zip.Store
	}
	h.SetMode(0o644)
	if f.Executable {
		h.SetMode(0o755)
	}
	out, err := w.CreateHeader(h)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, content)
	if err == nil && n != f.Size {
		err = io.ErrUnexpectedEOF
	}
	return err
}
