package history

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lines"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/scope"
	"kettletarn/internal/core/text"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// maxTraced is how many bytes of old versions are read to find out where lines come from.
const maxTraced = 256 << 20

// Lines tells of each line of a version of a text asset (0 for the newest) which version changed it last.
func (s *Room) Lines(ctx context.Context, actor ground.Actor, key, path string, number int) (out model.LineOrigins, err error) {
	if actor.Outside != nil {
		return s.linesOutside(ctx, actor, path, number)
	}
	asset, versions, err := s.History(ctx, actor, key, "", path)
	if err != nil {
		return out, err
	}
	if number == 0 {
		number = asset.Newest
	}
	out.Path, out.Lines = asset.Path, []model.LineOrigin{}
	for len(versions) > 0 && (versions[0].Version > number || number == asset.Newest && versions[0].Gone) {
		versions = versions[1:]
	}
	if len(versions) == 0 || versions[0].Gone {
		return out, model.NewProblem(model.NotFound, "see its history", "%s has no version %d that could be read", asset.Path, number)
	}
	out.Version = versions[0].Version
	var p records.Project
	if err := s.Use(ctx, func(tx *records.Tx) error {
		p, err = ground.Project(ctx, tx, actor, key, model.Viewer)
		return err
	}); err != nil {
		return out, err
	}
	text, err := s.linesOf(ctx, p, versions[0])
	if err != nil {
		return out, err
	}
	origins, used, read := lines.NewOrigins(text), []model.Version{versions[0]}, int64(0)
	last := text
	for i, v := range versions[1:] {
		if v.Gone || v.Content == versions[i].Content {
			continue
		}
		if read += v.Size; read > maxTraced {
			return out, model.NewProblem(model.TooLarge, "ask for an older version", "%s has too much of a past to look through at once", asset.Path)
		}
		before, err := s.TextOf(ctx, p, v)
		if errors.Is(err, lines.ErrNoText) || errors.Is(err, lines.ErrTooLarge) {
			break // it was something else then
		}
		if err != nil {
			return out, err
		}
		used = append(used, v)
		last = before
		if !origins.Back(last) {
			break
		}
	}
	for i, back := range origins.Of {
		v := used[back]
		out.Lines = append(out.Lines, model.LineOrigin{Line: i + 1, Text: text[i], Version: v.Version, Handoff: v.Handoff, Author: v.Author,
			At: v.At, Note: ground.FirstLine(v.Note)})
	}
	return out, nil
}

// linesOf is a version, line by line.
func (s *Room) linesOf(ctx context.Context, p records.Project, v model.Version) ([]string, error) {
	text, err := s.TextOf(ctx, p, v)
	if errors.Is(err, lines.ErrNoText) || errors.Is(err, lines.ErrTooLarge) {
		err = model.NewProblem(model.BadRequest, "tarn history PATH lists its versions", "%s can't be read line by line: %v",
			ground.Printable(v.Path), err)
	}
	return text, err
}

// linesOutside is a version, line by line, for somebody outside: they are not told who changed what.
func (s *Room) linesOutside(ctx context.Context, actor ground.Actor, path string, number int) (out model.LineOrigins, err error) {
	p, v, err := s.VersionOf(ctx, actor, "", path, number)
	if err != nil {
		return out, err
	}
	text, err := s.linesOf(ctx, p, v)
	out.Path, out.Version, out.Lines = v.Path, v.Version, make([]model.LineOrigin, len(text))
	for i := range text {
		out.Lines[i] = model.LineOrigin{Line: i + 1, Text: text[i]}
	}
	return out, err
}

// Archive is the project, or a folder or an asset of it, as it was.
type Archive struct {
	s       *Room
	project records.Project
	root    chunk.Digest
	at      time.Time
	// What is still to be written: keys of assets, and folders with their slash, "" for all.
	assets, folders []string
	// Handoff is the state; Assets and Size count what is in it.
	Handoff int
	Assets  int
	Size    int64
}

// OpenArchive finds a state, and what of it lies at or below some paths; without any, all of it.
func (s *Room) OpenArchive(ctx context.Context, actor ground.Actor, key, at string, paths ...string) (a *Archive, err error) {
	if len(paths) > ground.MaxPaths {
		return nil, model.NewProblem(model.TooLarge, "name folders", "one archive has at most %d paths", ground.MaxPaths)
	}
	a = &Archive{s: s}
	for _, path := range paths {
		if strings.ContainsRune(path, 0) || !utf8.ValidString(path) {
			return nil, model.NewProblem(model.BadRequest, "check the spelling", "this is no path")
		}
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		if a.project, err = ground.Project(ctx, tx, actor, key, model.Viewer); err != nil {
			return err
		}
		if a.Handoff, err = ground.PointAt(ctx, tx, a.project, "", at); err != nil {
			return err
		}
		if a.root, err = ground.RootAt(ctx, tx, a.project, a.Handoff); err != nil {
			return err
		}
		list, err := tx.Handoffs(ctx, a.project.ID, records.HandoffQuery{Before: a.Handoff + 1, Limit: 1})
		if err != nil {
			return err
		}
		for _, h := range list {
			a.at = h.At
		}
		return a.find(ctx, tx, paths)
	})
	return a, err
}

