package workspace

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"sort"

	lru "github.com/hashicorp/golang-lru/v2"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/core/past"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/mainline"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/transfer"
)

// BringOptions say how a git history is brought in: commit by commit with History, else as one handoff of what is different since the last
// time. Over makes git's version the newest where something was handed off here since. Note is that of the one handoff. Branches brings
// all branches of the repository besides the one that is checked out.
type BringOptions struct {
	History  bool
	Over     bool
	Note     string
	Branches bool
}

// Brought is what came of it. Commits are those that were looked at, Since the one up to which all was here before. Unknown are authors
// whom no mail address makes a person of the service; Mapped are paths that no asset can have, with those that stand for them.
type Brought struct {
	Commits  int          `json:"commits"`
	Handoffs int          `json:"handoffs"`
	First    int          `json:"first,omitempty"`
	Last     int          `json:"last,omitempty"`
	Since    string       `json:"since,omitempty"`
	Head     string       `json:"head"`
	Unknown  []string     `json:"unknown_authors"`
	Mapped   []MappedPath `json:"mapped"`
	Versions int          `json:"versions"`
	// Branches are those that came besides, and Apart those that have no state in common with any that came, so that they did not.
	Branches []BroughtBranch `json:"branches,omitempty"`
	Apart    []string        `json:"apart,omitempty"`
}

// BroughtBranch is a branch in git, and the one that it is here: made at a handoff of another one, with so many of its own.
type BroughtBranch struct {
	Git      string `json:"git"`
	Branch   string `json:"branch"`
	At       int    `json:"at"`
	Handoffs int    `json:"handoffs"`
}

// MappedPath is a path in git and that of the asset which stands for it.
type MappedPath struct {
	Git   string `json:"git"`
	Asset string `json:"asset"`
}

// Bounds of what is posted at once, and of the contents that are remembered. It begins with few commits, and takes more each time: an
// interrupted run goes back as far as one post, which is never much of what is done.
const (
	pastFirst    = 25
	pastCommits  = 200
	pastChanges  = 2000
	pastBytes    = 256 << 20
	pastContents = 100_000
)

// BringPast makes handoffs of the repository's past, up to its present commit. It streams: contents go from git to the service a chunk at
// a time. Interrupted anywhere, the same again goes on behind the last commit that is whole at the service.
func (w *Workspace) BringPast(ctx context.Context, repo *mainline.Repo, r *rules.Rules, o BringOptions) (out *Brought, err error) {
	out = &Brought{Unknown: []string{}, Mapped: []MappedPath{}}
	if out.Head, err = repo.Commit(ctx, "HEAD"); err != nil {
		return out, model.NewProblem(model.NotFound, "make a first commit", "the git repository has no commit yet")
	}
	before, err := w.Client.Past(ctx, w.Marker.Project, "")
	if err != nil {
		return out, err
	}
	out.Since = before.Commit
	if before.Commit != "" {
		if err := onLine(ctx, repo, before); err != nil {
			return out, err
		}
	}
	b := &pastBringer{w: w, repo: repo, rules: r, out: out, over: o.Over, unknown: map[string]bool{}, mapped: map[string]string{}}
	b.onto("", "HEAD")
	if b.known, err = lru.New[string, pastContent](pastContents); err != nil {
		return out, err
	}
	if b.contents, err = repo.Contents(ctx); err != nil {
		return out, err
	}
	defer b.contents.Close()
	total := int64(0)
	since := []string{"HEAD", "--not", before.Commit}
	switch {
	case before.Commit == "":
		since = since[:1]
	case o.Branches:
		since = []string{"--branches", "--not", before.Commit}
	}
	if err := repo.Objects(ctx, since, func(x mainline.Object) error {
		if rel, ok := repo.Below(x.Path); x.Blob && ok && b.names.Wanted(assetpath.Fit(rel)) {
			total += x.Size
		}
		return nil
	}); err != nil {
		return out, err
	}
	w.Progress.Start("Bringing the past in", total)
	defer w.Progress.Done()
	if o.History {
		err = b.history(ctx, before.Commit)
	} else {
		err = b.snapshot(ctx, before.Commit, o.Note)
	}
	if settled := b.settle(); err == nil {
		err = settled
	}
	if err == nil && o.Branches {
		err = b.branches(ctx)
	}
	for name := range b.unknown {
		out.Unknown = append(out.Unknown, name)
	}
	sort.Strings(out.Unknown)
	maps.Copy(b.mapped, b.names.Mapped)
	for git, asset := range b.mapped {
		out.Mapped = append(out.Mapped, MappedPath{assetpath.Printable(git), asset})
	}
	sort.Slice(out.Mapped, func(i, j int) bool { return out.Mapped[i].Git < out.Mapped[j].Git })
	return out, err
}

