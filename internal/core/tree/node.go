// Package tree keeps what a branch holds: one immutable search tree from folded path to an asset's entry, whose nodes are named by
// their digest. Which entries share a node follows from the keys alone, so that the same set of entries always has the same shape
// and the same root, however it came about (compare: Merkle search trees, Auvolat and Taïani, SRDS 2019). A change of one entry makes
// a handful of new nodes; two trees are compared in time proportional to their difference; a folder is a range of keys.
//
// The format is in docs/formats.md. The package does no I/O: nodes come from the function that it is given.
package tree

import (
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/fxamacker/cbor/v2"

	"kettletarn/internal/core/canonical"
	"kettletarn/internal/core/chunk"
)

// Format is the version of the node format.
const Format = 1

// A node of level n (leaves are 0) ends behind a key whose hash, the first 8 bytes of its BLAKE3 read as a big-endian number, has
// levelBits*(n+1) low bits zero; or behind the item with which it has MaxItems, or maxWeight bytes of keys and spellings.
const (
	levelBits = 6
	MaxItems  = 256
	maxWeight = 48 << 10
	maxLevel  = 40
)

// MaxNode is the most bytes that a node has, and MaxKey those of a key.
const (
	MaxNode = 128 << 10
	MaxKey  = 4096
)

// ErrInvalid is wrapped by every error about nodes that are not well-formed, or not what their parent says.
var ErrInvalid = errors.New("not a well-formed tree")

// Bits of an entry's mode.
const Executable = 1

// An Entry is one asset as a branch holds it. Key is its folded path; Path its spelling, empty where that is the key. Size is in bytes.
type Entry struct {
	_       struct{} `cbor:",toarray"`
	Key     string
	Path    string
	Asset   int64
	Version int
	Content chunk.Digest
	Size    int64
	Mode    uint8
}

// Spelling is the path as people wrote it.
func (e *Entry) Spelling() string {
	if e.Path == "" {
		return e.Key
	}
	return e.Path
}

// A Ref is a node as its parent names it: its last key, and how many entries and bytes of content are below it.
type Ref struct {
	_      struct{} `cbor:",toarray"`
	Last   string
	Digest chunk.Digest
	Count  int64
	Size   int64
}

func (e Entry) key() string { return e.Key }
func (e Entry) weight() int { return len(e.Key) + len(e.Path) }
func (r Ref) key() string   { return r.Last }
func (r Ref) weight() int   { return len(r.Last) }

// A Node is one node: entries in a leaf (level 0), or else refs, in the order of their keys.
type Node struct {
	Level   int
	Entries []Entry
	Refs    []Ref
}

// leaf and inner are the two forms on the wire: [format, level, [item, …]].
type leaf struct {
	_       struct{} `cbor:",toarray"`
	Format  int
	Level   int
	Entries []Entry
}

type inner struct {
	_      struct{} `cbor:",toarray"`
	Format int
	Level  int
	Refs   []Ref
}

// ref names the node.
func (n *Node) ref(digest chunk.Digest) Ref {
	r := Ref{Digest: digest}
	for _, e := range n.Entries {
		r.Last, r.Size = e.Key, r.Size+e.Size
		r.Count++
	}
	for _, below := range n.Refs {
		r.Last, r.Size, r.Count = below.Last, r.Size+below.Size, r.Count+below.Count
	}
	return r
}

// ends reports whether a node of a level ends behind a key.
func ends(key string, level int) bool {
	bits := min(levelBits*(level+1), 63)
	sum := chunk.Sum([]byte(key))
	return binary.BigEndian.Uint64(sum[:])&(1<<bits-1) == 0
}

// Encode gives a node's bytes and their digest.
func (n *Node) Encode() ([]byte, chunk.Digest) {
	var data []byte
	if n.Level == 0 {
		data = canonical.Encode(leaf{Format: Format, Entries: append([]Entry{}, n.Entries...)})
	} else {
		data = canonical.Encode(inner{Format: Format, Level: n.Level, Refs: n.Refs})
	}
	return data, chunk.Sum(data)
}

var decode = canonical.Decoder(MaxItems)

// Decode reads a node. The error wraps ErrInvalid.
func Decode(data []byte) (*Node, error) {
	if len(data) > MaxNode {
		return nil, fmt.Errorf("a node of %d bytes: %w", len(data), ErrInvalid)
	}
	var head struct {
		_      struct{} `cbor:",toarray"`
		Format int
		Level  int
		Items  cbor.RawMessage
	}
	if err := decode(data, &head); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrInvalid, err)
	}
	if head.Format != Format {
		return nil, fmt.Errorf("a node of format %d, and this program knows %d: %w", head.Format, Format, ErrInvalid)
	}
	if head.Level < 0 || head.Level > maxLevel {
		return nil, fmt.Errorf("a node of level %d: %w", head.Level, ErrInvalid)
	}
	n := &Node{Level: head.Level}
	var err error
	if n.Level == 0 {
		err = decode(head.Items, &n.Entries)
	} else if err = decode(head.Items, &n.Refs); err == nil && len(n.Refs) == 0 {
		err = errors.New("an inner node without a child")
	}
	if err == nil {
		err = n.check()
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrInvalid, err)
	}
	return n, nil
}

func (n *Node) check() error {
	last := ""
	look := func(i int, key string, sizes ...int64) error {
		if i > 0 && key <= last || len(key) > MaxKey || key == "" {
			return fmt.Errorf("item %d is out of order", i)
		}
		last = key
		for _, s := range sizes {
			if s < 0 {
				return fmt.Errorf("item %d has a negative size", i)
			}
		}
		return nil
	}
	for i, e := range n.Entries {
		if err := look(i, e.Key, e.Size, int64(e.Version)-1, e.Asset); err != nil {
			return err
		}
	}
	for i, r := range n.Refs {
		if err := look(i, r.Last, r.Size, r.Count-1); err != nil {
			return err
		}
	}
	return nil
}
