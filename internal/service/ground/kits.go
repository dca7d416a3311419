package ground

import (
	"context"
	"errors"
	"sort"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/kit"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
)

// KitFile is the file of a use in a tree, with what it says, where it was read (Read).
type KitFile struct {
	tree.Entry
	Says records.KitFile
	Read bool
}

// KitFilesAt are the files of uses that a tree has, in the order of their folders. It looks at those places alone, whatever else is there.
func (s *Ground) KitFilesAt(ctx context.Context, tx *records.Tx, p records.Project, root chunk.Digest) ([]KitFile, error) {
	keys, err := tx.KitFileKeys(ctx, p.ID)
	if err != nil || len(keys) == 0 {
		return nil, err
	}
	entries, err := s.Forest(tx, p.ID).Get(ctx, root, keys)
	if err != nil {
		return nil, err
	}
	list, contents := make([]KitFile, 0, len(entries)), make([]chunk.Digest, 0, len(entries))
	for _, e := range entries {
		list, contents = append(list, KitFile{Entry: e}), append(contents, e.Content)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Key < list[j].Key })
	said, err := tx.KitFiles(ctx, p.ID, contents)
	for i := range list {
		list[i].Says, list[i].Read = said[list[i].Content]
	}
	return list, err
}

// KitsBehind are the uses of a state that follow their kits, and of which there is a later release that the actor may look at.
func (s *Ground) KitsBehind(ctx context.Context, tx *records.Tx, actor Actor, p records.Project, root chunk.Digest) (list []model.KitUse,
	err error) {
	files, err := s.KitFilesAt(ctx, tx, p, root)
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		if f.Says.Kit == "" || f.Says.Stay {
			continue
		}
		newest, err := NewestRelease(ctx, tx, actor, f.Says)
		if err != nil {
			return nil, err
		}
		if newest > f.Says.Release {
			dir, _ := kit.Folder(f.Spelling())
			list = append(list, model.KitUse{Dir: dir, Kit: f.Says.Maker + "/" + f.Says.Kit, Release: f.Says.Release, Assets: f.Says.Assets,
				Newest: newest, Changed: []string{}})
		}
	}
	return list, nil
}

// NewestRelease is the number of the latest release of the kit of a use, 0 where the actor may not look at the project that made it, or
// where another project has its key by now.
func NewestRelease(ctx context.Context, tx *records.Tx, actor Actor, says records.KitFile) (int, error) {
	p, err := Project(ctx, tx, actor, says.Maker, model.Viewer)
	var none *model.Problem
	if errors.As(err, &none) {
		return 0, nil
	} else if err != nil {
		return 0, err
	}
	same, err := SameMaker(ctx, tx, p, says)
	if err != nil || !same {
		return 0, err
	}
	r, err := tx.KitRelease(ctx, p.ID, says.Kit, 0)
	if errors.Is(err, records.ErrNotFound) {
		return 0, nil
	}
	return r.Number, err
}

// SameMaker says whether a project is the one that made the release of a use, by the digest of its handoff, and not one that only has its
// key. Uses from before that was written down have but the key.
func SameMaker(ctx context.Context, tx *records.Tx, p records.Project, says records.KitFile) (bool, error) {
	if says.Handoff == (chunk.Digest{}) {
		return true, nil
	}
	r, err := tx.KitRelease(ctx, p.ID, says.Kit, says.Release)
	if errors.Is(err, records.ErrNotFound) {
		return false, nil
	}
	return r.Digest == says.Handoff.String(), err
}
