package tree

import (
	"context"
	"fmt"
	"sort"

	"kettletarn/internal/core/chunk"
)

// Load gives the nodes of digests, in order. It has checked them against the digests.
type Load func(ctx context.Context, digests []chunk.Digest) ([]*Node, error)

// A Forest reads trees and makes new ones. What it makes is kept in Fresh until the caller has stored it. Not safe for concurrent use.
type Forest struct {
	load Load
	// Fresh are the nodes that were made here, encoded.
	Fresh map[chunk.Digest][]byte
	made  map[chunk.Digest]*Node
}

// NewForest returns a Forest over stored nodes.
func NewForest(load Load) *Forest {
	return &Forest{load: load, Fresh: map[chunk.Digest][]byte{}, made: map[chunk.Digest]*Node{}}
}

var _, emptyRoot = (&Node{}).Encode()

// Empty is the root of the tree without entries. Its node need not be stored.
func Empty() chunk.Digest { return emptyRoot }

func (f *Forest) nodes(ctx context.Context, digests []chunk.Digest) ([]*Node, error) {
	out := make([]*Node, len(digests))
	var ask []chunk.Digest
	var place []int
	for i, d := range digests {
		switch n := f.made[d]; {
		case d == emptyRoot:
			out[i] = &Node{}
		case n != nil:
			out[i] = n
		default:
			ask, place = append(ask, d), append(place, i)
		}
	}
	if len(ask) == 0 {
		return out, nil
	}
	got, err := f.load(ctx, ask)
	if err != nil {
		return nil, err
	}
	for i, n := range got {
		out[place[i]] = n
	}
	return out, nil
}

func (f *Forest) node(ctx context.Context, d chunk.Digest) (*Node, error) {
	list, err := f.nodes(ctx, []chunk.Digest{d})
	if err != nil {
		return nil, err
	}
	return list[0], nil
}

func (f *Forest) keep(n *Node) Ref {
	data, digest := n.Encode()
	f.Fresh[digest], f.made[digest] = data, n
	return n.ref(digest)
}

// A Change puts an entry in the place of its key, or, where Entry is nil, takes away what is there.
type Change struct {
	Key   string
	Entry *Entry
}

// element is what nodes hold.
type element interface {
	Entry | Ref
	key() string
	weight() int
}

// edit replaces, adds or (nil) removes the element of a key at one level.
type edit[T element] struct {
	key string
	to  *T
}

// Apply returns the root of the tree that comes of changes, at most one a key, in any order. Taking away what is not there changes
// nothing. All nodes that the changes touch are loaded, a level at a time.
func (f *Forest) Apply(ctx context.Context, root chunk.Digest, changes []Change) (chunk.Digest, error) {
	edits := make([]edit[Entry], len(changes))
	for i, c := range changes {
		if c.Key == "" || len(c.Key) > MaxKey || c.Entry != nil && c.Entry.Key != c.Key {
			return root, fmt.Errorf("the key %q can't be in a tree", c.Key)
		}
		edits[i] = edit[Entry]{c.Key, c.Entry}
	}
	sort.Slice(edits, func(i, j int) bool { return edits[i].key < edits[j].key })
	for i := 1; i < len(edits); i++ {
		if edits[i].key == edits[i-1].key {
			return root, fmt.Errorf("two changes of %q", edits[i].key)
		}
	}
	if len(edits) == 0 {
		return root, nil
	}
	old, err := f.node(ctx, root)
	if err != nil {
		return root, err
	}
	if err := f.warm(ctx, old, edits); err != nil {
		return root, err
	}
	above, err := editLevel(ctx, f, old, 0, edits, func(n *Node) []Entry { return n.Entries },
		func(list []Entry) *Node { return &Node{Entries: list} })
	for level := 1; err == nil && level <= old.Level; level++ {
		if len(above) == 0 {
			return root, nil
		}
		above, err = editLevel(ctx, f, old, level, above, func(n *Node) []Ref { return n.Refs },
			func(list []Ref) *Node { return &Node{Level: level, Refs: list} })
	}
	if err != nil {
		return root, err
	}
	if len(above) == 0 {
		return root, nil
	}
	var list []Ref
	for _, e := range above {
		if e.to != nil {
			list = append(list, *e.to)
		}
	}
	return f.top(ctx, list, old.Level+1)
}

// top builds levels over a list of nodes until there is one, and takes away those that hold a single node.
func (f *Forest) top(ctx context.Context, list []Ref, level int) (chunk.Digest, error) {
	if len(list) == 0 {
		return emptyRoot, nil
	}
	for ; len(list) > 1; level++ {
		if level > maxLevel {
			return emptyRoot, fmt.Errorf("a tree of %d levels", level)
		}
		var above []Ref
		s := splitter[Ref]{level: level, close: func(refs []Ref) { above = append(above, f.keep(&Node{Level: level, Refs: refs})) }}
		for _, r := range list {
			s.add(r)
		}
		s.flush()
		list = above
	}
	root := list[0].Digest
	for {
		n, err := f.node(ctx, root)
		if err != nil || n.Level == 0 || len(n.Refs) > 1 {
			return root, err
		}
		root = n.Refs[0].Digest
	}
}

