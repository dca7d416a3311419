package keeping

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"kettletarn/internal/core/archive"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/core/point"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/text"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Imported is what came in. Known are people of the file who are people here; Named those who are not, and whose work stays under their
// name.
type Imported struct {
	Project    string   `json:"project"`
	From       string   `json:"from"`
	Handoffs   int      `json:"handoffs"`
	Versions   int      `json:"versions"`
	Contents   int      `json:"contents"`
	Bytes      int64    `json:"bytes"`
	Branches   int      `json:"branches"`
	Milestones int      `json:"milestones"`
	Reviews    int      `json:"reviews"`
	Known      []string `json:"known"`
	Named      []string `json:"named"`
}

// ImportOptions say who owns the project, and under which key it comes in: "" for the one that it has.
type ImportOptions struct{ Owner, Key string }

// Import brings a project in from a file (package archive), with its whole past, under its own key or another one. Nobody sees it before
// all of it is there and every entry was held to its digest; what is left of one that was broken off is taken away by the next, or by
// collect.
func (s *Room) Import(ctx context.Context, file io.Reader, o ImportOptions, progress func(what string, done, total int64)) (*Imported,
	error) {
	i := &importing{s: s, o: o, progress: progress, contents: map[string]root{}, chunks: map[chunk.Digest]bool{}, states: map[int]state{},
		out: &Imported{Known: []string{}, Named: []string{}}}
	err := i.run(ctx, file)
	if err != nil && i.r != nil {
		if left := s.purge(context.WithoutCancel(ctx), records.Project{ID: i.r.id, Key: i.key}, &Collected{}); left != nil {
			s.Log.Warn("what is left of a project that did not come in goes in seven days", "error", left)
		}
	}
	if errors.Is(err, archive.ErrInvalid) {
		err = model.NewProblem(model.BadRequest, "download it again: tarn project download goes on where it stopped", "%v", err)
	}
	return i.out, s.Explain(err)
}

// root is a content as it is here.
type root struct {
	digest chunk.Digest
	size   int64
}

// state is a handoff that came.
type state struct{ root, digest chunk.Digest }

// importing is the work on one file. It is the visitor of what the file has.
type importing struct {
	s        *Room
	o        ImportOptions
	progress func(string, int64, int64)
	key      string
	r        *rebuild
	out      *Imported

	contents map[string]root
	chunks   map[chunk.Digest]bool // those that are in packs, or in the next one
	queue    []pack.Record
	queued   int

	handoffs []archive.Handed
	records  map[string][]byte
	states   map[int]state
	assets   map[int64]int64  // ids of the file, as they are here
	places   map[string]int64 // which asset of here was at a place as which version
	known    map[string]int64 // people of here
	owner    int64
}

// packSize is about how many bytes one pack gets.
const packSize = 48 << 20

func (i *importing) run(ctx context.Context, file io.Reader) error {
	i.records = map[string][]byte{}
	if err := archive.Read(ctx, file, i); err != nil {
		return err
	}
	if err := i.put(ctx); err != nil {
		return err
	}
	if len(i.handoffs) == 0 {
		return fmt.Errorf("nothing was handed off in it: %w", archive.ErrInvalid)
	}
	for _, step := range []func(context.Context) error{i.people, i.trees, i.branches, func(ctx context.Context) error {
		if err := i.s.Write(ctx, func(tx *records.Tx) error { return i.r.begin(ctx, tx) }); err != nil {
			return err
		}
		return i.r.replay(ctx)
	}, i.rest} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	i.out.Project, i.out.Handoffs, i.out.Versions, i.out.Contents = i.key, i.r.out.Handoffs, i.r.out.Versions, len(i.contents)
	return nil
}

