package service

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
func (s *Service) Rebuild(ctx context.Context, owner string, progress func(what string, done, total int64)) ([]Rebuilt, error) {
	byProject := map[int64][]store.Info{}
	if err := s.store.List(ctx, "p", func(i store.Info) error {
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
	if err := s.read(ctx, func(tx *records.Tx) error {
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
		r := &rebuild{s: s, id: id, owner: owner, progress: progress}
		if err := r.run(ctx, byProject[id]); err != nil {
			return out, fmt.Errorf("project %d: %w", id, err)
		}
		if r.out.Project != "" {
			out = append(out, r.out)
		}
	}
	return out, s.write(ctx, func(tx *records.Tx) error { return tx.Restored(ctx) })
}

// rebuild is the work on one project.
type rebuild struct {
	s        *Service
	id       int64
	owner    string
	progress func(string, int64, int64)
	out      Rebuilt
	branch   int64
	history  []chain.Handoff
	people   map[string]int64
	contents map[chunk.Digest]int64
}

func (r *rebuild) run(ctx context.Context, packs []store.Info) error {
	err := r.readHistory(ctx, packs)
	if err != nil || len(r.history) == 0 {
		return err // content without a handoff: a project in which nothing was handed off
	}
	r.out.Project, r.out.Unread = r.history[0].Project, append([]string{}, r.out.Unread...)
	r.people, r.contents = map[string]int64{}, map[chunk.Digest]int64{}
	if err := r.s.write(ctx, func(tx *records.Tx) (err error) {
		if r.branch, err = tx.RestoreProject(ctx, r.id, r.out.Project); err != nil {
			return err
		}
		for _, h := range r.history {
			if r.people[h.Author] == 0 {
				if r.people[h.Author], err = tx.EnsurePerson(ctx, h.Author); err != nil {
					return err
				}
				if err := tx.SetMember(ctx, r.id, r.people[h.Author], model.Artist); err != nil {
					return err
				}
			}
		}
		person, err := tx.EnsurePerson(ctx, r.owner)
		if err != nil {
			return err
		}
		return tx.SetMember(ctx, r.id, person, model.Owner)
	}); err != nil {
		return err
	}
	if err := r.indexPacks(ctx, packs); err != nil {
		return err
	}
	return r.replay(ctx)
}

// readHistory reads handoffs, and keeps the unbroken chain from the first on, and tree nodes, which go to the database as they come: there
// may be more of them than memory.
func (r *rebuild) readHistory(ctx context.Context, packs []store.Info) error {
	nodes := map[chunk.Digest][]byte{}
	held := 0
	flush := func() error {
		if len(nodes) == 0 {
			return nil
		}
		err := r.s.write(ctx, func(tx *records.Tx) error { return tx.AddNodes(ctx, r.id, nodes) })
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
				if e.Kind != pack.Node && e.Kind != pack.Handoff {
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
	var before chunk.Digest
	for n := 1; ; n++ {
		h, ok := byNumber[n]
		if !ok || n > 1 && (len(h.Parents) != 1 || h.Parents[0] != (chain.Parent{Number: n - 1, Digest: before})) {
			return nil
		}
		r.history = append(r.history, h)
		_, before = h.Encode()
	}
}

// nodeBatch is how many bytes of tree nodes are held at once.
const nodeBatch = 16 << 20

func (r *rebuild) take(kind uint8, digest chunk.Digest, data []byte, nodes map[chunk.Digest][]byte, byNumber map[int]chain.Handoff) error {
	if kind == pack.Node {
		nodes[digest] = append([]byte(nil), data...)
		return nil
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
		if err := r.s.write(ctx, func(tx *records.Tx) error { return tx.AddPack(ctx, r.id, info.Name, info.Size, entries) }); err != nil {
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

// replay makes the handoffs again, each from the difference of its tree and the one before.
func (r *rebuild) replay(ctx context.Context) error {
	before := tree.Empty()
	reader := r.s.chunkReader(r.id)
	defer reader.close()
	for _, h := range r.history {
		r.progress(r.out.Project+": handoffs", int64(h.Number), int64(len(r.history)))
		var diffs []tree.Difference
		var assets, size int64
		if err := r.s.read(ctx, func(tx *records.Tx) error {
			forest := r.s.forest(tx, r.id)
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
		if err := r.s.write(ctx, func(tx *records.Tx) error {
			r.out.Versions = versions // it may be tried again
			return r.write(ctx, tx, h, diffs, assets, size)
		}); err != nil {
			return err
		}
		before = h.Root
		r.out.Handoffs++
	}
	return r.terms(ctx)
}

// terms takes over again what the rules say of locks. Rules that can't be read leave them as they are by themselves.
func (r *rebuild) terms(ctx context.Context) error {
	var c records.Content
	var there bool
	if err := r.s.read(ctx, func(tx *records.Tx) (err error) {
		c, _, there, err = tx.ContentAt(ctx, r.id, rules.File)
		return err
	}); err != nil || !there {
		return err
	}
	text, err := r.s.rulesText(ctx, c)
	if err != nil {
		return nil
	}
	read, err := rules.Parse(text)
	if err != nil {
		return nil
	}
	return r.s.write(ctx, func(tx *records.Tx) error { return tx.SetTerms(ctx, r.id, termsOf(read), read.Tasks) })
}

// declare makes the contents known that a handoff brought.
func (r *rebuild) declare(ctx context.Context, reader *chunkReader, diffs []tree.Difference) error {
	var list []records.Content
	var digests []chunk.Digest
	for _, d := range diffs {
		if d.To == nil || r.contents[d.To.Content] != 0 {
			continue
		}
		size := int64(0)
		err := manifest.Walk(ctx, reader.load, d.To.Content, 0, nil, func(_ int64, ref chunk.Ref) error {
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
	return r.s.write(ctx, func(tx *records.Tx) error {
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
	_, digest := h.Encode()
	n := records.NewHandoff{Record: h, Digest: digest, Branch: r.branch, Author: r.people[h.Author], Assets: assets, Size: size}
	var ids []int64
	var paths, folded []string
	stays := map[int64]bool{}
	for _, d := range diffs {
		if d.To != nil {
			stays[d.To.Asset] = true
		}
	}
	for _, d := range diffs {
		if d.To == nil && stays[d.From.Asset] {
			continue // moved to another place
		}
		e := d.To
		if e == nil {
			e = d.From
		}
		v := records.NewVersion{Asset: e.Asset, Number: e.Version, Before: e.Version - 1, Path: e.Spelling(), Folded: e.Key,
			Executable: e.Mode&tree.Executable != 0}
		if d.To == nil {
			v.Number, v.Before, v.Executable = e.Version+1, e.Version, false
		} else {
			v.Content, v.Size = r.contents[e.Content], e.Size
		}
		n.Versions = append(n.Versions, v)
		ids, paths, folded = append(ids, e.Asset), append(paths, e.Spelling()), append(folded, e.Key)
	}
	r.out.Versions += len(n.Versions)
	if err := tx.FreePaths(ctx, r.id, ids, folded); err != nil {
		return err
	}
	if err := tx.RestoreAssets(ctx, r.id, ids, paths, folded); err != nil {
		return err
	}
	if err := tx.AddHandoff(ctx, r.id, n); err != nil {
		return err
	}
	if err := tx.Packed(ctx, r.id, []int{h.Number}); err != nil {
		return err
	}
	return tx.SetHandoffs(ctx, r.id, h.Number)
}
