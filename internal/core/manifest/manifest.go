// Package manifest is the list of a content's chunks as a tree of nodes that are named by their digest, so that neither a change in a
// large file nor asking for a part of it needs the whole list. The identity of a content is the digest of its root node.
//
// The chunks stand in leaves, in order; inner nodes list nodes. A node ends behind an item whose digest says so, or when it is full:
// the same chunks always give the same nodes (docs/formats.md, with a test vector). It does no I/O of its own.
package manifest

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"kettletarn/internal/core/canonical"
	"kettletarn/internal/core/chunk"
)

// Format is the version of the node format.
const Format = 1

// A node ends behind an item whose digest, its last two bytes read as a big-endian number, has the low endBits zero; or behind
// MaxItems.
const (
	endBits  = 8
	MaxItems = 1024
	maxLevel = 8
)

// MaxNode is the most bytes that a node has.
const MaxNode = 64 << 10

// ErrInvalid is wrapped by every error about nodes that are not well-formed, or not what their parent says.
var ErrInvalid = errors.New("not a well-formed manifest")

// An Item is a chunk (in a node of level 0) or a node of the level below, and how many bytes of the content it stands for.
type Item struct {
	_      struct{} `cbor:",toarray"`
	Digest chunk.Digest
	Size   int64
}

// A Node is one node. On the wire it is the CBOR array [format, level, [[digest, size], …]].
type Node struct {
	_      struct{} `cbor:",toarray"`
	Format int
	Level  int
	Items  []Item
}

// Size is how many bytes of the content the node stands for.
func (n *Node) Size() (sum int64) {
	for _, item := range n.Items {
		sum += item.Size
	}
	return sum
}

// A Block is an encoded node under its digest.
type Block struct {
	Digest chunk.Digest
	Data   []byte
}

// Build makes the nodes of a content, the root last.
func Build(refs []chunk.Ref) (nodes []Block) {
	items := make([]Item, len(refs))
	for i, ref := range refs {
		items[i] = Item{Digest: ref.Digest, Size: int64(ref.Size)}
	}
	for level := 0; ; level++ {
		var above []Item
		for first := true; first || len(items) > 0; first = false {
			n := 0
			for n < len(items) {
				n++
				if n == MaxItems || ends(items[n-1].Digest) {
					break
				}
			}
			node := Node{Format: Format, Level: level, Items: items[:n]}
			block := Encode(&node)
			nodes = append(nodes, block)
			above = append(above, Item{Digest: block.Digest, Size: node.Size()})
			items = items[n:]
		}
		if len(above) == 1 {
			return nodes
		}
		items = above
	}
}

// Root is the identity of the content that has these chunks.
func Root(refs []chunk.Ref) chunk.Digest {
	nodes := Build(refs)
	return nodes[len(nodes)-1].Digest
}

func ends(d chunk.Digest) bool {
	return binary.BigEndian.Uint16(d[30:])&(1<<endBits-1) == 0
}

// Encode writes a node. Build makes those of a content; this is for who makes one of their own.
func Encode(n *Node) Block {
	if n.Items == nil {
		n.Items = []Item{}
	}
	data := canonical.Encode(n)
	return Block{Digest: chunk.Sum(data), Data: data}
}

var decode = canonical.Decoder(MaxItems)

// Decode reads a node. The error wraps ErrInvalid.
func Decode(data []byte) (*Node, error) {
	if len(data) > MaxNode {
		return nil, fmt.Errorf("a node of %d bytes: %w", len(data), ErrInvalid)
	}
	var n Node
	if err := decode(data, &n); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrInvalid, err)
	}
	if n.Format != Format {
		return nil, fmt.Errorf("a node of format %d, and this program knows %d: %w", n.Format, Format, ErrInvalid)
	}
	if n.Level < 0 || n.Level > maxLevel || n.Level > 0 && len(n.Items) == 0 {
		return nil, fmt.Errorf("a node of level %d with %d items: %w", n.Level, len(n.Items), ErrInvalid)
	}
	sum := int64(0)
	for i, item := range n.Items {
		if item.Size < 1 || n.Level == 0 && item.Size > chunk.Max || sum+item.Size < sum {
			return nil, fmt.Errorf("item %d claims %d bytes: %w", i, item.Size, ErrInvalid)
		}
		sum += item.Size
	}
	return &n, nil
}

// Load gives the encoded nodes of digests, in order. It has checked them against the digests.
type Load func(ctx context.Context, digests []chunk.Digest) ([][]byte, error)

// atOnce is how many leaves are loaded at once while walking.
const atOnce = 32

// Walk calls each with the chunks of a content in order, from the one that holds byte from on, and where each starts. nodes, where
// not nil, is called with the digest of every node that is looked into, before what is below it. A content with no more than that
// gives nothing. The error wraps ErrInvalid where a node does not stand for what its parent says.
func Walk(ctx context.Context, load Load, root chunk.Digest, from int64, nodes func(chunk.Digest) error,
	each func(start int64, ref chunk.Ref) error) error {
	type place struct {
		Item
		start int64
		level int
	}
	stack := []place{{Item: Item{Digest: root, Size: -1}, level: -1}}
	for len(stack) > 0 {
		// Nodes that come one after the other are loaded together; what is below an inner node has to be looked at before the next.
		n := 1
		for n < len(stack) && n < atOnce && stack[len(stack)-n].level == 0 && stack[len(stack)-n-1].level == 0 {
			n++
		}
		digests, group := make([]chunk.Digest, n), make([]place, n)
		for i := range group {
			group[i] = stack[len(stack)-1-i]
			digests[i] = group[i].Digest
		}
		stack = stack[:len(stack)-n]
		blocks, err := load(ctx, digests)
		if err != nil {
			return err
		}
		for i, p := range group {
			node, err := Decode(blocks[i])
			if err != nil {
				return err
			}
			if p.level >= 0 && node.Level != p.level || p.Size >= 0 && node.Size() != p.Size {
				return fmt.Errorf("node %s is not what its parent says: %w", p.Digest, ErrInvalid)
			}
			if nodes != nil {
				if err := nodes(p.Digest); err != nil {
					return err
				}
			}
			start := p.start
			if node.Level == 0 {
				for _, item := range node.Items {
					if start+item.Size > from {
						if err := each(start, chunk.Ref{Digest: item.Digest, Size: int(item.Size)}); err != nil {
							return err
						}
					}
					start += item.Size
				}
				continue
			}
			below := len(stack)
			for _, item := range node.Items {
				if start+item.Size > from {
					stack = append(stack, place{Item: item, start: start, level: node.Level - 1})
				}
				start += item.Size
			}
			for a, b := below, len(stack)-1; a < b; a, b = a+1, b-1 {
				stack[a], stack[b] = stack[b], stack[a]
			}
		}
	}
	return nil
}