// About makes the project.
func (i *importing) About(ctx context.Context, a archive.About) error {
	i.key, i.out.From = cmp.Or(i.o.Key, a.Project), text.Line(a.Service)
	if !model.ValidKey(i.key) {
		return model.NewProblem(model.BadRequest, "name another one with --key", "%q can't be a project's key", ground.Printable(i.key))
	}
	var left records.Project
	if err := i.s.Use(ctx, func(tx *records.Tx) error {
		known, err := tx.KnownPeople(ctx, []string{i.o.Owner})
		if err != nil {
			return err
		}
		if i.owner = known[i.o.Owner]; i.owner == 0 {
			return model.NewProblem(model.NotFound, "tarnd person list shows everybody", "there is no person %q", ground.Printable(i.o.Owner))
		}
		if left, err = tx.LeftComing(ctx, i.key); errors.Is(err, records.ErrNotFound) {
			err = nil
		}
		return err
	}); err != nil {
		return err
	}
	if left.ID != 0 {
		if err := i.s.purge(ctx, left, &Collected{}); err != nil {
			return err
		}
	}
	var id int64
	err := i.s.Write(ctx, func(tx *records.Tx) (err error) {
		id, err = tx.AddComing(ctx, i.key)
		return err
	})
	if records.Duplicate(err) {
		return model.NewProblem(model.Taken, "name another one with --key", "there is a project %s already", i.key)
	}
	if err == nil {
		i.r = &rebuild{s: i.s, id: id, owner: i.o.Owner, progress: i.progress, states: map[string]chain.Branch{}}
		i.r.out.Project = i.key
	}
	return err
}

// Content cuts a content and puts what is new of it into packs.
func (i *importing) Content(ctx context.Context, name string, size int64, r io.Reader) error {
	i.progress("contents", i.out.Bytes, 0)
	if _, there := i.contents[name]; there || name == "" || i.r == nil {
		return fmt.Errorf("content %q is out of place: %w", text.Line(name), archive.ErrInvalid)
	}
	cutter := chunk.NewCutter(r)
	var refs []chunk.Ref
	for {
		data, err := cutter.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		ref := chunk.Ref{Digest: chunk.Sum(data), Size: len(data)}
		refs = append(refs, ref)
		if err := i.add(ctx, pack.Chunk, ref.Digest, data); err != nil {
			return err
		}
	}
	for _, node := range manifest.Build(refs) {
		if err := i.add(ctx, pack.Manifest, node.Digest, node.Data); err != nil {
			return err
		}
	}
	i.contents[name] = root{manifest.Root(refs), size}
	i.out.Bytes += size
	return nil
}

func (i *importing) add(ctx context.Context, kind uint8, digest chunk.Digest, data []byte) error {
	if i.chunks[digest] {
		return nil
	}
	i.chunks[digest] = true
	record := pack.Encode(kind, digest, data)
	i.queue, i.queued = append(i.queue, record), i.queued+len(record.Data)
	if i.queued < packSize {
		return nil
	}
	return i.put(ctx)
}

// put writes a pack of what is queued, and makes it known.
func (i *importing) put(ctx context.Context) error {
	if len(i.queue) == 0 {
		return nil
	}
	name, size, entries, err := i.s.PutPack(ctx, i.r.id, func() (pack.Record, error) {
		if len(i.queue) == 0 {
			return pack.Record{}, io.EOF
		}
		r := i.queue[0]
		i.queue = i.queue[1:]
		return r, nil
	})
	if err != nil {
		return err
	}
	i.queue, i.queued = nil, 0
	return i.s.Write(ctx, func(tx *records.Tx) error { return tx.AddPack(ctx, i.r.id, name, size, entries) })
}

// Handoff keeps a handoff, once what it says holds together.
func (i *importing) Handoff(_ context.Context, h archive.Handed) error {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("h%d: %s: %w", h.Number, fmt.Sprintf(format, args...), archive.ErrInvalid)
	}
	if n := len(i.handoffs); n > 0 && h.Number <= i.handoffs[n-1].Number || len(h.Parents) > 2 || len(h.Parents) == 0 && h.Number != 1 {
		return wrong("it is out of place")
	}
	for _, p := range h.Parents {
		if _, found := slices.BinarySearchFunc(i.handoffs, p, func(b archive.Handed, n int) int { return b.Number - n }); !found {
			return wrong("it is made on h%d, which does not come before", p)
		}
	}
	if err := point.CheckBranch(h.Branch); err != nil {
		return wrong("%v", err)
	}
	if h.Author == "" || len(h.Note) > ground.MaxNote || !utf8.ValidString(h.Note+h.Author+h.Stage) || h.At.Year() < 1970 ||
		h.At.Year() > 9999 {
		return wrong("its author, note or time is none")
	}
	for _, c := range h.Changes {
		if problem := assetpath.Check(c.Path); problem != nil {
			return wrong("%s", problem.Message)
		}
		if c.Gone {
			continue
		}
		if r, there := i.contents[c.Content]; !there || r.size != c.Size {
			return wrong("there is no content of %s", c.Path)
		}
		if c.Asset < 1 || c.Version < 1 {
			return wrong("%s is no version of an asset", c.Path)
		}
	}
	i.handoffs = append(i.handoffs, h)
	return nil
}

