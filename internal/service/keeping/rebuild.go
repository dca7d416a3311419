package keeping

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"strconv"
	"strings"

	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/ruling"
	"kettletarn/internal/store"
)

// Rebuilt is what came back of one project. Lacking are contents of versions that are in no pack; Unread are packs that can't be read.
type Rebuilt struct {
	Project  string   `json:"project"`
	Handoffs int      `json:"handoffs"`
	Versions int      `json:"versions"`
	Packs    int      `json:"packs"`
	Chunks   int      `json:"chunks"`
	Lacking  int      `json:"lacking"`
	Unread   []string `json:"unread"`
}

// Rebuild brings every project back from its packs alone, into a database without projects: content, history, and who handed off
// what. owner becomes the owner of each; whoever handed something off becomes an artist. What packs do not have (passphrases, roles,
// locks, workspaces, the record of other events) does not come back. Interrupted, it is begun anew with an empty database.
func (s *Room) Rebuild(ctx context.Context, owner string, progress func(what string, done, total int64)) ([]Rebuilt, error) {
	byProject := map[int64][]store.Info{}
	if err := s.Store.List(ctx, "p", func(i store.Info) error {
		id, _, _ := strings.Cut(i.Name[1:], "/")
		if n, err := strconv.ParseInt(id, 10, 32); err == nil && strings.HasSuffix(i.Name, ".pack") {
			byProject[n] = append(byProject[n], i)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	ids := make([]int64, 0, len(byProject))
	for id := range byProject {
		ids = append(ids, id)
	}
	sort.Slice(ids, func(i, j int) bool { return ids[i] < ids[j] })
	if err := s.Use(ctx, func(tx *records.Tx) error {
		list, err := tx.AllProjects(ctx)
		if err == nil && len(list) > 0 {
			err = model.NewProblem(model.Taken, "name an empty database with --db",
				"the database has projects already, and a rebuild needs one without")
		}
		return err
	}); err != nil {
		return nil, err
	}
	out := []Rebuilt{}
	for _, id := range ids {
		r := &rebuild{s: s, id: id, owner: owner, progress: progress, states: map[string]chain.Branch{}}
		if err := r.run(ctx, byProject[id]); err != nil {
			return out, fmt.Errorf("project %d: %w", id, err)
		}
		if r.out.Project != "" {
			out = append(out, r.out)
		}
	}
	return out, s.Write(ctx, func(tx *records.Tx) error { return tx.Restored(ctx) })
}

// rebuild is the work on one project.
type rebuild struct {
	s        *Room
	id       int64
	owner    string
	progress func(string, int64, int64)
	out      Rebuilt
	// history are the handoffs that came back, in the order of their numbers, which is one in which each comes behind its parents.
	history  []chain.Handoff
	roots    map[int]chunk.Digest
	branches map[string]int64
	// states are what is known of branches besides their handoffs, by name.
	states   map[string]chain.Branch
	releases []chain.Release
	people   map[string]int64
	contents map[chunk.Digest]int64
}

func (r *rebuild) run(ctx context.Context, packs []store.Info) error {
	err := r.readHistory(ctx, packs)
	if err != nil || len(r.history) == 0 {
		return err // content without a handoff: a project in which nothing was handed off
	}
	r.out.Project, r.out.Unread = r.history[0].Project, append([]string{}, r.out.Unread...)
	if err := r.s.Write(ctx, func(tx *records.Tx) error {
		if err := tx.RestoreProject(ctx, r.id, r.out.Project); err != nil {
			return err
		}
		return r.begin(ctx, tx)
	}); err != nil {
		return err
	}
	if err := r.indexPacks(ctx, packs); err != nil {
		return err
	}
	return r.replay(ctx)
}

// begin makes the branches that the history has, and those who handed off what members.
func (r *rebuild) begin(ctx context.Context, tx *records.Tx) (err error) {
	r.people, r.contents, r.branches = map[string]int64{}, map[chunk.Digest]int64{}, map[string]int64{}
	for _, h := range r.history {
		if r.branches[h.Branch] == 0 {
			if r.branches[h.Branch], err = tx.EnsureBranch(ctx, r.id, h.Branch, tree.Empty()); err != nil {
				return err
			}
		}
		if r.people[h.Author] == 0 {
			if r.people[h.Author], err = tx.EnsurePerson(ctx, h.Author); err != nil {
				return err
			}
			if err := tx.SetMember(ctx, r.id, r.people[h.Author], model.Artist); err != nil {
				return err
			}
		}
	}
	for name := range r.states {
		if r.branches[name] == 0 {
			if r.branches[name], err = tx.EnsureBranch(ctx, r.id, name, tree.Empty()); err != nil {
				return err
			}
		}
	}
	person, err := tx.EnsurePerson(ctx, r.owner)
	if err != nil {
		return err
	}
	return tx.SetMember(ctx, r.id, person, model.Owner)
}

// readHistory reads handoffs, and keeps those of which nothing is missing that they descend from, and tree nodes, which go to the database
// as they come: there may be more of them than memory.
func (r *rebuild) readHistory(ctx context.Context, packs []store.Info) error {
	nodes := map[chunk.Digest][]byte{}
	held := 0
	flush := func() error {
		if len(nodes) == 0 {
			return nil
		}
		err := r.s.Write(ctx, func(tx *records.Tx) error { return tx.AddNodes(ctx, r.id, nodes) })
		nodes, held = map[chunk.Digest][]byte{}, 0
		return err
	}
	byNumber := map[int]chain.Handoff{}
	stored, buf := make([]byte, chunk.Max), make([]byte, 0, chunk.Max)
	for i, info := range packs {
		r.progress(fmt.Sprintf("project %d: looking for its history", r.id), int64(i), int64(len(packs)))
		entries, o, err := r.s.index(ctx, info.Name)
		if err == nil {
			for _, e := range entries {
				if e.Kind != pack.Node && e.Kind != pack.Handoff && e.Kind != pack.Branch && e.Kind != pack.Release {
					continue
				}
				record := pack.Record{Kind: e.Kind, Digest: e.Digest, Codec: e.Codec, Size: e.Size, Data: stored[:e.Stored]}
				var data []byte
				if n, failed := o.ReadAt(record.Data, e.Offset); n < e.Stored {
					err = failed
				} else if data, err = record.Decode(buf); err == nil {
					err = r.take(e.Kind, e.Digest, data, nodes, byNumber)
				}
				if err != nil {
					break
				}
				if held += len(data); held > nodeBatch {
					if err := flush(); err != nil {
						_ = o.Close()
						return err
					}
				}
			}
		}
		if o != nil {
			_ = o.Close()
		}
		if err != nil && !beyondRepair(err) && !errors.Is(err, chain.ErrInvalid) {
			return err
		}
		if err != nil {
			r.out.Unread = append(r.out.Unread, info.Name)
		}
	}
	if err := flush(); err != nil {
		return err
	}
	r.history = whole(byNumber)
	return nil
}

// whole are the handoffs whose parents are there, and theirs, down to a first one, in the order of their numbers. A parent has a smaller
// number than its child.
func whole(byNumber map[int]chain.Handoff) (list []chain.Handoff) {
	numbers := make([]int, 0, len(byNumber))
	for n := range byNumber {
		numbers = append(numbers, n)
	}
	sort.Ints(numbers)
	digests := map[int]chunk.Digest{}
	for _, n := range numbers {
		h := byNumber[n]
		missing := len(h.Parents) == 0 && n != 1
		for _, parent := range h.Parents {
			missing = missing || digests[parent.Number] != parent.Digest || parent.Number >= n
		}
		if !missing {
			list = append(list, h)
			_, digests[n] = h.Encode()
		}
	}
	return list
}

// nodeBatch is how many bytes of tree nodes are held at once.
const nodeBatch = 16 << 20

func (r *rebuild) take(kind uint8, digest chunk.Digest, data []byte, nodes map[chunk.Digest][]byte, byNumber map[int]chain.Handoff) error {
	switch kind {
	case pack.Node:
		nodes[digest] = append([]byte(nil), data...)
		return nil
	case pack.Branch:
		b, err := chain.DecodeBranch(data)
		if err == nil && b.Turn > r.states[b.Name].Turn {
			r.states[b.Name] = *b
		}
		return err
	case pack.Release:
		released, err := chain.DecodeRelease(data)
		if err == nil {
			r.releases = append(r.releases, *released)
		}
		return err
	}
	h, err := chain.Decode(data)
	if err == nil {
		byNumber[h.Number] = *h
	}
	return err
}

// indexPacks makes the index of chunks and manifest nodes.
func (r *rebuild) indexPacks(ctx context.Context, packs []store.Info) error {
	for i, info := range packs {
		r.progress(r.out.Project+": packs", int64(i), int64(len(packs)))
		entries, o, err := r.s.index(ctx, info.Name)
		if o != nil {
			_ = o.Close()
		}
		if err != nil {
			if !beyondRepair(err) {
				return err
			}
			continue
		}
		if err := r.s.Write(ctx, func(tx *records.Tx) error { return tx.AddPack(ctx, r.id, info.Name, info.Size, entries) }); err != nil {
			return err
		}
		r.out.Packs++
		for _, e := range entries {
			if e.Kind == pack.Chunk {
				r.out.Chunks++
			}
		}
	}
	return nil
}

// replay makes the handoffs again, each from the difference of its tree and that of the one on whose line it is.
func (r *rebuild) replay(ctx context.Context) error {
	r.roots = map[int]chunk.Digest{}
	reader := r.s.Reader(r.id)
	defer reader.Close()
	for i, h := range r.history {
		r.progress(r.out.Project+": handoffs", int64(i+1), int64(len(r.history)))
		before := tree.Empty()
		if len(h.Parents) > 0 {
			before = r.roots[h.Parents[0].Number]
		}
		var diffs []tree.Difference
		var assets, size int64
		if err := r.s.Use(ctx, func(tx *records.Tx) error {
			forest := r.s.Forest(tx, r.id)
			if err := forest.Diff(ctx, before, h.Root, "", func(d tree.Difference) bool {
				diffs = append(diffs, d)
				return true
			}); err != nil {
				return err
			}
			var err error
			assets, size, err = forest.Sum(ctx, h.Root, "", "")
			return err
		}); err != nil {
			return fmt.Errorf("the tree of h%d can't be read: %w", h.Number, err)
		}
		if err := r.declare(ctx, reader, diffs); err != nil {
			return err
		}
		versions := r.out.Versions
		if err := r.s.Write(ctx, func(tx *records.Tx) error {
			r.out.Versions = versions // it may be tried again
			return r.write(ctx, tx, h, diffs, assets, size)
		}); err != nil {
			return err
		}
		r.roots[h.Number] = h.Root
		r.out.Handoffs++
	}
	if err := r.restoreBranches(ctx); err != nil {
		return err
	}
	if err := r.restoreReleases(ctx); err != nil {
		return err
	}
	return r.terms(ctx)
}

// terms takes over again what the rules say of locks. Rules that can't be read leave them as they are by themselves.
func (r *rebuild) terms(ctx context.Context) error {
	var c records.Content
	var there bool
	if err := r.s.Use(ctx, func(tx *records.Tx) error {
		p := records.Project{ID: r.id}
		branch, err := ground.Head(ctx, tx, p, "")
		if err == nil {
			c, _, there, err = r.s.ContentAt(ctx, tx, p, branch.Root, rules.File)
		}
		return err
	}); err != nil || !there {
		return err
	}
	text, err := r.s.RulesText(ctx, c)
	if err != nil {
		return nil
	}
	read, err := rules.Parse(text)
	if err != nil {
		return nil
	}
	return r.s.Write(ctx, func(tx *records.Tx) error { return tx.SetLockTerms(ctx, r.id, ruling.TermsOf(read), read.Tasks) })
}

// declare makes the contents known that a handoff brought.
func (r *rebuild) declare(ctx context.Context, reader *contents.Reader, diffs []tree.Difference) error {
	var list []records.Content
	var digests []chunk.Digest
	for _, d := range diffs {
		if d.To == nil || r.contents[d.To.Content] != 0 {
			continue
		}
		size := int64(0)
		err := manifest.Walk(ctx, reader.Load, d.To.Content, 0, nil, func(_ int64, ref chunk.Ref) error {
			size += int64(ref.Size)
			return nil
		})
		if err != nil {
			var problem *model.Problem
			if !errors.As(err, &problem) && !errors.Is(err, manifest.ErrInvalid) && err != io.EOF {
				return err
			}
			// It is named all the same: verify says what is missing of it, and a workspace may heal it.
			r.out.Lacking++
			size = d.To.Size
		}
		r.contents[d.To.Content] = -1
		list, digests = append(list, records.Content{Digest: d.To.Content, Size: size}), append(digests, d.To.Content)
	}
	return r.s.Write(ctx, func(tx *records.Tx) error {
		if err := tx.AddContents(ctx, r.id, list); err != nil {
			return err
		}
		found, err := tx.Contents(ctx, r.id, digests, false)
		for d, c := range found {
			r.contents[d] = c.ID
		}
		return err
	})
}

func (r *rebuild) write(ctx context.Context, tx *records.Tx, h chain.Handoff, diffs []tree.Difference, assets, size int64) error {
	if len(h.Parents) > 1 {
		return r.writeMerge(ctx, tx, h, diffs, assets, size)
	}
	_, digest := h.Encode()
	n := records.NewHandoff{Record: h, Digest: digest, Branch: r.branches[h.Branch], Author: r.people[h.Author], Assets: assets, Size: size}
	state := 0
	if len(h.Parents) > 0 {
		state = h.Parents[0].Number
	}
	left := map[int64]*tree.Entry{} // what is not where it was
	var ids []int64
	for _, d := range diffs {
		for _, e := range []*tree.Entry{d.From, d.To} {
			if e != nil {
				ids = append(ids, e.Asset)
			}
		}
		if d.From != nil && (d.To == nil || d.To.Asset != d.From.Asset) {
			left[d.From.Asset] = d.From
		}
	}
	tips, err := tx.Tips(ctx, r.id, state, ids)
	if err != nil {
		return err
	}
	var moved records.Moves
	ids = nil
	var paths, folded []string
	add := func(e *tree.Entry, v records.NewVersion) {
		v.Asset, v.Parents[0], v.Path, v.Folded, v.Renames = e.Asset, tips[e.Asset].Number, e.Spelling(), e.Key, true
		n.Versions = append(n.Versions, v)
		ids, paths, folded = append(ids, e.Asset), append(paths, v.Path), append(folded, v.Folded)
	}
	for _, d := range diffs {
		if e := d.To; e != nil {
			if from := left[e.Asset]; from != nil && from.Key != e.Key {
				moved.Add(e.Asset, e.Key)
				delete(left, e.Asset)
			}
			add(e, records.NewVersion{Number: e.Version, Content: r.contents[e.Content], Size: e.Size, Executable: e.Mode&tree.Executable != 0})
		}
	}
	for _, d := range diffs {
		// Versions are numbered in the order of handoffs, so that the number of one that goes, which no tree has, is the next one.
		if e := d.From; e != nil && left[e.Asset] == e {
			add(e, records.NewVersion{Number: tips[e.Asset].Numbered + 1})
		}
	}
	r.out.Versions += len(n.Versions)
	if err := tx.MovePaths(ctx, r.id, moved); err != nil {
		return err
	}
	if err := tx.RestoreAssets(ctx, r.id, ids, paths, folded); err != nil {
		return err
	}
	if err := tx.AddHandoffs(ctx, r.id, n); err != nil {
		return err
	}
	if err := tx.Packed(ctx, r.id, []int{h.Number}); err != nil {
		return err
	}
	return tx.SetHandoffs(ctx, r.id, h.Number)
}
