package tree

import (
	"context"
	"fmt"
	"strings"

	"kettletarn/internal/core/chunk"
)

// item is an entry, or a node that was not looked into yet.
type item struct {
	level int // of the node that ref names; -1 for an entry
	ref   Ref
	entry Entry
}

func (it *item) last() string {
	if it.level < 0 {
		return it.entry.Key
	}
	return it.ref.Last
}

// walker goes through a tree in the order of keys, looking into nodes only where it is told to.
type walker struct {
	f     *Forest
	after string // entries up to this key are passed over
	stack []item // the next item is the last
	// ahead is how many nodes are loaded at once next: more, the longer the walk.
	ahead int
	// opened, where not nil, is told of every node that was looked into.
	opened func(chunk.Digest, *Node) error
}

func (f *Forest) walker(ctx context.Context, root chunk.Digest, after string) (*walker, error) {
	w := &walker{f: f, after: after}
	n, err := f.node(ctx, root)
	if err != nil {
		return nil, err
	}
	w.push(n)
	return w, nil
}

func (w *walker) push(n *Node) {
	for i := len(n.Refs) - 1; i >= 0; i-- {
		if n.Refs[i].Last > w.after {
			w.stack = append(w.stack, item{level: n.Level - 1, ref: n.Refs[i]})
		}
	}
	for i := len(n.Entries) - 1; i >= 0; i-- {
		if n.Entries[i].Key > w.after {
			w.stack = append(w.stack, item{level: -1, entry: n.Entries[i]})
		}
	}
}

func (w *walker) head() *item {
	if len(w.stack) == 0 {
		return nil
	}
	return &w.stack[len(w.stack)-1]
}

func (w *walker) pop() item {
	it := w.stack[len(w.stack)-1]
	w.stack = w.stack[:len(w.stack)-1]
	return it
}

// skipTo passes over everything up to a key.
func (w *walker) skipTo(key string) {
	w.after = key
	for h := w.head(); h != nil && h.last() <= key; h = w.head() {
		w.pop()
	}
}

// mostAhead is how many nodes are loaded at once at most.
const mostAhead = 64

// open looks into the next item, which is a node, and loads those behind it that will be wanted too.
func (w *walker) open(ctx context.Context, except map[chunk.Digest]bool) error {
	digests := []chunk.Digest{w.head().ref.Digest}
	level := w.head().level
	ahead := max(w.ahead, 1)
	if level == 0 {
		w.ahead = min(2*ahead, mostAhead)
	}
	for i := len(w.stack) - 2; level == 0 && i >= 0 && len(digests) < ahead && w.stack[i].level == level; i-- {
		if d := w.stack[i].ref.Digest; !except[d] && w.f.made[d] == nil {
			digests = append(digests, d)
		}
	}
	nodes, err := w.f.nodes(ctx, digests)
	if err != nil {
		return err
	}
	for i, n := range nodes[1:] {
		w.f.made[digests[i+1]] = n
	}
	it := w.pop()
	if nodes[0].Level != it.level {
		return fmt.Errorf("a node of level %d where one of level %d should be: %w", nodes[0].Level, it.level, ErrInvalid)
	}
	if _, fresh := w.f.Fresh[it.ref.Digest]; !fresh {
		delete(w.f.made, it.ref.Digest)
	}
	w.push(nodes[0])
	if w.opened != nil {
		return w.opened(it.ref.Digest, nodes[0])
	}
	return nil
}

// Range calls each with the entries whose keys lie behind after and before end ("" for no end), in order, until it returns false.
func (f *Forest) Range(ctx context.Context, root chunk.Digest, after, end string, each func(*Entry) bool) error {
	w, err := f.walker(ctx, root, after)
	if err != nil {
		return err
	}
	for h := w.head(); h != nil; h = w.head() {
		if h.level >= 0 {
			if err := w.open(ctx, nil); err != nil {
				return err
			}
			continue
		}
		it := w.pop()
		if end != "" && it.entry.Key >= end || !each(&it.entry) {
			return nil
		}
	}
	return nil
}

// Sum counts the entries and their bytes between two keys, from inclusive and end exclusive ("" for no end), by what inner nodes say.
func (f *Forest) Sum(ctx context.Context, root chunk.Digest, from, end string) (count, size int64, err error) {
	top, err := f.node(ctx, root)
	if err != nil {
		return 0, 0, err
	}
	return f.sum(ctx, top, "", from, end)
}

// sum is Sum below a node all of whose keys are behind low.
func (f *Forest) sum(ctx context.Context, n *Node, low, from, end string) (count, size int64, err error) {
	for _, e := range n.Entries {
		if e.Key >= from && (end == "" || e.Key < end) {
			count, size = count+1, size+e.Size
		}
	}
	for _, r := range n.Refs {
		switch {
		case r.Last < from || end != "" && low >= end:
		case low >= from && (end == "" || r.Last < end):
			count, size = count+r.Count, size+r.Size
		default:
			below, err := f.node(ctx, r.Digest)
			if err != nil {
				return 0, 0, err
			}
			c, s, err := f.sum(ctx, below, low, from, end)
			if err != nil {
				return 0, 0, err
			}
			count, size = count+c, size+s
		}
		low = r.Last
	}
	return count, size, nil
}