// Record keeps what is read when all is there.
func (i *importing) Record(_ context.Context, name string, text []byte) error {
	i.records[name] = text
	return nil
}

// read reads what is recorded; what is not there is nothing.
func (i *importing) read(name string, into any) error {
	text, there := i.records[name+".json"]
	if !there {
		return nil
	}
	if err := json.Unmarshal(text, into); err != nil {
		return fmt.Errorf("%s can't be read: %w", name, archive.ErrInvalid)
	}
	return nil
}

// people finds who of the file is somebody here.
func (i *importing) people(ctx context.Context) error {
	named := map[string]bool{}
	for _, h := range i.handoffs {
		named[h.Author] = true
	}
	var members model.Members
	if err := i.read("members", &members); err != nil {
		return err
	}
	for _, m := range members.Members {
		named[m.Handle] = true
	}
	if err := i.s.Use(ctx, func(tx *records.Tx) (err error) {
		i.known, err = tx.KnownPeople(ctx, ground.SortedKeys(named))
		return err
	}); err != nil {
		return err
	}
	for _, name := range ground.SortedKeys(named) {
		if i.known[name] != 0 {
			i.out.Known = append(i.out.Known, name)
		} else {
			i.out.Named = append(i.out.Named, name)
		}
	}
	return nil
}

// elsewhere is how somebody is called who is nobody here: never like one who is.
func elsewhere(name string) string {
	name = ground.Printable(strings.TrimSpace(name))
	if ground.Handles.MatchString(name) {
		return name + " (elsewhere)"
	}
	return name
}

// trees makes the tree of each handoff, and its record.
func (i *importing) trees(ctx context.Context) error {
	i.assets, i.places = map[int64]int64{}, map[string]int64{}
	for n, h := range i.handoffs {
		i.progress("trees", int64(n), int64(len(i.handoffs)))
		if err := i.number(ctx, h.Changes); err != nil {
			return err
		}
		changes := map[string]tree.Change{}
		for _, c := range h.Changes {
			key := assetpath.Fold(c.Path)
			if c.Gone {
				if _, put := changes[key]; !put {
					changes[key] = tree.Change{Key: key}
				}
				continue
			}
			e := tree.Entry{Key: key, Asset: i.assets[c.Asset], Version: c.Version, Content: i.contents[c.Content].digest, Size: c.Size}
			if c.Path != key {
				e.Path = c.Path
			}
			if c.Executable {
				e.Mode |= tree.Executable
			}
			changes[key] = tree.Change{Key: key, Entry: &e}
			i.places[place(c.Path, c.Version)] = e.Asset
		}
		list := make([]tree.Change, 0, len(changes))
		for _, c := range changes {
			list = append(list, c)
		}
		before := tree.Empty()
		parents := make([]chain.Parent, len(h.Parents))
		for at, p := range h.Parents {
			parents[at] = chain.Parent{Number: p, Digest: i.states[p].digest}
		}
		if len(h.Parents) > 0 {
			before = i.states[h.Parents[0]].root
		}
		var after chunk.Digest
		if err := i.s.Write(ctx, func(tx *records.Tx) (err error) {
			forest := i.s.Forest(tx, i.r.id)
			if after, err = forest.Apply(ctx, before, list); err != nil {
				return err
			}
			return tx.AddNodes(ctx, i.r.id, forest.Fresh)
		}); err != nil {
			return fmt.Errorf("h%d: %w", h.Number, err)
		}
		record := chain.Handoff{Project: i.key, Number: h.Number, Branch: h.Branch, Parents: parents, Root: after, Author: h.Author,
			At: h.At.UnixMicro(), Note: text.Lines(h.Note), Tasks: h.Tasks, Stage: text.Line(h.Stage)}
		if ground.CommitID.MatchString(h.Commit) {
			record.Commit = h.Commit
		}
		if i.known[h.Author] == 0 {
			record.Author, record.Signed = i.o.Owner, elsewhere(h.Author)
		}
		_, digest := record.Encode()
		i.states[h.Number] = state{after, digest}
		i.r.history = append(i.r.history, record)
	}
	return nil
}

