package keeping

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"golang.org/x/time/rate"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/store"
)

// VerifyOptions say how thoroughly to look. Deep reads and rehashes everything, at most Rate bytes a second (0 for no limit).
type VerifyOptions struct {
	Deep bool
	Rate int64
	// Progress, where not nil, is told what is looked at, and how many bytes of how many of it are done.
	Progress func(what string, done, total int64)
}

// Finding is one thing that is not as it should be. Versions are those that it touches, as path@vN.
type Finding struct {
	Project  string   `json:"project"`
	Kind     string   `json:"kind"`
	What     string   `json:"what"`
	Versions []string `json:"versions"`
}

// Verified is what verify looked at and found.
type Verified struct {
	Projects int       `json:"projects"`
	Packs    int       `json:"packs"`
	Chunks   int       `json:"chunks"`
	Contents int       `json:"contents"`
	Nodes    int       `json:"nodes"`
	Handoffs int       `json:"handoffs"`
	Read     int64     `json:"read"`
	Findings []Finding `json:"findings"`
	// Unused is damage that touches no version: collect takes it away.
	Unused int `json:"unused_damage"`
}

// Verify looks whether everything is there and is what it should be: the index against packs, contents against chunks, trees against nodes,
// handoffs against trees, claims against the newest ones. A chunk that is found damaged is set aside, so that nothing new is built on it.
// It is safe beside everything else that runs.
func (s *Room) Verify(ctx context.Context, o VerifyOptions) (*Verified, error) {
	v := &verification{s: s, o: o, out: &Verified{Findings: []Finding{}}}
	if o.Rate > 0 {
		v.limit = rate.NewLimiter(rate.Limit(o.Rate), int(max(o.Rate, 4<<20)))
	}
	var list []records.Project
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		list, err = tx.AllProjects(ctx)
		return err
	}); err != nil {
		return v.out, err
	}
	for _, p := range list {
		v.p, v.touched = p, map[chunk.Digest]bool{}
		v.out.Projects++
		for _, step := range []func(context.Context) error{v.packs, v.contents, v.handoffs, v.claims, v.kits} {
			if err := step(ctx); err != nil {
				return v.out, err
			}
		}
	}
	if v.anew {
		return v.out, s.KeepHistory(ctx)
	}
	return v.out, nil
}

// verification is one run of Verify.
type verification struct {
	s       *Room
	o       VerifyOptions
	out     *Verified
	limit   *rate.Limiter
	p       records.Project
	touched map[chunk.Digest]bool // damage that some version has
	anew    bool                  // some history has to be written to packs once more
}

func (v *verification) found(kind string, versions []string, what string, args ...any) {
	if versions == nil {
		versions = []string{}
	}
	v.out.Findings = append(v.out.Findings, Finding{Project: v.p.Key, Kind: kind, What: fmt.Sprintf(what, args...), Versions: versions})
}

func (v *verification) progress(what string, done, total int64) {
	if v.o.Progress != nil {
		v.o.Progress(v.p.Key+": "+what, done, total)
	}
}

// verifyPage is how many rows are looked at with one question.
const verifyPage = 1000

// packs compares the index with the packs. What it finds shows in contents, which knows what it touches.
func (v *verification) packs(ctx context.Context) error {
	var total, done int64
	if err := v.s.Use(ctx, func(tx *records.Tx) (err error) {
		total, err = tx.Stored(ctx, v.p.ID)
		return err
	}); err != nil {
		return err
	}
	after := int64(0)
	for {
		var page []records.PackRow
		if err := v.s.Use(ctx, func(tx *records.Tx) (err error) {
			page, err = tx.Packs(ctx, v.p.ID, after, verifyPage)
			return err
		}); err != nil || len(page) == 0 {
			return err
		}
		for _, row := range page {
			after = row.ID
			v.progress("packs", done, total)
			if err := v.pack(ctx, row); err != nil {
				return err
			}
			done += row.Size
		}
	}
}

