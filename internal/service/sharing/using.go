package sharing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/kit"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
)

// ChangeKit uses a kit, brings a use to another release, or detaches it, as a handoff, or says with Preview what that would do. sendKey is
// the key of that handoff; the same key again gets the same answer.
func (s *Room) ChangeKit(ctx context.Context, actor ground.Actor, key string, q model.KitRequest, sendKey string) (out model.KitAnswer,
	err error) {
	out = model.KitAnswer{Changes: []model.KitAsset{}, Kept: []string{}, Refusals: []model.Refusal{}}
	if !q.Preview && ground.ValidID(sendKey) {
		// What was carried out is not planned again: the plan would be another one by now.
		if closed, err := s.SentBefore(ctx, actor, key, sendKey); err != nil || closed != nil {
			out.Handoff = closed
			return out, err
		}
	}
	q.Dir = strings.Trim(q.Dir, "/")
	if bad := assetpath.Check(q.Dir + "/" + kit.File); bad != nil {
		return out, model.NewProblem(model.BadRequest, bad.Remedy, "%s can't be the folder of a kit: %s", ground.Printable(q.Dir), bad.Message)
	}
	p, root, list, err := s.usesOn(ctx, actor, key, q.Branch, model.Artist)
	if err != nil {
		return out, err
	}
	work := &changing{s: s, actor: actor, q: q, out: &out, project: p, root: root}
	if err := work.find(list); err != nil {
		return out, err
	}
	switch {
	case q.Detach:
		err = work.detach()
	default:
		err = work.bring(ctx)
	}
	if err != nil {
		return out, err
	}
	return out, work.send(ctx, key, sendKey)
}

// changing is the work of one ChangeKit.
type changing struct {
	s       *Room
	actor   ground.Actor
	q       model.KitRequest
	out     *model.KitAnswer
	project records.Project
	root    chunk.Digest
	use     *use // as it is; nil where it is new
	changes []handoffs.Change
	words   string
	// maker is the project that made the kit, whose contents are wanted, and file the text of the use as it
	// travels, content what that is, and says what is in it; none where it goes.
	maker   string
	wanted  []chunk.Digest
	file    []pack.Record
	content chunk.Digest
	says    *kit.Use
	// moved says of assets of the release, by folded path, where they were in the release that is there; left has those places, folded, that
	// somebody else may take therefore.
	moved map[string]string
	left  map[string]bool
}

// find is the use of the folder that is meant.
func (c *changing) find(list []*use) error {
	folded := assetpath.Fold(c.q.Dir)
	for _, u := range list {
		there := assetpath.Fold(u.dir)
		switch {
		case there == folded:
			c.use = u
		case c.q.Kit != "" && (strings.HasPrefix(folded+"/", there+"/") || strings.HasPrefix(there+"/", folded+"/")):
			return model.NewProblem(model.Taken, "take a folder beside it", "%s holds %s already, and a kit does not lie in another one", u.dir,
				u.said.Name())
		}
	}
	switch {
	case c.q.Kit == "" && c.use == nil:
		return model.NewProblem(model.NotFound, "tarn kit list shows those that do", "%s does not come from a kit", c.q.Dir)
	case c.q.Kit != "" && c.use != nil:
		return model.NewProblem(model.Taken, "tarn kit update brings another release of it; another kit goes into another folder",
			"%s holds %s already", c.q.Dir, c.use.said.Name())
	}
	return nil
}

func (c *changing) detach() error {
	c.out.Use, c.out.Was = c.use.row(), c.use.said.Release
	c.changes = []handoffs.Change{{Path: c.use.file.Spelling(), Base: c.use.file.Version, Gone: true}}
	c.words = fmt.Sprintf("%s is detached from %s: ordinary assets from now on", c.q.Dir, c.use.said.Name())
	return nil
}

