package tree

import (
	"context"
	"strings"

	"kettletarn/internal/core/chunk"
)

// A Conflict is a key that both sides of a merge changed in different ways (nil where a side took it away), or, with Beside, one that
// can't be in the same tree as another: a file where the other side has a folder.
type Conflict struct {
	Key                string
	Base, Mine, Theirs *Entry
	Beside             string
}

// Merge finds what has to be applied to mine so that it has what theirs did since base, and what was changed on both sides. A key
// that is in a conflict is not among the changes.
func (f *Forest) Merge(ctx context.Context, base, mine, theirs chunk.Digest) (changes []Change, conflicts []Conflict, err error) {
	ours := map[string]Difference{}
	if err := f.Diff(ctx, base, mine, "", func(d Difference) bool {
		ours[d.Key] = d
		return true
	}); err != nil {
		return nil, nil, err
	}
	if err := f.Diff(ctx, base, theirs, "", func(d Difference) bool {
		our, both := ours[d.Key]
		switch {
		case !both:
			changes = append(changes, Change{Key: d.Key, Entry: d.To})
		case (our.To == nil) != (d.To == nil) || our.To != nil && *our.To != *d.To:
			conflicts = append(conflicts, Conflict{Key: d.Key, Base: d.From, Mine: our.To, Theirs: d.To})
		}
		return true
	}); err != nil {
		return nil, nil, err
	}
	kept := changes[:0]
	gone := map[string]bool{}
	for _, c := range changes {
		gone[c.Key] = c.Entry == nil
	}
	for _, c := range changes {
		beside := ""
		if c.Entry != nil {
			if beside, err = f.beside(ctx, mine, c.Key, gone); err != nil {
				return nil, nil, err
			}
		}
		if beside != "" {
			conflicts = append(conflicts, Conflict{Key: c.Key, Theirs: c.Entry, Beside: beside})
			continue
		}
		kept = append(kept, c)
	}
	return kept, conflicts, nil
}

// beside finds a key of a tree that makes a folder of a file at key, or a file of a folder above it. Keys that go do not count.
func (f *Forest) beside(ctx context.Context, root chunk.Digest, key string, gone map[string]bool) (found string, err error) {
	var above []string
	for i, r := range key {
		if r == '/' {
			above = append(above, key[:i])
		}
	}
	files, err := f.Get(ctx, root, above)
	if err != nil {
		return "", err
	}
	for _, folder := range above {
		if _, there := files[folder]; there && !gone[folder] {
			return folder, nil
		}
	}
	from, end := Below(key + "/")
	err = f.Range(ctx, root, from, end, func(e *Entry) bool {
		if !gone[e.Key] {
			found = e.Key
		}
		return found == ""
	})
	return strings.Clone(found), err
}