// pack looks at one pack. A condemned one is on its way out.
func (v *verification) pack(ctx context.Context, row records.PackRow) error {
	if row.Condemned != nil || row.Chunks == 0 && !row.History {
		return nil
	}
	v.out.Packs++
	var rows []pack.Entry
	if err := v.s.Use(ctx, func(tx *records.Tx) (err error) {
		rows, err = tx.ChunksOfPack(ctx, row.ID)
		return err
	}); err != nil {
		return err
	}
	v.out.Chunks += len(rows)
	entries, o, err := v.s.index(ctx, row.Name)
	if o != nil {
		defer o.Close()
	}
	if err != nil {
		if !beyondRepair(err) {
			return v.s.Explain(err)
		}
		stands := false
		if err := v.s.Use(ctx, func(tx *records.Tx) (err error) {
			stands, err = tx.PackStands(ctx, row.ID)
			return err
		}); err != nil || !stands {
			return err // collect has moved it meanwhile
		}
		return v.lost(ctx, row, rows, err)
	}
	at := make(map[chunk.Digest]pack.Entry, len(entries))
	for _, e := range entries {
		at[e.Digest] = e
	}
	for _, e := range rows {
		if at[e.Digest] != e {
			v.s.SetAside(ctx, v.p.ID, records.Place{Pack: row.Name, Entry: e}, fmt.Errorf("the pack's index says otherwise: %w", pack.ErrDamaged))
		}
	}
	if !v.o.Deep {
		return nil
	}
	used := rows
	if row.History {
		used = entries
	}
	return v.deep(ctx, row, o, used)
}

// index reads the index of a pack. The caller closes the object, where there is one.
func (s *Room) index(ctx context.Context, name string) ([]pack.Entry, store.Object, error) {
	o, err := s.Store.Open(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	entries, err := pack.ReadIndex(o, o.Size())
	return entries, o, err
}

// beyondRepair tells damage from a store that does not answer.
func beyondRepair(err error) bool {
	return errors.Is(err, pack.ErrDamaged) || errors.Is(err, store.ErrNotFound) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF)
}

// lost handles a pack that is missing or has no readable index: what can still be read of it by the database's own index stays.
func (v *verification) lost(ctx context.Context, row records.PackRow, rows []pack.Entry, cause error) error {
	if row.History {
		return v.historyAnew(ctx, row.Name, cause)
	}
	o, err := v.s.Store.Open(ctx, row.Name)
	if err == nil {
		defer o.Close()
		// The records may be sound where only the pack's own index is not.
		if err := v.deep(ctx, row, o, rows); err != nil {
			return err
		}
		v.found("pack", nil, "the index of pack %s can't be read (%v); what is sound in it is written to a new pack", row.Name, cause)
		c := &collection{s: v.s, p: v.p, out: &Collected{}}
		return c.rewriteGroup(ctx, []records.PackRow{row}, false)
	}
	if !beyondRepair(err) {
		return err
	}
	for _, e := range rows {
		v.s.SetAside(ctx, v.p.ID, records.Place{Pack: row.Name, Entry: e}, cause)
	}
	return nil
}

// historyAnew has the history written to packs once more: the database has all of it.
func (v *verification) historyAnew(ctx context.Context, name string, cause error) error {
	v.found("history", nil, "pack %s of the history can't be read (%v); the history is written to a new pack", name, cause)
	err := v.s.Write(ctx, func(tx *records.Tx) error {
		if err := tx.WriteHistoryAnew(ctx, v.p.ID); err != nil {
			return err
		}
		return tx.ForgetHistoryPack(ctx, name)
	})
	v.anew = true
	return err
}

// deep reads records back and checks each against its digest.
func (v *verification) deep(ctx context.Context, row records.PackRow, o store.Object, entries []pack.Entry) error {
	stored, buf := make([]byte, chunk.Max), make([]byte, 0, chunk.Max)
	for _, e := range entries {
		if v.limit != nil {
			if err := v.limit.WaitN(ctx, e.Stored); err != nil {
				return err
			}
		}
		n, err := o.ReadAt(stored[:e.Stored], e.Offset)
		if n == e.Stored {
			r := pack.Record{Kind: e.Kind, Digest: e.Digest, Codec: e.Codec, Size: e.Size, Data: stored[:n]}
			_, err = r.Decode(buf)
		}
		v.out.Read += int64(n)
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if !beyondRepair(err) {
			return err
		}
		if row.History {
			return v.historyAnew(ctx, row.Name, err)
		}
		v.s.SetAside(ctx, v.p.ID, records.Place{Pack: row.Name, Entry: e}, err)
	}
	return nil
}

