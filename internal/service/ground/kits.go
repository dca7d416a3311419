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
	var follow []KitFile
	var says []records.KitFile
	for _, f := range files {
		if f.Says.Kit != "" && !f.Says.Stay {
			follow, says = append(follow, f), append(says, f.Says)
		}
	}
	newest, err := NewestReleases(ctx, tx, actor, says)
	if err != nil {
		return nil, err
	}
	for i, f := range follow {
		if newest[i] > f.Says.Release {
			dir, _ := kit.Folder(f.Spelling())
			list = append(list, model.KitUse{Dir: dir, Kit: f.Says.Maker + "/" + f.Says.Kit, Release: f.Says.Release, Assets: f.Says.Assets,
				Newest: newest[i], Changed: []string{}})
		}
	}
	return list, nil
}

// NewestReleases are the numbers of the latest releases of the kits of uses, in their order; 0 where the actor may not look at the project
// that made one, or where another project has its key by now. It is one question, however many they are.
func NewestReleases(ctx context.Context, tx *records.Tx, actor Actor, says []records.KitFile) ([]int, error) {
	newest := make([]int, len(says))
	if len(says) == 0 {
		return newest, nil
	}
	makers, err := tx.Makers(ctx, actor.ID, says)
	for _, m := range makers {
		used := says[m.Of]
		m.Project.Role = actor.Role(used.Maker, m.Project.Role)
		if MayWork(m.Project, actor, used.Maker, model.Viewer) == nil && (used.Handoff == (chunk.Digest{}) || used.Handoff == m.Handoff) {
			newest[m.Of] = m.Newest
		}
	}
	return newest, err
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