// Below is the range of keys of what lies in a folder, named by its folded path with its slash ("" for everything).
func Below(folder string) (from, end string) {
	if folder == "" {
		return "", ""
	}
	return folder, folder[:len(folder)-1] + "0" // the character behind the slash
}

// A Line is one line of a folder's listing: an asset right in it, or a folder with what is below it.
type Line struct {
	Entry  *Entry
	Folder string // spelled name, for a folder
	Count  int64
	Size   int64
}

// Folder lists what is right in a folder (a folded path with its slash, "" for the root), in the order of keys, at most limit lines
// behind the cursor after (""), and returns the cursor behind them, "" at the end: the key of the last line, a folder's with its slash.
func (f *Forest) Folder(ctx context.Context, root chunk.Digest, folder, after string, limit int) (lines []Line, next string, err error) {
	from, end := Below(folder)
	w, err := f.walker(ctx, root, max(behind(after), from))
	if err != nil {
		return nil, "", err
	}
	for h := w.head(); h != nil; h = w.head() {
		if h.level >= 0 {
			if err := w.open(ctx, nil); err != nil {
				return nil, "", err
			}
			continue
		}
		e := h.entry
		if end != "" && e.Key >= end {
			break
		}
		if len(lines) == limit {
			return lines, next, nil
		}
		name, _, isFolder := strings.Cut(e.Key[len(folder):], "/")
		if !isFolder {
			lines = append(lines, Line{Entry: &e, Count: 1, Size: e.Size})
			next = e.Key
			w.skipTo(next)
			continue
		}
		next = folder + name + "/"
		start, stop := Below(next)
		line := Line{}
		if line.Count, line.Size, err = f.Sum(ctx, root, start, stop); err != nil {
			return nil, "", err
		}
		// The spelling has as many parts as the key, and the same folder is spelled in one way.
		line.Folder = strings.Split(e.Spelling(), "/")[strings.Count(folder, "/")]
		lines = append(lines, line)
		w.skipTo(behind(next))
	}
	return lines, "", nil
}

// behind is where to go on after a cursor: behind a folder's slash comes all that is in it, and no key has the byte 0xff.
func behind(cursor string) string {
	if strings.HasSuffix(cursor, "/") {
		return cursor + "\xff"
	}
	return cursor
}

// A Difference is one key at which two trees differ. From or To is nil where only one has it.
type Difference struct {
	Key      string
	From, To *Entry
}

// Diff calls each with the differences of two trees behind the key after, in order, until it returns false. It looks only into nodes
// that the trees do not share.
func (f *Forest) Diff(ctx context.Context, a, b chunk.Digest, after string, each func(Difference) bool) error {
	return f.diff(ctx, a, b, after, nil, each)
}

func (f *Forest) diff(ctx context.Context, a, b chunk.Digest, after string, opened func(chunk.Digest, *Node) error,
	each func(Difference) bool) error {
	if a == b {
		return nil
	}
	from, err := f.walker(ctx, a, after)
	if err != nil {
		return err
	}
	to, err := f.walker(ctx, b, after)
	if err != nil {
		return err
	}
	to.opened = opened
	for {
		x, y := from.head(), to.head()
		switch {
		case x == nil && y == nil:
			return nil
		case x != nil && y != nil && x.level >= 0 && x.level == y.level && x.ref.Digest == y.ref.Digest:
			from.pop()
			to.pop()
		case x != nil && x.level >= 0 && (y == nil || x.level >= y.level):
			err = from.open(ctx, to.shared())
		case y != nil && y.level >= 0:
			err = to.open(ctx, from.shared())
		default:
			var d Difference
			if x != nil && (y == nil || x.entry.Key <= y.entry.Key) {
				d.Key, d.From = x.entry.Key, &x.entry
			}
			if y != nil && (x == nil || y.entry.Key <= x.entry.Key) {
				d.Key, d.To = y.entry.Key, &y.entry
			}
			d = d.copied()
			if d.From != nil {
				from.pop()
			}
			if d.To != nil {
				to.pop()
			}
			if (d.From == nil || d.To == nil || *d.From != *d.To) && !each(d) {
				return nil
			}
		}
		if err != nil {
			return err
		}
	}
}

// shared are the nodes that a walker has still to look into.
func (w *walker) shared() map[chunk.Digest]bool {
	known := map[chunk.Digest]bool{}
	for _, it := range w.stack {
		if it.level >= 0 {
			known[it.ref.Digest] = true
		}
	}
	return known
}

func (d Difference) copied() Difference {
	for _, e := range []**Entry{&d.From, &d.To} {
		if *e != nil {
			c := **e
			*e = &c
		}
	}
	return d
}

// NewNodes calls each with the nodes of tree b that tree a has not in the same place, the root first: what has to be stored beside a
// to have b.
func (f *Forest) NewNodes(ctx context.Context, a, b chunk.Digest, each func(chunk.Digest, *Node) error) error {
	if a == b || b == emptyRoot {
		return nil
	}
	root, err := f.node(ctx, b)
	if err != nil {
		return err
	}
	if err := each(b, root); err != nil {
		return err
	}
	return f.diff(ctx, a, b, "", each, func(Difference) bool { return true })
}
