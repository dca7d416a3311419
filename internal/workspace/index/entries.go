// Package index is what a workspace knows: the versions that it has and how their files looked, what the service last said, what was begun
// and not ended. It is one file in the person's state folder, in a form of its own; everything in it could be asked for again, but for
// moves and scope. The package looks at no file of the workspace and asks no service.
package index

import (
	"encoding/binary"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/scope"
)

// Base is the version of an asset that the workspace has, and how its file looked when it was the same.
type Base struct {
	// Version is its number, from 1.
	Version int
	// Content is the root of its manifest.
	Content chunk.Digest
	// Size is in bytes.
	Size       int64
	Executable bool
	// Stamp has the same size.
	Stamp Stamp
}

// Stamp is how a file looked when its content was last known.
type Stamp struct {
	// Size is in bytes.
	Size int64
	// Time is when it was last written, in nanoseconds of the Unix epoch, by the file system's clock.
	Time int64
	// Inode is 0 where the system has none.
	Inode uint64
	// Looked is when that was, or a little before, in nanoseconds of the Unix epoch: a file that was changed within the clock's resolution of
	// it has to be read again. 0 is never.
	Looked int64
}

// Resolution is how coarse a file system's clock may be.
const Resolution = 20 * time.Millisecond

// Is reports whether a file that looks like s2 now was not written since it looked like s, as far as looks tell.
func (s Stamp) Is(s2 Stamp) bool {
	return s.Size == s2.Size && s.Time == s2.Time && s.Inode == s2.Inode
}

// Fits reports whether a file that looks like s2 now still has the content that it had when it looked like s.
func (s Stamp) Fits(s2 Stamp) bool {
	return s.Is(s2) && s.Time+int64(Resolution) < s.Looked
}

// Cut is what a file was cut into, with the stamp that it was made under, kept so that an interrupted send need not read the file
// again. Content is the root of its manifest.
type Cut struct {
	Stamp   Stamp
	Content chunk.Digest
	// Size is in bytes.
	Size int64
	Refs Refs
}

// Refs are the chunks of a content, packed: digest (32 bytes) and size (4 bytes, big endian) of each.
type Refs []byte

const refSize = 32 + 4

// MakeRefs has room for n chunks.
func MakeRefs(n int) Refs { return make(Refs, 0, n*refSize) }

// Add is r with one chunk more.
func (r Refs) Add(ref chunk.Ref) Refs {
	return binary.BigEndian.AppendUint32(append(r, ref.Digest[:]...), uint32(ref.Size))
}

// OrNone is r, never nil: an empty content has no chunks, and that is worth keeping.
func (r Refs) OrNone() Refs {
	if r == nil {
		return Refs{}
	}
	return r
}

// List is r, taken apart.
func (r Refs) List() []chunk.Ref {
	out := make([]chunk.Ref, 0, len(r)/refSize)
	for ; len(r) >= refSize; r = r[refSize:] {
		out = append(out, chunk.Ref{Digest: chunk.Digest(r[:32]), Size: int(binary.BigEndian.Uint32(r[32:refSize]))})
	}
	return out
}

// Pending is a send that was posted and whose answer is not known yet.
type Pending struct {
	// Key is what the service knows the send by.
	Key string
	// Note is its note, for messages.
	Note string
	// Cuts are how its files looked, by path.
	Cuts map[string]Stamp
	// Send is what was asked for.
	Send model.SendRequest
	// Since is when it was posted.
	Since time.Time
}

// View is what the service last said, and when.
type View struct {
	// At is the handoff that the workspace is at, or follows; 0 before the first.
	At int
	// Newest is the newest that there is.
	Newest int
	// Fetched is when it was said, by this machine's clock; zero for never.
	Fetched time.Time
	// Turn grows with whatever this workspace itself brings about, so that an answer from before that is not taken for newer.
	Turn int
	// Branch is the one that the workspace is on, "" for the first.
	Branch string
	// Follows is the handoff that the workspace stays at, 0 for the newest.
	Follows int
	// Pinned says that it is the one that tarn.pin names.
	Pinned bool
	// Scope are the folders that come down; none for all.
	Scope scope.Scope
	// Life is which life of the service said all this, "" where it did not say.
	Life string
	// KitsBehind are the uses of kits on the branch that do not have the latest release, and follow it.
	KitsBehind []model.KitUse
}

// On is the branch that the workspace is on.
func (v View) On() string {
	if v.Branch == "" {
		return model.FirstBranch
	}
	return v.Branch
}

// Theirs is what the service last said of an asset, as far as a look at the folder needs it.
type Theirs struct {
	// Newest is the number of the newest version.
	Newest int
	// Gone says that this is a deletion; the rest is zero then.
	Gone       bool
	Executable bool
	// Size is in bytes.
	Size    int64
	Content chunk.Digest
}

// Step is one entry of the journal: what an update is about to do at one place.
type Step struct {
	// Asset is what comes, or goes.
	Asset model.Asset
	// Stamp is how the file that stood there looked, nil where none did.
	Stamp *Stamp
	// Remove says that it goes.
	Remove bool
	// Was is what was in the file that stood there; nil as Stamp is, and in the journals of earlier versions.
	Was *chunk.Digest
}
