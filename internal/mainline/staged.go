package mainline

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
)

// Staged is a file that the next commit would add. Binary is known where Size is at least the size that was asked about.
type Staged struct {
	Path   string
	Size   int64
	Binary bool
}

// binaryLook is how many bytes are looked at to tell whether a content is binary, as git does.
const binaryLook = 8000

// Staged lists the files that the index has and the last commit has not, with their paths from Dir; of those of at least large bytes it
// tells whether they are binary.
func (r *Repo) Staged(ctx context.Context, large int64) ([]Staged, error) {
	changes, err := r.Index(ctx)
	if err != nil {
		return nil, err
	}
	var list []Staged
	var blobs []string
	for _, c := range changes {
		if c.Status == 'A' && c.Regular() {
			list, blobs = append(list, Staged{Path: c.Path}), append(blobs, c.Blob)
		}
	}
	if len(list) == 0 {
		return nil, nil
	}
	contents, err := r.Contents(ctx)
	if err != nil {
		return nil, err
	}
	defer contents.Close()
	for i, blob := range blobs {
		size, body, err := contents.Open(ctx, blob)
		if err != nil {
			return nil, err
		}
		list[i].Size = size
		if size >= large {
			head := make([]byte, binaryLook)
			n, err := io.ReadFull(body, head)
			if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
				return nil, fmt.Errorf("%s can't be read from the index: %w", list[i].Path, err)
			}
			list[i].Binary = bytes.IndexByte(head[:n], 0) >= 0
		}
	}
	return list, nil
}

// regular tells of a mode in git's words whether it is that of a file: not a link, and not another repository.
func regular(mode string) bool { return mode == "100644" || mode == "100755" || mode == "100664" }