func place(path string, version int) string { return fmt.Sprintf("%s\x00%d", path, version) }

// number gives assets that come for the first time numbers of here.
func (i *importing) number(ctx context.Context, changes []archive.Change) error {
	var fresh []int64
	for _, c := range changes {
		if _, there := i.assets[c.Asset]; !c.Gone && !there {
			i.assets[c.Asset] = 0
			fresh = append(fresh, c.Asset)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	return i.s.Use(ctx, func(tx *records.Tx) error {
		ids, err := tx.NewAssetIDs(ctx, len(fresh))
		for n, id := range ids {
			i.assets[fresh[n]] = id
		}
		return err
	})
}

// branches says of branches what the file says.
func (i *importing) branches(context.Context) error {
	var list model.Branches
	if err := i.read("branches", &list); err != nil {
		return err
	}
	for _, b := range list.Branches {
		if b.From == "" {
			continue
		}
		at := slices.Index(model.BranchStates, b.State)
		if _, there := i.states[b.At]; !there || at < 0 || point.CheckBranch(b.Name) != nil || point.CheckBranch(b.From) != nil {
			return fmt.Errorf("the branch %q is none: %w", text.Line(b.Name), archive.ErrInvalid)
		}
		person := b.Person
		if i.known[person] == 0 {
			person = ""
		}
		i.r.states[b.Name] = chain.Branch{Project: i.key, Name: b.Name, From: b.From, At: b.At, State: at, Why: text.Line(b.Why), Person: person,
			Made: b.Made.UnixMicro(), Turn: 1}
		i.out.Branches++
	}
	return nil
}

// rest is what is not in the history: roles, milestones, reviews. With it the project is there.
func (i *importing) rest(ctx context.Context) error {
	var members model.Members
	var milestones model.Milestones
	var reviews model.Reviews
	var record model.Deeds
	var kits model.Kits
	for name, into := range map[string]any{"members": &members, "milestones": &milestones, "reviews": &reviews, "record": &record,
		"kits": &kits} {
		if err := i.read(name, into); err != nil {
			return err
		}
	}
	return i.s.Write(ctx, func(tx *records.Tx) error {
		i.out.Milestones, i.out.Reviews = 0, 0
		for _, m := range members.Members {
			if id := i.known[m.Handle]; id != 0 && m.Handle != i.o.Owner && slices.Contains([]string{model.Viewer, model.Artist, model.Lead,
				model.Owner}, m.Role) {
				if err := tx.SetMember(ctx, i.r.id, id, m.Role); err != nil {
					return err
				}
			}
		}
		for _, m := range milestones.Milestones {
			if _, there := i.states[m.Handoff]; !there || point.CheckName(m.Name) != nil {
				return fmt.Errorf("the milestone %q is none: %w", text.Line(m.Name), archive.ErrInvalid)
			}
			m.Note = text.Lines(m.Note)
			if err := tx.RestoreMilestone(ctx, i.r.id, cmp.Or(i.known[m.Person], i.owner), point.Fold(m.Name), m); err != nil {
				return err
			}
			i.out.Milestones++
		}
		for _, k := range kits.Made {
			for _, r := range k.Releases {
				if _, err := rules.KitOf(k.Name, r.Match); err != nil || i.states[r.Handoff].digest == (chunk.Digest{}) || r.Number < 1 ||
					!rules.KitNames.MatchString(k.Name) {
					return fmt.Errorf("the release %s@%d is none: %w", text.Line(k.Name), r.Number, archive.ErrInvalid)
				}
				r.Kit, r.Note = k.Name, text.Lines(r.Note)
				if err := tx.RestoreKitRelease(ctx, i.r.id, cmp.Or(i.known[r.Person], i.owner), r); err != nil {
					return err
				}
			}
		}
		for _, r := range reviews.Reviews {
			if err := i.review(ctx, tx, r); err != nil {
				return err
			}
			i.out.Reviews++
		}
		if err := tx.WriteHistoryAnew(ctx, i.r.id); err != nil {
			return err
		}
		if err := tx.AddPastEvents(ctx, i.r.id, i.deeds(record.Record)); err != nil {
			return err
		}
		if err := tx.AddEvent(ctx, i.r.id, 0, news.ProjectImported, map[string]any{"key": i.key, "from": i.out.From}); err != nil {
			return err
		}
		return tx.Came(ctx, i.r.id)
	})
}

// deeds are what was done before, the earliest first, as far as it is of a kind that is known here.
func (i *importing) deeds(record []model.Deed) (list []records.PastEvent) {
	for _, d := range slices.Backward(record) {
		kind := strings.TrimPrefix(d.Kind, news.Before)
		if !news.Known(kind) || d.At.IsZero() {
			continue
		}
		subject := map[string]any{"said": text.Line(d.Text)}
		id := i.known[d.Person]
		if id == 0 && d.Person != "" {
			subject["person"] = elsewhere(text.Line(d.Person))
		}
		var paths []string
		for _, p := range d.Paths {
			paths = append(paths, assetpath.Printable(p))
		}
		if paths != nil {
			subject["paths"] = paths
		}
		list = append(list, records.PastEvent{At: d.At, Person: id, Kind: news.Before + kind, Subject: subject})
	}
	return list
}

// said is a text of somebody: where they are nobody here, it is the owner's, and begins with their name.
func (i *importing) said(person, words string) (id int64, out string) {
	if id = i.known[person]; id != 0 {
		return id, text.Lines(words)
	}
	return i.owner, elsewhere(person) + ": " + text.Lines(words)
}

func (i *importing) review(ctx context.Context, tx *records.Tx, r model.Review) error {
	handoff := cmp.Or(r.Handoff, r.Head)
	if _, there := i.states[handoff]; !there || r.Number < 1 || r.Branch != "" && i.r.branches[r.Branch] == 0 {
		return fmt.Errorf("the review r%d is none: %w", r.Number, archive.ErrInvalid)
	}
	var asked []int64
	for _, handle := range r.Asked {
		if id := i.known[handle]; id != 0 {
			asked = append(asked, id)
		}
	}
	person, words := i.said(r.Person, r.Text)
	r.Text = words
	closer := int64(0)
	if r.Closed != nil {
		closer = cmp.Or(i.known[r.Closer], i.owner)
	}
	if err := tx.RestoreReview(ctx, i.r.id, r, i.r.branches[r.Branch], int64(handoff), person, closer, asked); err != nil {
		return err
	}
	last := 0
	for _, m := range r.Remarks {
		if last = max(last, m.Number); m.Path != "" && assetpath.Check(m.Path) != nil || m.Number < 1 {
			return fmt.Errorf("a remark in r%d is none: %w", r.Number, archive.ErrInvalid)
		}
		person, words := i.said(m.Person, m.Text)
		m.Text, m.Where = words, text.Line(m.Where)
		settler := int64(0)
		if m.Settled != nil {
			settler = cmp.Or(i.known[m.Settler], i.owner)
		}
		if err := tx.RestoreRemark(ctx, i.r.id, r.Number, m, person, settler, i.places[place(m.Path, m.Version)]); err != nil {
			return err
		}
	}
	for _, a := range r.Answers {
		if id := i.known[a.Person]; id != 0 {
			if err := tx.RestoreReviewAnswer(ctx, i.r.id, r.Number, id, a.Yes, text.Lines(a.Why), a.At, a.Head); err != nil {
				return err
			}
			continue
		}
		// Nobody here said so: it is told, and counts for nobody.
		last++
		word := "not yet"
		if a.Yes {
			word = "yes"
		}
		m := model.Remark{Number: last, At: a.At, Text: fmt.Sprintf("%s said %s. %s", elsewhere(a.Person), word, text.Lines(a.Why)),
			Settled: &a.At}
		if err := tx.RestoreRemark(ctx, i.r.id, r.Number, m, i.owner, i.owner, 0); err != nil {
			return err
		}
	}
	return nil
}