// find tells assets from folders, and finds out how much it is.
func (a *Archive) find(ctx context.Context, tx *records.Tx, paths []string) error {
	forest := a.s.Forest(tx, a.project.ID)
	spelt := map[string]string{}
	for _, p := range paths {
		spelt[assetpath.Fold(strings.Trim(p, "/"))] = p
	}
	if _, all := spelt[""]; all || len(paths) == 0 {
		spelt = map[string]string{"": ""}
	}
	keys := slices.Sorted(maps.Keys(spelt))
	found, err := forest.Get(ctx, a.root, keys)
	if err != nil {
		return err
	}
	for _, k := range keys {
		if _, is := found[k]; is || a.within(k) {
			continue
		}
		folder := k
		if k != "" {
			folder += "/"
		}
		from, end := tree.Below(folder)
		n, size, err := forest.Sum(ctx, a.root, from, end)
		if err != nil {
			return err
		}
		if n == 0 {
			return model.NewProblem(model.NotFound, "check the spelling, or take another state", "there is nothing at %s in h%d",
				ground.Printable(spelt[k]), a.Handoff)
		}
		a.folders, a.Assets, a.Size = append(a.folders, folder), a.Assets+int(n), a.Size+size
	}
	for _, k := range keys {
		if e, is := found[k]; is && !a.within(k) {
			a.assets, a.Assets, a.Size = append(a.assets, k), a.Assets+1, a.Size+e.Size
		}
	}
	return nil
}

func (a *Archive) within(key string) bool {
	return slices.ContainsFunc(a.folders, func(f string) bool { return strings.HasPrefix(key, f) })
}

// entries reads what comes next, and forgets it: assets by themselves first, then folder by folder. after is the last key of the folder
// that was read of, and is "" at the beginning of each.
func (a *Archive) entries(ctx context.Context, after string) (list []tree.Entry, next string, err error) {
	err = a.s.Use(ctx, func(tx *records.Tx) error {
		forest := a.s.Forest(tx, a.project.ID)
		if len(a.assets) > 0 {
			keys := a.assets[:min(archivePage, len(a.assets))]
			found, err := forest.Get(ctx, a.root, keys)
			for _, k := range keys {
				list = append(list, found[k])
			}
			a.assets = a.assets[len(keys):]
			return err
		}
		_, end := tree.Below(a.folders[0])
		err := forest.Range(ctx, a.root, max(after, a.folders[0]), end, func(e *tree.Entry) bool {
			list, next = append(list, *e), e.Key
			return len(list) < archivePage
		})
		if len(list) < archivePage {
			a.folders, next = a.folders[1:], ""
		}
		return err
	})
	return list, next, err
}

// archivePage is how many entries are read at once: no transaction stays open while somebody's network takes its time.
const archivePage = 2000

// Write writes all of it. What was read before the store failed is out by then: the bundle does not end as a whole one.
func (a *Archive) Write(ctx context.Context, out bundle.Writer) error {
	for after := ""; len(a.assets)+len(a.folders) > 0; {
		list, next, err := a.entries(ctx, after)
		if err != nil {
			return err
		}
		after = next
		for _, e := range list {
			content, err := a.s.OpenDigest(ctx, a.project, e.Content.String())
			if err != nil {
				return err
			}
			err = out.Add(bundle.File{Path: e.Spelling(), Size: e.Size, Executable: e.Mode&tree.Executable != 0, At: a.at}, content)
			content.Close()
			if err != nil {
				return err
			}
		}
	}
	return out.Close()
}

// DescribeWorkspace keeps what a workspace of the actor's says of itself, so that it can be made again elsewhere.
func (s *Room) DescribeWorkspace(ctx context.Context, actor ground.Actor, key, id string, d model.WorkspaceTold) error {
	if !ground.ValidID(id) {
		return model.NewProblem(model.NotFound, "", "there is no such workspace")
	}
	if err := scope.Scope(d.Scope).Check(); err != nil {
		return err
	}
	if len(d.Machine) > 200 || len(d.Folder) > 4096 || len(d.Branch) > 200 || d.Follows < 0 || d.Follows > 1<<31-1 {
		return model.NewProblem(model.BadRequest, "", "the machine, the folder or the branch is too long")
	}
	d.Machine, d.Folder, d.Branch = text.Line(d.Machine), text.Line(d.Folder), text.Line(d.Branch)
	if d.Branch == "" {
		d.Branch = model.FirstBranch
	}
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		if _, err := tx.Branch(ctx, p.ID, d.Branch, false); errors.Is(err, records.ErrNotFound) {
			return model.NewProblem(model.NotFound, "take another one", "%s has no branch %q", key, d.Branch)
		} else if err != nil {
			return err
		}
		there, err := tx.DescribeWorkspace(ctx, p.ID, actor.ID, id, d)
		if err == nil && !there {
			err = model.NewProblem(model.NotFound, "run tarn join KEY --here to tie the folder anew", "you have no such workspace in %s", key)
		}
		return err
	})
}