// bring makes the folder what a release is, but for what was changed in it.
func (c *changing) bring(ctx context.Context) error {
	name := c.q.Kit
	if c.use != nil {
		name = c.use.said.Name()
		c.out.Was = c.use.said.Release
	}
	maker, kitName, numbered, err := kit.ParseName(name)
	switch {
	case err != nil || maker == "" || numbered != 0:
		return model.NewProblem(model.BadRequest, "that looks like brinelight/lamp-parts", "%q names no kit of a project", ground.Printable(name))
	case maker == c.project.Key:
		return model.NewProblem(model.BadRequest, "copy the files where you want them twice", "%s makes this kit itself", maker)
	}
	r, err := c.s.released(ctx, c.actor, maker, kitName, c.q.To)
	if err != nil {
		return err
	}
	now := &kit.Use{Project: maker, Kit: kitName, Release: r.release.Number, Stay: c.q.Stay, Assets: make([]kit.Asset, len(r.assets))}
	if now.Handoff, err = chunk.ParseDigest(r.release.Digest); err != nil {
		return err
	}
	before := c.use
	if before != nil {
		if err := c.s.Use(ctx, func(tx *records.Tx) error { return c.s.known(ctx, tx, r.project, before) }); err != nil {
			return err
		}
		if err := c.moves(ctx, r); err != nil {
			return err
		}
	} else {
		before = &use{dir: c.q.Dir, said: &kit.Use{}}
		if err := c.s.Use(ctx, func(tx *records.Tx) error {
			before.here, err = c.s.below(ctx, tx, c.project, c.root, c.q.Dir)
			return err
		}); err != nil {
			return err
		}
	}
	came := map[string]bool{}
	for i, a := range r.assets {
		content, err := chunk.ParseDigest(a.Content)
		if err != nil {
			return err
		}
		now.Assets[i] = kit.Asset{Path: a.Path, Content: content}
		came[assetpath.Fold(a.Path)] = true
		if c.one(before, a, content) {
			c.wanted = append(c.wanted, content)
		}
	}
	for from := range c.left {
		came[from] = true // it is somewhere else now
	}
	for _, a := range before.said.Assets {
		e, there := before.here[assetpath.Fold(a.Path)]
		switch {
		case came[assetpath.Fold(a.Path)] || !there:
		case e.Content != a.Content:
			c.out.Kept = append(c.out.Kept, a.Path) // it is the team's own by now
		default:
			c.changes = append(c.changes, handoffs.Change{Path: e.Spelling(), Base: e.Version, Gone: true})
			c.out.Changes = append(c.out.Changes, model.KitAsset{Path: a.Path, Size: e.Size, Content: a.Content.String(), Change: "gone"})
		}
	}
	text, err := now.Encode()
	if err != nil {
		return err
	}
	c.content, c.file = recordsOf(text)
	c.out.Use = (&use{dir: c.q.Dir, said: now, here: before.here}).row()
	c.out.Use.Newest, c.out.Use.Changed = max(r.newest, now.Release), append([]string{}, c.out.Kept...)
	if c.use != nil && c.use.said.Release == now.Release && c.use.said.Stay == now.Stay && len(c.changes) == 0 {
		return model.NewProblem(model.BadRequest, "there is nothing to do", "%s has %s@%d already", c.q.Dir, name, now.Release)
	}
	c.words, c.says, c.maker = fmt.Sprintf("%s@%d in %s", name, now.Release, c.q.Dir), now, maker
	change := handoffs.Change{Path: c.q.Dir + "/" + kit.File, Content: c.content, Size: int64(len(text))}
	if c.use != nil {
		change.Path, change.Base = c.use.file.Spelling(), c.use.file.Version
	}
	c.changes = append(c.changes, change)
	return nil
}

// moves finds the assets of a release that were elsewhere in the one that is there, as far as the actor may look at that. One that would
// come to where something else stays, or leave its place to one that is new, is not moved: it goes from where it was, and comes where it
// is.
func (c *changing) moves(ctx context.Context, r released) error {
	c.moved, c.left = map[string]string{}, map[string]bool{}
	before, err := c.s.released(ctx, c.actor, c.use.said.Project, c.use.said.Kit, c.use.said.Release)
	var none *model.Problem
	if errors.As(err, &none) {
		return nil
	} else if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, a := range beside(before.assets, r.assets) {
		there[assetpath.Fold(a.Path)] = a.Change != "gone"
		if a.Change == "moved" {
			c.moved[assetpath.Fold(a.Path)] = a.Was
			if _, here := c.use.here[assetpath.Fold(a.Was)]; here {
				c.left[assetpath.Fold(a.Was)] = true
			}
		}
	}
	for again := true; again; {
		again = false
		for to, from := range c.moved {
			left := assetpath.Fold(from)
			_, taken := c.use.here[to]
			_, follows := c.moved[left]
			if to != left && (taken && !c.left[to] || there[left] && !follows) {
				delete(c.moved, to)
				delete(c.left, left)
				again = true
			}
		}
	}
	return nil
}

