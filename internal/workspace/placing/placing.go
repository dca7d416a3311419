// Package placing is the way into the folder of a workspace, and out of it: what comes is built beside its place, written down in a
// journal, and moved in; what goes is taken aside by its name first, looked at, and put away where somebody might miss it. It knows no
// service and no rules; which files come and go is decided above it. See docs/architecture.md, "On disk".
package placing

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"syscall"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
)

// Folder is the folder of a workspace, with what is kept of it elsewhere. Not safe for concurrent use.
type Folder struct {
	Root  string       // its whole name
	Disk  disk.Disk    // it, opened
	State string       // the folder of this workspace among the person's state
	Index *index.Index // what is known of its files
}

// incoming is the folder in which files are built before they are moved to their place.
const Incoming = assetpath.ReservedPrefix + "incoming"

// One way leads into the folder for whatever is not written there by a program of the person's own: place. It replaces nothing that it did
// not look at and hash; it puts a file where nothing stands, in one step of the file system; and it trusts no path, whoever named it. The
// ways out (removing, moving, putting away) take a file aside by its name first, in one step, too, so that a program that saves meanwhile
// makes a new file and loses none.

// Wanted is a file to bring down, to its place. was is the file that stands there now, nil for none; it is replaced only while it still is
// that.
type Wanted struct {
	Asset model.Asset
	Place string
	Was   *Standing
}

// Standing is a file that was looked at: how it looked, and what was in it. A file is replaced or removed only while it still is that.
type Standing struct {
	Stamp   index.Stamp
	Content chunk.Digest
}

// Built is a file that lies whole in the folder of what comes in.
type Built struct {
	Wanted
	Refs index.Refs
}

// ModeOf is that of a file in its place.
func ModeOf(f Wanted) fs.FileMode {
	if f.Asset.Executable {
		return 0o755
	}
	return 0o644
}

// PartName is where a file is built: the same for the same content at the same place, so that it can be taken up again.
func PartName(f Wanted) string {
	name := chunk.Sum([]byte(f.Place))
	return filepath.Join(Incoming, f.Asset.Content[:min(len(f.Asset.Content), 32)]+"-"+hex.EncodeToString(name[:8]))
}

func AsideName(f Wanted) string { return PartName(f) + asideSuffix }

// BadPlace says why nothing may be put at a path, whoever wants it there; nil where it may.
func BadPlace(place string) *model.Refusal {
	bad := assetpath.Check(place)
	if bad == nil {
		return nil
	}
	shown := assetpath.Printable(place)
	return &model.Refusal{Path: shown, Reason: bad.Reason, Message: shown + ": it was not put here: " + bad.Message,
		Remedy: "no client sends such a name; tell whoever runs the service"}
}

func ChangedMeanwhile(path string) *model.Refusal {
	return &model.Refusal{Path: path, Reason: "changing", Message: path + ": it was changed here while the command ran",
		Remedy: "look at it with tarn status, then run the command again"}
}

// NoRoom says in words that this disk is full.
func NoRoom(err error) error {
	if errors.Is(err, syscall.ENOSPC) {
		return model.NewProblem(model.DiskFull, "make room on it, then run the same command again: what has arrived stays, and your files are "+
			"as they were", "the disk of this workspace is full")
	}
	return err
}

// SafeFolder makes the folders above path, and refuses where one of them is a link or a file.
func (d *Folder) SafeFolder(path string) error {
	for _, folder := range assetpath.Folders(path) {
		info, err := d.Disk.Lstat(filepath.FromSlash(folder))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			if err := d.Disk.Mkdir(filepath.FromSlash(folder), 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
				return err
			}
		case err != nil:
			return err
		case !info.IsDir():
			return fmt.Errorf("%s is in the way: it is not a folder here", folder)
		}
	}
	return nil
}

// Full is the whole name of one below the root.
func (d *Folder) Full(name string) string { return filepath.Join(d.Root, name) }

// prune removes the folders above a path that are empty.
func (d *Folder) prune(name string) {
	for folder := path.Dir(name); folder != "."; folder = path.Dir(folder) {
		if d.Disk.Remove(filepath.FromSlash(folder)) != nil {
			return
		}
	}
}
