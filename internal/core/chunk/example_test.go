package chunk_test

import (
	"bytes"
	"context"
	"fmt"

	"kettletarn/internal/core/chunk"
)

// A change in the middle of a file leaves the chunks around it as they are.
func ExampleScan() {
	data := bytes.Repeat([]byte("Brine and salt; fog over the harbour; a lamp on the crane. "), 40_000)
	for i := range data {
		data[i] += byte(i * i >> 9) // not the same everywhere
	}
	cut := func(data []byte) map[chunk.Digest]bool {
		found := map[chunk.Digest]bool{}
		_ = chunk.Scan(context.Background(), bytes.NewReader(data), int64(len(data)), nil, 2, func(p chunk.Piece, _ []byte) error {
			found[p.Digest] = true
			return nil
		})
		return found
	}
	before := cut(data)
	copy(data[len(data)/2:], "rust")
	fresh := 0
	for d := range cut(data) {
		if !before[d] {
			fresh++
		}
	}
	fmt.Println(len(before) > 4, fresh)
	// Output: true 1
}

// A chunk is named by the BLAKE3 of what is in it.
func ExampleSum() {
	fmt.Println(chunk.Sum([]byte("abc")))
	// Output: 6437b3ac38465133ffb63b75273a8db548c558465d79db03fd359c6cd5bd9d85
}