// one settles what becomes of an asset of the release, and says whether its content is wanted.
func (c *changing) one(before *use, a model.KitAsset, content chunk.Digest) bool {
	change := handoffs.Change{Path: c.q.Dir + "/" + a.Path, Content: content, Size: a.Size, Executable: a.Executable}
	from := a.Path
	if was, is := c.moved[assetpath.Fold(a.Path)]; is {
		from = was
	}
	e, there := before.here[assetpath.Fold(from)]
	old, cameBefore := before.said.Content(from)
	theirs := cameBefore && (!there || e.Content != old) // changed or taken away here: it is the team's own by now
	switch {
	case from != a.Path && there:
		// It follows to where it is in the kit now, also with what the team made of it.
		change.MovedFrom, change.Base, a.Change, a.Was = e.Spelling(), e.Version, "moved", from
		if theirs {
			change.Content, change.Size, change.Executable = e.Content, e.Size, e.Mode&tree.Executable != 0
			c.out.Kept = append(c.out.Kept, a.Path)
		}
	case there && e.Content == content && e.Mode&tree.Executable != 0 == a.Executable:
		return false
	case theirs:
		c.out.Kept = append(c.out.Kept, a.Path)
		return false
	case there && cameBefore:
		change.Path, change.Base, a.Change = e.Spelling(), e.Version, "changed"
	case there:
		c.out.Refusals = append(c.out.Refusals, model.Refusal{Path: e.Spelling(), Reason: "in-the-way",
			Message: e.Spelling() + ": it is there already, and did not come from the kit", Remedy: "move it, or take another folder"})
		return false
	default:
		a.Change = "new"
	}
	c.changes, c.out.Changes = append(c.changes, change), append(c.out.Changes, a)
	return change.Content == content
}

// recordsOf is a text as it travels, and the content that it is.
func recordsOf(text []byte) (content chunk.Digest, records []pack.Record) {
	var refs []chunk.Ref
	for cutter := chunk.NewCutter(bytes.NewReader(text)); ; {
		data, err := cutter.Next()
		if err != nil {
			break // at its end: nothing else goes wrong in memory
		}
		refs = append(refs, chunk.Ref{Digest: chunk.Sum(data), Size: len(data)})
		records = append(records, pack.Encode(pack.Chunk, refs[len(refs)-1].Digest, bytes.Clone(data)))
	}
	for _, node := range manifest.Build(refs) {
		content = node.Digest
		records = append(records, pack.Encode(pack.Manifest, node.Digest, node.Data))
	}
	return content, records
}

// send hands off what was planned, or says what would stand in the way.
func (c *changing) send(ctx context.Context, key, sendKey string) error {
	note := strings.TrimSpace(c.q.Note + "\n\n" + c.words)
	send := handoffs.Send{Key: sendKey, Workspace: c.q.Workspace, Branch: c.q.Branch, About: model.About{Note: note}, TakeFree: true,
		Older: true, Changes: c.changes}
	if err := c.unsent(ctx); err != nil {
		return err
	}
	lacking, err := c.lacking(ctx)
	if err != nil {
		return err
	}
	// What would be refused is refused before anything is copied, and with all that stands in the way.
	if c.q.Preview || len(c.out.Refusals) > 0 || len(lacking) > 0 {
		var refused *model.Refused
		if _, err := c.s.CheckSend(ctx, c.actor, key, handoffs.Question{Send: send}); errors.As(err, &refused) {
			c.out.Refusals = append(c.out.Refusals, refused.Refusals...)
		} else if err != nil {
			return err
		}
	}
	switch {
	case c.q.Preview:
		return nil
	case len(c.out.Refusals) > 0:
		return &model.Refused{Refusals: c.out.Refusals}
	}
	if err := c.s.copy(ctx, c.actor, c.maker, key, lacking); err != nil {
		return err
	}
	receipt, err := c.s.Send(ctx, c.actor, key, send, inTurn(c.file))
	if err != nil {
		return err
	}
	c.out.Handoff = &receipt.Handoff
	if c.says == nil {
		return nil
	}
	// It is handed off; whoever looks reads the file where this is not noted.
	if err := c.s.Write(ctx, func(tx *records.Tx) error {
		return tx.SetKitFile(ctx, c.project.ID, c.content, says(c.says))
	}); err != nil {
		c.s.Log.Warn("what the file of a use says could not be noted", "project", key, "error", err)
	}
	return nil
}

