package manifest_test

import (
	"context"
	"fmt"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
)

// Of a large content, only the nodes on the way to what is asked for are loaded.
func ExampleWalk() {
	var refs []chunk.Ref
	for i := range 100_000 {
		refs = append(refs, chunk.Ref{Digest: chunk.Sum([]byte(fmt.Sprint(i))), Size: 256 << 10})
	}
	blocks := map[chunk.Digest][]byte{}
	for _, b := range manifest.Build(refs) {
		blocks[b.Digest] = b.Data
	}
	loaded := 0
	load := func(_ context.Context, digests []chunk.Digest) ([][]byte, error) {
		var out [][]byte
		for _, d := range digests {
			loaded++
			out = append(out, blocks[d])
		}
		return out, nil
	}
	enough := fmt.Errorf("enough")
	at := int64(20 << 30)
	err := manifest.Walk(context.Background(), load, manifest.Root(refs), at, nil, func(start int64, ref chunk.Ref) error {
		fmt.Println(start <= at && at < start+int64(ref.Size), ref.Digest == refs[at/(256<<10)].Digest)
		return enough
	})
	fmt.Println(err == enough, len(blocks) > 100, loaded < len(blocks)/4)
	// Output:
	// true true
	// true true true
}