// contents walks every manifest and sees that all its nodes and chunks are there.
func (v *verification) contents(ctx context.Context) error {
	r := v.s.Reader(v.p.ID)
	defer r.Close()
	if err := v.s.EachContent(ctx, v.p.ID, r, func(c records.Content) error {
		v.out.Contents++
		v.progress("contents", int64(v.out.Contents), 0)
		return v.content(ctx, r, c)
	}); err != nil {
		return err
	}
	var damaged []chunk.Digest
	if err := v.s.Use(ctx, func(tx *records.Tx) (err error) {
		damaged, err = tx.Damaged(ctx, v.p.ID, 1<<30)
		return err
	}); err != nil {
		return err
	}
	for _, d := range damaged {
		if !v.touched[d] {
			v.out.Unused++
		}
	}
	return nil
}

func (v *verification) content(ctx context.Context, r *contents.Reader, c records.Content) error {
	lacking, size := 0, int64(0)
	var refs []chunk.Ref
	look := func() error {
		digests := make([]chunk.Digest, len(refs))
		for i, ref := range refs {
			digests[i] = ref.Digest
		}
		here := map[chunk.Digest]records.Place{}
		if err := v.s.Use(ctx, func(tx *records.Tx) (err error) {
			here, err = tx.Places(ctx, v.p.ID, digests)
			return err
		}); err != nil {
			return err
		}
		for _, ref := range refs {
			if at, ok := here[ref.Digest]; !ok || at.Size != ref.Size {
				lacking++
				v.touched[ref.Digest] = true
			}
		}
		refs = refs[:0]
		return nil
	}
	err := manifest.Walk(ctx, r.Load, c.Digest, 0, nil, func(_ int64, ref chunk.Ref) error {
		size += int64(ref.Size)
		if refs = append(refs, ref); len(refs) < verifyPage {
			return nil
		}
		return look()
	})
	if err == nil {
		err = look()
	}
	var problem *model.Problem
	switch {
	case errors.As(err, &problem) && (problem.Type == model.ChunksMissing || problem.Type == model.Damaged),
		errors.Is(err, manifest.ErrInvalid):
		if problem != nil {
			for _, text := range problem.Missing {
				if d, err := chunk.ParseDigest(text); err == nil {
					v.touched[d] = true
				}
			}
		}
		return v.touches(ctx, c, "manifest", fmt.Sprintf("the manifest of content %s can't be read: %v", c.Digest, err))
	case err != nil:
		return err
	case lacking == 1:
		return v.touches(ctx, c, "chunk", fmt.Sprintf("a chunk of content %.16s is damaged or missing", c.Digest.String()))
	case lacking > 1:
		return v.touches(ctx, c, "chunk", fmt.Sprintf("%d chunks of content %.16s are damaged or missing", lacking, c.Digest.String()))
	case size != c.Size:
		return v.touches(ctx, c, "content", fmt.Sprintf("content %s has %d bytes, and the index says %d", c.Digest, size, c.Size))
	}
	return nil
}

func (v *verification) touches(ctx context.Context, c records.Content, kind, what string) error {
	return v.s.Use(ctx, func(tx *records.Tx) error {
		versions, err := tx.VersionsWith(ctx, v.p.ID, c.ID)
		if err != nil {
			return err
		}
		if len(versions) == 0 {
			v.out.Unused++ // a send that was given up
			return nil
		}
		v.found(kind, versions, "%s", what)
		return nil
	})
}

