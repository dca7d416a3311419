// The cutting of files in a browser, as the rest of the house does it: what the page and the service agree on is written once. It is
// built for WebAssembly and runs in a worker of the console, which hands it the bytes of a file and gets what travels.
package main

import (
	"syscall/js"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/pack"
)

// piece is a record that may travel: its digest as 64 hex digits, the record as it goes over the line, and the bytes of the content in it.
func piece(kind uint8, digest chunk.Digest, data []byte, size int) any {
	record := pack.AppendEncoded(nil, kind, digest, data)
	out := js.Global().Get("Uint8Array").New(len(record))
	js.CopyBytesToJS(out, record)
	return map[string]any{"digest": digest.String(), "record": out, "size": size}
}

func main() {
	var held []byte // bytes of the file that are not cut yet: less than chunk.Max, and what came last
	var refs []chunk.Ref
	begin := func(js.Value, []js.Value) any {
		held, refs = held[:0], refs[:0]
		return nil
	}
	// take is given the next bytes of the file and whether they are its last, and returns the pieces that are complete.
	take := func(_ js.Value, args []js.Value) any {
		n := args[0].Length()
		start := len(held)
		held = append(held, make([]byte, n)...)
		js.CopyBytesToGo(held[start:], args[0])
		last, rest := args[1].Bool(), held
		pieces := []any{}
		for len(rest) >= chunk.Max || last && len(rest) > 0 {
			data := rest[:chunk.Cut(rest)]
			ref := chunk.Ref{Digest: chunk.Sum(data), Size: len(data)}
			refs = append(refs, ref)
			pieces = append(pieces, piece(pack.Chunk, ref.Digest, data, ref.Size))
			rest = rest[len(data):]
		}
		held = held[:copy(held, rest)]
		return pieces
	}
	// end returns the content that the file is, and the pieces of its manifest.
	end := func(js.Value, []js.Value) any {
		content, pieces := "", []any{}
		for _, n := range manifest.Build(refs) {
			content = n.Digest.String()
			pieces = append(pieces, piece(pack.Manifest, n.Digest, n.Data, 0))
		}
		return map[string]any{"content": content, "pieces": pieces}
	}
	js.Global().Set("cutting", map[string]any{"begin": js.FuncOf(begin), "take": js.FuncOf(take), "end": js.FuncOf(end)})
	select {}
}