// onLine refuses where the last commit that was brought is none of this line: another repository, or a past that was rewritten.
func onLine(ctx context.Context, repo *mainline.Repo, before model.Past) error {
	found := false
	if err := repo.Line(ctx, "HEAD", func(id string) error {
		found = found || id == before.Commit
		return nil
	}); err != nil {
		return err
	}
	if !found {
		return model.NewProblem(model.Taken, "check out the branch that it was brought from; a past that was rewritten since goes into a "+
			"project of its own",
			"the project has the past up to commit %s (h%d), and that is not on the first-parent line of this one", before.Commit[:12],
			before.Handoff)
	}
	return nil
}

// pastBringer is the work of one BringPast.
type pastBringer struct {
	// branch is where they go, "" for the workspace's, and revision what they lead to.
	branch, revision string
	// most is how many commits are posted at once, the next time.
	most     int
	w        *Workspace
	repo     *mainline.Repo
	rules    *rules.Rules
	out      *Brought
	over     bool
	names    *past.Names
	mapped   map[string]string // as of the branches before
	pinned   bool              // tarn.pin is in the tree: what goes from git now was moved over
	known    *lru.Cache[string, pastContent]
	contents *mainline.Contents
	cutter   *chunk.Cutter
	unknown  map[string]bool

	waiting []model.PastCommit
	changes int
	bytes   int64
	carry   *transfer.Carry
	// posted gets the answer to what is on its way; nil where nothing is.
	posted chan posted
}

// posted is what came of a request.
type posted struct {
	receipt model.PastReceipt
	err     error
}

// pastContent is what a content of git's is here.
type pastContent struct {
	content chunk.Digest
	size    int64
}

// onto begins with a branch.
func (b *pastBringer) onto(branch, revision string) {
	if b.names != nil {
		maps.Copy(b.mapped, b.names.Mapped)
	}
	b.branch, b.revision, b.most, b.pinned = branch, revision, pastFirst, false
	b.names = past.New(wantedBy(b.rules))
}

func (b *pastBringer) history(ctx context.Context, since string) error {
	skip := since != ""
	err := b.repo.Walk(ctx, b.revision, func(c mainline.Commit) error {
		steps := b.apply(c.Changes)
		if skip {
			skip = c.ID != since
			return nil
		}
		b.out.Commits++
		if len(steps) == 0 {
			return nil
		}
		at := c.At
		return b.take(ctx, model.PastCommit{Commit: c.ID, Name: c.Name, Mail: c.Mail, At: &at, Note: c.Message}, c.Changes, steps)
	})
	if err != nil {
		return err
	}
	return b.post(ctx)
}

// snapshot makes one handoff of all that is different.
func (b *pastBringer) snapshot(ctx context.Context, since, note string) error {
	if since != "" {
		then, err := b.repo.Difference(ctx, "", since)
		if err != nil {
			return err
		}
		b.apply(then.Changes)
	}
	if since == b.out.Head {
		return nil
	}
	c, err := b.repo.Difference(ctx, since, b.out.Head)
	if err != nil {
		return err
	}
	b.out.Commits = 1
	steps := b.apply(c.Changes)
	if len(steps) == 0 {
		return nil
	}
	if err := b.take(ctx, model.PastCommit{Commit: b.out.Head, Note: note}, c.Changes, steps); err != nil {
		return err
	}
	return b.post(ctx)
}

