// Package scope says which folders of a project come down to a workspace.
package scope

import (
	"sort"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
)

// Max is how many folders a scope may name.
const Max = 500

// Scope is a list of folders in order (see Folded); with a hyphen before it, a folder is left out. Of those that a path lies in the deepest
// decides. A path that lies in none comes down unless a folder that lies in no other one is named to come down; so an empty scope is all.
// The rules file always comes down.
type Scope []string

// Check returns nil where every folder is a legal path, and there are not too many.
func (s Scope) Check() error {
	if len(s) > Max {
		return model.NewProblem(model.TooLarge, "name folders further up", "a scope has at most %d folders", Max)
	}
	for _, entry := range s {
		if bad := assetpath.Check(strings.TrimPrefix(entry, "-")); bad != nil {
			return model.NewProblem(model.BadRequest, "name folders of the project", "%s: %s", assetpath.Printable(entry), bad.Message)
		}
	}
	return nil
}

// Folded is the scope for folded paths, in order.
func (s Scope) Folded() Scope {
	out := make(Scope, len(s))
	for i, entry := range s {
		out[i] = assetpath.Fold(entry)
	}
	out.sort()
	return out
}

// sort puts a folder right before those that lie in it.
func (s Scope) sort() {
	key := func(i int) string { return strings.TrimPrefix(s[i], "-") + "/" }
	sort.Slice(s, func(i, j int) bool { return key(i) < key(j) })
}

// within reports whether a path lies in a folder.
func within(path, folder string) bool {
	return len(path) > len(folder) && path[len(folder)] == '/' && strings.HasPrefix(path, folder)
}

// Has tells whether a path comes down. Both are folded, or neither is.
func (s Scope) Has(path string) bool {
	if len(s) == 0 || path == rules.File {
		return true
	}
	in, depth, top := true, -1, ""
	for _, entry := range s {
		folder, out := strings.CutPrefix(entry, "-")
		if nested := top != "" && within(folder, top); !nested {
			top = folder
			if !out && depth < 0 {
				in = false
			}
		}
		if len(folder) > depth && within(path, folder) {
			in, depth = !out, len(folder)
		}
	}
	return in
}

// Add is the scope with a folder in it, and everything below that.
func (s Scope) Add(folder string) Scope { return s.with(folder, folder) }

// Remove is the scope without a folder, and without everything below that.
func (s Scope) Remove(folder string) Scope { return s.with(folder, "-"+folder) }

func (s Scope) with(folder, entry string) Scope {
	out := Scope{}
	for _, e := range s {
		f := strings.TrimPrefix(e, "-")
		if f != folder && !within(f, folder) {
			out = append(out, e)
		}
	}
	if out.Has(folder+"/x") != (entry == folder) {
		out = append(out, entry)
	}
	out.sort()
	return out
}

// Next is a text behind which, in the order of bytes, the next path may lie that comes down, for a path that does not; ok is false where
// there is none.
func (s Scope) Next(path string) (after string, ok bool) {
	for _, entry := range append(Scope{rules.File}, s...) {
		folder := strings.TrimPrefix(entry, "-")
		// No path has the byte 0xff in it.
		bounds := []string{folder + "/", folder + "/\xff"}
		if entry == rules.File {
			bounds = []string{rules.File[:len(rules.File)-1]}
		}
		for _, b := range bounds {
			if b > path && (!ok || b < after) {
				after, ok = b, true
			}
		}
	}
	return after, ok
}