// handoffs follows the chain: each handoff is named by the digest of what it says, follows the one that it names, leads to a tree that is
// whole, and did to that tree what its versions say.
// kits looks whether releases are of handoffs that are there, and can be told what is in them.
func (v *verification) kits(ctx context.Context) error {
	return v.s.Use(ctx, func(tx *records.Tx) error {
		lost, err := tx.LostReleases(ctx, v.p.ID)
		for _, r := range lost {
			v.found("kit", nil, "%s@%d is of h%d, which is not there", r.Kit, r.Number, r.Handoff)
		}
		if err != nil {
			return err
		}
		list, err := tx.KitReleases(ctx, v.p.ID, "")
		for _, r := range list {
			if _, bad := rules.KitOf(r.Kit, r.Match); bad != nil {
				v.found("kit", nil, "what is in %s@%d can't be told: %v", r.Kit, r.Number, bad)
			}
		}
		return err
	})
}

func (v *verification) handoffs(ctx context.Context) error {
	seen := map[chunk.Digest]bool{tree.Empty(): true}
	before := map[int]chunk.Digest{} // digests of handoffs
	roots := map[int]chunk.Digest{}
	for next := 1; ; {
		var page []chain.Handoff
		if err := v.s.Use(ctx, func(tx *records.Tx) (err error) {
			page, err = tx.Chain(ctx, v.p.ID, next, verifyPage)
			return err
		}); err != nil || len(page) == 0 {
			return err
		}
		for _, h := range page {
			next = h.Number + 1
			v.out.Handoffs++
			v.progress("handoffs", int64(h.Number), int64(v.p.Handoffs))
			_, digest := h.Encode()
			before[h.Number], roots[h.Number] = digest, h.Root
			if err := v.handoff(ctx, h, digest, before, roots, seen); err != nil {
				return err
			}
		}
	}
}

func (v *verification) handoff(ctx context.Context, h chain.Handoff, digest chunk.Digest, before, roots map[int]chunk.Digest,
	seen map[chunk.Digest]bool) error {
	return v.s.Use(ctx, func(tx *records.Tx) error {
		kept, err := tx.HandoffDigest(ctx, v.p.ID, h.Number)
		if err != nil {
			return err
		}
		if kept != digest {
			v.found("handoff", nil, "h%d is not what its digest %s says", h.Number, kept)
		}
		from := tree.Empty()
		for _, parent := range h.Parents {
			if before[parent.Number] != parent.Digest {
				v.found("handoff", nil, "h%d follows h%d with another digest than that one has", h.Number, parent.Number)
			}
		}
		if len(h.Parents) > 0 {
			from = roots[h.Parents[0].Number] // it did what it did to the line that it is on
		}
		forest := tree.NewForest(func(ctx context.Context, digests []chunk.Digest) ([]*tree.Node, error) {
			return v.nodes(ctx, tx, digests, seen)
		})
		want := map[string]tree.Difference{}
		if err := forest.Diff(ctx, from, h.Root, "", func(d tree.Difference) bool {
			want[d.Key] = d
			return true
		}); err != nil {
			if errors.Is(err, errNode) || errors.Is(err, tree.ErrInvalid) {
				v.found("tree", nil, "the tree of h%d can't be read: %v", h.Number, err)
				return nil
			}
			return err
		}
		stays, was := map[int64]bool{}, map[int64]*tree.Entry{}
		for _, d := range want {
			if d.To != nil {
				stays[d.To.Asset] = true
			}
			if d.From != nil {
				was[d.From.Asset] = d.From
			}
		}
		for key, d := range want {
			if d.To == nil && stays[d.From.Asset] {
				delete(want, key) // moved to another place
			}
		}
		// A tree that shares nodes with its parent was looked through with that; the rest was just now.
		rows, err := tx.VersionsOf(ctx, v.p.ID, h.Number)
		if err != nil {
			return err
		}
		for _, row := range rows {
			folded := assetpath.Fold(row.Path)
			d, ok := want[folded]
			delete(want, folded)
			if !ok && row.Gone && len(h.Parents) > 1 {
				continue // it is on neither side any more
			}
			same := ok && (d.To == nil) == row.Gone
			if same && d.To != nil {
				same = d.To.Asset == row.Asset && d.To.Version == row.Number && d.To.Content == row.Content && d.To.Spelling() == row.Path &&
					(d.To.Mode&tree.Executable != 0) == row.Executable
			} else if same {
				same = d.From.Asset == row.Asset
			}
			if e := was[row.Asset]; same && e != nil {
				same = row.Number > e.Version && slices.Contains(row.Parents, e.Version)
			}
			if !same {
				v.found("version", []string{fmt.Sprintf("%s@v%d", row.Path, row.Number)}, "h%d says of %s something else than its tree", h.Number,
					row.Path)
			}
		}
		if err := v.came(ctx, tx, h, forest, roots, want, was); err != nil {
			return err
		}
		for key := range want {
			v.found("version", nil, "the tree of h%d changes %s, and the handoff does not say so", h.Number, key)
		}
		return nil
	})
}