// apply follows a commit, and finds what it means for assets.
func (b *pastBringer) apply(changes []mainline.Change) []past.Step {
	list := make([]past.Change, len(changes))
	for i, c := range changes {
		list[i] = past.Change{Status: c.Status, Path: c.Path, From: c.From, File: c.Regular()}
		if c.Path == rules.Pin || c.From == rules.Pin {
			b.pinned = c.Path == rules.Pin && c.Status != 'D'
		}
	}
	return b.names.Apply(list, b.pinned)
}

// take reads what a commit brings, and puts it in line.
func (b *pastBringer) take(ctx context.Context, c model.PastCommit, changes []mainline.Change, steps []past.Step) error {
	for _, s := range steps {
		change := model.SendChange{Path: s.Path, MovedFrom: s.MovedFrom, Gone: s.Gone}
		if !s.Gone {
			from := changes[s.Of]
			content, err := b.content(ctx, from.Blob)
			if err != nil {
				return fmt.Errorf("%s in commit %s: %w", assetpath.Printable(from.Path), c.Commit[:12], err)
			}
			change.Content, change.Size, change.Executable = content.content, content.size, from.Executable()
			b.out.Versions++
		}
		c.Changes = append(c.Changes, change)
	}
	b.waiting, b.changes = append(b.waiting, c), b.changes+len(c.Changes)
	if len(b.waiting) < b.most && b.changes < pastChanges && b.bytes < pastBytes {
		return nil
	}
	return b.post(ctx)
}

// content brings a content of git's to the service, a chunk at a time, unless it was brought before.
func (b *pastBringer) content(ctx context.Context, blob string) (c pastContent, err error) {
	if c, ok := b.known.Get(blob); ok {
		return c, nil
	}
	size, body, err := b.contents.Open(ctx, blob)
	if err != nil {
		return c, err
	}
	if b.carry == nil {
		b.carry = b.w.way().Carry(nil)
	}
	if b.cutter == nil {
		b.cutter = chunk.NewCutter(body)
	}
	b.cutter.Reset(body)
	var refs index.Refs
	for {
		data, err := b.cutter.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return c, err
		}
		ref := chunk.Ref{Digest: chunk.Sum(data), Size: len(data)}
		refs = refs.Add(ref)
		c.size += int64(ref.Size)
		if err := b.carry.Add(ctx, pack.Chunk, ref.Digest, data); err != nil {
			return c, err
		}
	}
	if c.size != size {
		return c, fmt.Errorf("git gave %d of %d bytes: %w", c.size, size, io.ErrUnexpectedEOF)
	}
	if err := b.carry.Nodes(ctx, refs, nil); err != nil {
		return c, err
	}
	c.content = manifest.Root(refs.List())
	b.bytes += size
	b.known.Add(blob, c)
	return c, nil
}

// post waits for the content, and has the handoffs made while what comes behind them is read.
func (b *pastBringer) post(ctx context.Context) error {
	if len(b.waiting) == 0 {
		return nil
	}
	if err := b.settle(); err != nil {
		return err
	}
	if u := b.carry; u != nil {
		if err := u.End(ctx); err != nil {
			return err
		}
		u.Free()
		b.carry = nil
	}
	q := model.PastRequest{Workspace: b.w.Marker.Workspace, Branch: b.branch, Over: b.over, Commits: b.waiting}
	answer := make(chan posted, 1)
	go func() {
		receipt, err := b.w.Client.BringPast(ctx, b.w.Marker.Project, q)
		answer <- posted{receipt, err}
	}()
	b.posted, b.waiting, b.changes, b.bytes, b.most = answer, nil, 0, 0, min(2*b.most, pastCommits)
	return nil
}

// settle waits for what is on its way, and takes in what came of it.
func (b *pastBringer) settle() error {
	if b.posted == nil {
		return nil
	}
	p := <-b.posted
	if b.posted = nil; p.err != nil {
		return p.err
	}
	for _, h := range p.receipt.Handoffs {
		if h.Handoff == 0 {
			continue
		}
		b.out.Handoffs++
		if b.out.Last = h.Handoff; b.out.First == 0 {
			b.out.First = h.Handoff
		}
		if !h.Known {
			b.unknown[h.Author] = true
		}
	}
	return nil
}
