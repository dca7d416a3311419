package sharing

import (
	"context"
	"errors"
	"io"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/kit"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// use is a folder that came from a kit: what its file says, and what is there now, by folded path below the folder.
type use struct {
	dir  string
	file tree.Entry
	said *kit.Use
	here map[string]tree.Entry
}

// row is a use as it is told.
func (u *use) row() model.KitUse {
	return model.KitUse{Dir: u.dir, Kit: u.said.Name(), Release: u.said.Release, Stay: u.said.Stay, Assets: len(u.said.Assets),
		Changed: u.changed()}
}

// changed are the assets that are not as they came.
func (u *use) changed() []string {
	list := []string{}
	for _, a := range u.said.Assets {
		if e, there := u.here[assetpath.Fold(a.Path)]; !there || e.Content != a.Content {
			list = append(list, a.Path)
		}
	}
	return list
}

// says is what of it is kept in the records.
func says(u *kit.Use) records.KitFile {
	return records.KitFile{Maker: u.Project, Kit: u.Kit, Release: u.Release, Handoff: u.Handoff, Stay: u.Stay, Assets: len(u.Assets)}
}

// allSay is the same of many.
func allSay(uses []*use) (list []records.KitFile) {
	for _, u := range uses {
		list = append(list, says(u.said))
	}
	return list
}

// uses are those of a tree, by folder. A file that can't be read is none: somebody wrote it by hand.
func (s *Room) uses(ctx context.Context, p records.Project, root chunk.Digest) (list []*use, err error) {
	var files []ground.KitFile
	rows := map[chunk.Digest]records.Content{}
	if err := s.Use(ctx, func(tx *records.Tx) error {
		if files, err = s.KitFilesAt(ctx, tx, p, root); err != nil {
			return err
		}
		var digests []chunk.Digest
		for _, f := range files {
			digests = append(digests, f.Content)
		}
		rows, err = tx.Contents(ctx, p.ID, digests, false)
		return err
	}); err != nil {
		return nil, err
	}
	for _, f := range files {
		row, there := rows[f.Content]
		if !there || f.Read && f.Says.Kit == "" {
			continue
		}
		said, err := s.said(ctx, row, f.Read)
		if err != nil {
			return nil, err
		}
		if said != nil {
			dir, _ := kit.Folder(f.Spelling())
			list = append(list, &use{dir: dir, file: f.Entry, said: said})
		}
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		for _, u := range list {
			if u.here, err = s.below(ctx, tx, p, root, u.dir); err != nil {
				return err
			}
		}
		return nil
	})
	return list, err
}

// usesOn are the uses of a project on a branch, "" for the first, for somebody with a role in it.
func (s *Room) usesOn(ctx context.Context, actor ground.Actor, key, branch, role string) (p records.Project, root chunk.Digest, list []*use,
	err error) {
	if err = s.Use(ctx, func(tx *records.Tx) error {
		if p, err = ground.Project(ctx, tx, actor, key, role); err != nil {
			return err
		}
		on, err := ground.Head(ctx, tx, p, branch)
		root = on.Root
		return err
	}); err == nil {
		list, err = s.uses(ctx, p, root)
	}
	return p, root, list, err
}

// said is what the file of a use says, nil where that is nothing, and notes it where that is not known yet.
func (s *Room) said(ctx context.Context, row records.Content, known bool) (said *kit.Use, err error) {
	if row.Size <= kit.MaxSize {
		c := s.OpenRow(ctx, row)
		text, err := io.ReadAll(io.LimitReader(c, kit.MaxSize+1))
		c.Close()
		if err != nil {
			return nil, err
		}
		said, _ = kit.Parse(text)
	}
	if known {
		return said, nil
	}
	file := records.KitFile{}
	if said != nil {
		file = says(said)
	}
	return said, s.Write(ctx, func(tx *records.Tx) error { return tx.SetKitFile(ctx, row.Project, row.Digest, file) })
}

// below is what lies in a folder of a tree, by folded path below it.
func (s *Room) below(ctx context.Context, tx *records.Tx, p records.Project, root chunk.Digest, dir string) (map[string]tree.Entry, error) {
	here := map[string]tree.Entry{}
	prefix := assetpath.Fold(dir) + "/"
	err := s.Forest(tx, p.ID).Range(ctx, root, prefix, assetpath.Fold(dir)+"0", func(e *tree.Entry) bool {
		here[strings.TrimPrefix(e.Key, prefix)] = *e
		return ctx.Err() == nil
	})
	return here, err
}

// readFiles reads the files of uses, of all projects, that nobody read yet: that came by a rebuild, an import, or an ordinary handoff.
func (s *Room) readFiles(ctx context.Context) error {
	var unread []records.Content
	err := s.Use(ctx, func(tx *records.Tx) (err error) {
		unread, err = tx.UnreadKitFiles(ctx)
		return err
	})
	for _, c := range unread {
		if err == nil {
			_, err = s.said(ctx, c, false)
		}
	}
	return err
}

// KitUsers lists the uses of a kit in all projects that the actor may look at, on their first branches.
func (s *Room) KitUsers(ctx context.Context, actor ground.Actor, key, name string) (out model.KitUsers, err error) {
	out.Uses = []model.KitUsed{}
	type place struct {
		project records.Project
		root    chunk.Digest
	}
	var places []place
	if err := s.readFiles(ctx); err != nil {
		return out, err
	}
	if err := s.Use(ctx, func(tx *records.Tx) error {
		if _, err := ground.Project(ctx, tx, actor, key, model.Viewer); err != nil {
			return err
		}
		using, err := tx.Using(ctx, key, name)
		if err != nil {
			return err
		}
		for _, u := range using {
			p, err := ground.Project(ctx, tx, actor, u.Key, model.Viewer)
			var none *model.Problem
			if errors.As(err, &none) {
				continue
			} else if err != nil {
				return err
			}
			on, err := ground.Head(ctx, tx, p, "")
			if err != nil {
				return err
			}
			places = append(places, place{p, on.Root})
		}
		return nil
	}); err != nil {
		return out, err
	}
	for _, at := range places {
		uses, err := s.uses(ctx, at.project, at.root)
		if err != nil {
			return out, err
		}
		if err := s.Use(ctx, func(tx *records.Tx) error {
			newest, err := ground.NewestReleases(ctx, tx, actor, allSay(uses))
			for i, u := range uses {
				// What another project of that key made has no latest release here.
				if u.said.Project == key && u.said.Kit == name && newest[i] > 0 {
					row := u.row()
					row.Newest = newest[i]
					out.Uses = append(out.Uses, model.KitUsed{Project: at.project.Key, KitUse: row})
				}
			}
			return err
		}); err != nil {
			return out, err
		}
	}
	return out, nil
}
