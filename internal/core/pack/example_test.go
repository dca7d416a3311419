package pack_test

import (
	"bytes"
	"fmt"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/pack"
)

func ExampleWriter() {
	var file bytes.Buffer
	w := pack.NewWriter(&file)
	data := bytes.Repeat([]byte("salt "), 1000)
	if err := w.Add(pack.Encode(pack.Chunk, chunk.Sum(data), data)); err != nil {
		fmt.Println(err)
	}
	if _, err := w.Close(); err != nil {
		fmt.Println(err)
	}
	entries, err := pack.ReadIndex(bytes.NewReader(file.Bytes()), int64(file.Len()))
	if err != nil {
		fmt.Println(err)
	}
	for _, e := range entries {
		stored := file.Bytes()[e.Offset : e.Offset+int64(e.Stored)]
		r := pack.Record{Kind: e.Kind, Digest: e.Digest, Codec: e.Codec, Size: e.Size, Data: stored}
		got, err := r.Decode(nil)
		fmt.Println(len(got), bytes.Equal(got, data), err, e.Stored < e.Size)
	}
	// Output: 5000 true <nil> true
}