// splitter puts elements into nodes.
type splitter[T element] struct {
	level  int
	list   []T
	weight int
	close  func([]T)
}

func (s *splitter[T]) add(e T) {
	s.list = append(s.list, e)
	s.weight += e.weight()
	if len(s.list) == MaxItems || s.weight >= maxWeight || ends(e.key(), s.level) {
		s.flush()
	}
}

func (s *splitter[T]) flush() {
	if len(s.list) > 0 {
		s.close(s.list)
		s.list, s.weight = nil, 0
	}
}

// editLevel applies edits to one level of the tree below top, and returns what that changes in the level above, by key.
func editLevel[T element](ctx context.Context, f *Forest, top *Node, level int, edits []edit[T], items func(*Node) []T,
	make func([]T) *Node) ([]edit[Ref], error) {
	changed := map[string]*Ref{}
	for len(edits) > 0 {
		s := splitter[T]{level: level, close: func(list []T) {
			r := f.keep(make(list))
			changed[r.Last] = &r
		}}
		n, isLast, err := f.find(ctx, top, level, edits[0].key, false)
		for {
			if err != nil {
				return nil, err
			}
			old := items(n)
			last := ""
			if len(old) > 0 {
				last = old[len(old)-1].key()
				if _, put := changed[last]; !put {
					changed[last] = nil
				}
			}
			for _, e := range old {
				for len(edits) > 0 && edits[0].key < e.key() {
					if edits[0].to != nil {
						s.add(*edits[0].to)
					}
					edits = edits[1:]
				}
				if len(edits) > 0 && edits[0].key == e.key() {
					if edits[0].to != nil {
						s.add(*edits[0].to)
					}
					edits = edits[1:]
					continue
				}
				s.add(e)
			}
			for isLast && len(edits) > 0 {
				if edits[0].to != nil {
					s.add(*edits[0].to)
				}
				edits = edits[1:]
			}
			if isLast || len(s.list) == 0 {
				break
			}
			n, isLast, err = f.find(ctx, top, level, last, true)
		}
		s.flush()
	}
	out := []edit[Ref]{}
	for key, to := range changed {
		out = append(out, edit[Ref]{key, to})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].key < out[j].key })
	return out, nil
}

// find goes down to the node of a level in whose range a key is, or, with behind, to the one behind that which ends with key. last
// says that it is the last of its level.
func (f *Forest) find(ctx context.Context, top *Node, level int, key string, behind bool) (n *Node, last bool, err error) {
	n, last = top, true
	for n.Level > level {
		i := sort.Search(len(n.Refs), func(i int) bool { return n.Refs[i].Last > key || !behind && n.Refs[i].Last == key })
		if i >= len(n.Refs)-1 {
			i = len(n.Refs) - 1
		} else {
			last = false
		}
		below := n.Level - 1
		if n, err = f.node(ctx, n.Refs[i].Digest); err != nil {
			return nil, false, err
		}
		if n.Level != below {
			return nil, false, fmt.Errorf("a node of level %d below one of level %d: %w", n.Level, below+1, ErrInvalid)
		}
	}
	return n, last, nil
}

// warm loads the nodes that edits will touch, a level at a time, so that find need not load them one by one.
func (f *Forest) warm(ctx context.Context, top *Node, edits []edit[Entry]) error {
	type span struct {
		n     *Node
		edits []edit[Entry]
	}
	level := []span{{top, edits}}
	for len(level) > 0 && level[0].n.Level > 0 {
		var digests []chunk.Digest
		var next []span
		for _, s := range level {
			for i, r := range s.n.Refs {
				cut := len(s.edits)
				if i < len(s.n.Refs)-1 {
					cut = sort.Search(len(s.edits), func(i int) bool { return s.edits[i].key > r.Last })
				}
				if cut > 0 {
					digests, next = append(digests, r.Digest), append(next, span{edits: s.edits[:cut]})
					s.edits = s.edits[cut:]
				}
			}
		}
		nodes, err := f.nodes(ctx, digests)
		if err != nil {
			return err
		}
		for i, n := range nodes {
			next[i].n, f.made[digests[i]] = n, n
		}
		level = next
	}
	return nil
}

// Get looks up entries; keys that are not there are left out.
func (f *Forest) Get(ctx context.Context, root chunk.Digest, keys []string) (map[string]Entry, error) {
	top, err := f.node(ctx, root)
	if err != nil {
		return nil, err
	}
	edits := make([]edit[Entry], len(keys))
	for i, k := range keys {
		edits[i].key = k
	}
	sort.Slice(edits, func(i, j int) bool { return edits[i].key < edits[j].key })
	if err := f.warm(ctx, top, edits); err != nil {
		return nil, err
	}
	found := make(map[string]Entry, len(keys))
	for _, e := range edits {
		n, _, err := f.find(ctx, top, 0, e.key, false)
		if err != nil {
			return nil, err
		}
		if i := sort.Search(len(n.Entries), func(i int) bool { return n.Entries[i].Key >= e.key }); i < len(n.Entries) &&
			n.Entries[i].Key == e.key {
			found[e.key] = n.Entries[i]
		}
	}
	return found, nil
}