// inTurn gives records one after the other, nil for none.
func inTurn(list []pack.Record) func() (pack.Record, error) {
	if len(list) == 0 {
		return nil
	}
	return func() (pack.Record, error) {
		if len(list) == 0 {
			return pack.Record{}, io.EOF
		}
		r := list[0]
		list = list[1:]
		return r, nil
	}
}

// lacking are the contents that the project does not have yet; those that it has stay for long enough.
func (c *changing) lacking(ctx context.Context) (list []chunk.Digest, err error) {
	err = c.s.Use(ctx, func(tx *records.Tx) error {
		known, err := tx.Contents(ctx, c.project.ID, c.wanted, true)
		list = list[:0]
		for _, d := range c.wanted {
			if _, there := known[d]; !there {
				list = append(list, d)
			}
		}
		return err
	})
	return list, err
}

// unsent refuses over what somebody changed and did not send: it would be behind.
func (c *changing) unsent(ctx context.Context) error {
	touched := map[string]bool{}
	for _, change := range c.changes {
		touched[assetpath.Fold(change.Path)], touched[assetpath.Fold(change.MovedFrom)] = true, true
	}
	return c.s.Use(ctx, func(tx *records.Tx) error {
		heads, err := tx.HeadsUps(ctx, c.project.ID)
		for _, h := range heads {
			if touched[assetpath.Fold(h.Path)] {
				c.out.Refusals = append(c.out.Refusals, model.Refusal{Path: h.Path, Reason: "edited",
					Message: fmt.Sprintf("%s: %s has changes to it in %s that were not sent", h.Path, h.Handle, h.Workspace),
					Remedy:  "they send them, or put them away with tarn discard; then again"})
			}
		}
		return err
	})
}

// copyAtOnce is how much is held in memory while contents are copied between projects, in bytes.
const copyAtOnce = 16 << 20

// copy brings contents from one project to another that are not there yet. No client sees them.
func (s *Room) copy(ctx context.Context, actor ground.Actor, from, to string, list []chunk.Digest) error {
	load := func(ctx context.Context, digests []chunk.Digest) (blocks [][]byte, err error) {
		err = s.FetchChunks(ctx, actor, from, digests, func(r pack.Record) error {
			data, err := r.Decode(make([]byte, 0, chunk.Max))
			blocks = append(blocks, bytes.Clone(data))
			return err
		})
		return blocks, err
	}
	var waiting []chunk.Digest
	held := 0
	flush := func() error {
		missing, err := s.MissingChunks(ctx, actor, to, waiting)
		waiting, held = nil, 0
		if err != nil || len(missing) == 0 {
			return err
		}
		var taken []pack.Record
		if err := s.FetchChunks(ctx, actor, from, missing, func(r pack.Record) error {
			r.Data = bytes.Clone(r.Data)
			taken = append(taken, r)
			return nil
		}); err != nil {
			return err
		}
		if len(taken) > 0 {
			_, err = s.StoreChunks(ctx, actor, to, inTurn(taken))
		}
		return err
	}
	add := func(d chunk.Digest, size int) error {
		waiting = append(waiting, d)
		if held += size; held < copyAtOnce && len(waiting) < contents.MaxDigests {
			return nil
		}
		return flush()
	}
	seen := map[chunk.Digest]bool{}
	for _, content := range list {
		if seen[content] {
			continue
		}
		seen[content] = true
		if err := manifest.Walk(ctx, load, content, 0, func(d chunk.Digest) error { return add(d, 64<<10) },
			func(_ int64, ref chunk.Ref) error { return add(ref.Digest, ref.Size) }); err != nil {
			return err
		}
	}
	if len(waiting) == 0 {
		return nil
	}
	return flush()
}
