package tree_test

import (
	"context"
	"fmt"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/tree"
)

// nothing stands for a store: what a Forest made itself, it has.
func nothing(context.Context, []chunk.Digest) ([]*tree.Node, error) { return nil, nil }

func entry(path string, asset int64, version int, content string) tree.Change {
	return tree.Change{Key: path, Entry: &tree.Entry{Key: path, Asset: asset, Version: version, Content: chunk.Sum([]byte(content)),
		Size: int64(len(content))}}
}

func ExampleForest_Apply() {
	ctx, f := context.Background(), tree.NewForest(nothing)
	one, _ := f.Apply(ctx, tree.Empty(), []tree.Change{entry("levels/harbour.glb", 1, 1, "fog"), entry("textures/rust.png", 2, 1, "rust")})
	other, _ := f.Apply(ctx, tree.Empty(), []tree.Change{entry("textures/rust.png", 2, 1, "rust")})
	other, _ = f.Apply(ctx, other, []tree.Change{entry("levels/harbour.glb", 1, 1, "fog")})
	fmt.Println("the same entries, the same root:", one == other)
	next, _ := f.Apply(ctx, one, []tree.Change{{Key: "textures/rust.png"}, entry("levels/harbour.glb", 1, 2, "thick fog")})
	_ = f.Diff(ctx, one, next, "", func(d tree.Difference) bool {
		fmt.Println(d.Key, d.From.Version, "->", d.To != nil)
		return true
	})
	// Output:
	// the same entries, the same root: true
	// levels/harbour.glb 1 -> true
	// textures/rust.png 1 -> false
}

// One side moves an asset, the other one edits it: both come together, as a new version.
func ExampleForest_Merge() {
	ctx, f := context.Background(), tree.NewForest(nothing)
	base, _ := f.Apply(ctx, tree.Empty(), []tree.Change{entry("lamp.glb", 1, 1, "a lamp")})
	here, _ := f.Apply(ctx, base, []tree.Change{{Key: "lamp.glb"}, entry("props/lamp.glb", 1, 2, "a lamp")})
	there, _ := f.Apply(ctx, base, []tree.Change{entry("lamp.glb", 1, 3, "a brighter lamp")})
	m, _ := f.Merge(ctx, base, here, there, nil)
	root, _ := m.Apply(ctx, f, here, func(tree.Join) int { return 4 })
	_ = f.Range(ctx, root, "", "", func(e *tree.Entry) bool {
		fmt.Println(e.Spelling(), "version", e.Version, e.Content == chunk.Sum([]byte("a brighter lamp")))
		return true
	})
	fmt.Println(len(m.Clashes), "clashes")
	// Output:
	// props/lamp.glb version 4 true
	// 0 clashes
}