// came looks whether what a merge is said to have brought is what its tree has, and the tree that it came from; what is, is taken out of
// want.
func (v *verification) came(ctx context.Context, tx *records.Tx, h chain.Handoff, forest *tree.Forest, roots map[int]chunk.Digest,
	want map[string]tree.Difference, was map[int64]*tree.Entry) error {
	list, err := tx.CameOf(ctx, v.p.ID, h.Number)
	if err != nil || len(list) == 0 {
		return err
	}
	keys := map[int64]string{}
	for key, d := range want {
		if d.To != nil {
			keys[d.To.Asset] = key
		} else {
			keys[d.From.Asset] = key
		}
	}
	there := map[string]tree.Entry{}
	if len(h.Parents) > 1 {
		all := make([]string, 0, len(keys))
		for _, key := range keys {
			all = append(all, key)
		}
		if there, err = forest.Get(ctx, roots[h.Parents[1].Number], all); err != nil {
			return err
		}
	}
	for _, c := range list {
		key := keys[c.Asset]
		d, ok := want[key]
		e, has := there[key]
		delete(want, key)
		same := ok
		if same && d.To != nil {
			same = has && e == *d.To && d.To.Version == c.Number
		} else if same {
			same = !has || e.Asset != c.Asset
		}
		if before := was[c.Asset]; same && before != nil {
			same = before.Version == c.Before && c.Number > c.Before
		}
		if !same {
			v.found("version", nil, "h%d says that version %d of %s came with it, and its tree has something else", h.Number, c.Number, key)
		}
	}
	return nil
}

// errNode is a node that is missing or damaged.
var errNode = errors.New("a node of the tree is missing or damaged")

// nodes reads nodes without the cache, each checked against its digest.
func (v *verification) nodes(ctx context.Context, tx *records.Tx, digests []chunk.Digest,
	seen map[chunk.Digest]bool) ([]*tree.Node, error) {
	found, err := tx.Nodes(ctx, v.p.ID, digests)
	if err != nil {
		return nil, err
	}
	out := make([]*tree.Node, len(digests))
	for i, d := range digests {
		data, ok := found[d]
		if !ok || chunk.Sum(data) != d {
			return nil, fmt.Errorf("%w: %s", errNode, d)
		}
		if out[i], err = tree.Decode(data); err != nil {
			return nil, err
		}
		if !seen[d] {
			seen[d] = true
			v.out.Nodes++
		}
	}
	return out, nil
}

// scrubPause is how long the service rests between two looks at everything.
const scrubPause = time.Hour

// Scrub reads everything through, again and again, at a rate in bytes a second, until ctx ends. What it finds goes to the log, and is
// healed like any other damage.
func (s *Room) Scrub(ctx context.Context, bytesPerSecond int64) {
	for ctx.Err() == nil {
		start := time.Now()
		out, err := s.Verify(ctx, VerifyOptions{Deep: true, Rate: bytesPerSecond})
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			s.Log.Error("the scrub broke off; it starts again later", "error", err)
		default:
			for _, f := range out.Findings {
				s.Log.Error("the scrub found damage", "project", f.Project, "kind", f.Kind, "what", f.What, "versions", f.Versions)
			}
			s.Log.Info("the scrub is through", "read", out.Read, "packs", out.Packs, "findings", len(out.Findings), "took",
				time.Since(start).String())
		}
		select {
		case <-ctx.Done():
		case <-time.After(scrubPause):
		}
	}
}
