// Package canonical is the one form in which what is named by its digest is encoded: CBOR in its core deterministic encoding (RFC 8949,
// section 4.2.1). What comes from outside is read with bounds.
package canonical

import "github.com/fxamacker/cbor/v2"

var encoding = func() cbor.EncMode {
	m, err := cbor.CoreDetEncOptions().EncMode()
	if err != nil {
		panic(err)
	}
	return m
}()

// Encode gives the bytes of a struct of ours, which can always be encoded.
func Encode(v any) []byte {
	data, err := encoding.Marshal(v)
	if err != nil {
		panic(err)
	}
	return data
}

// Decoder makes a function that reads what Encode wrote: at most maxItems items in an array, nothing nested deeply, no indefinite
// lengths, no tags.
func Decoder(maxItems int) func(data []byte, into any) error {
	m, err := cbor.DecOptions{MaxArrayElements: max(maxItems, 16), MaxNestedLevels: 4, IndefLength: cbor.IndefLengthForbidden,
		TagsMd: cbor.TagsForbidden}.DecMode()
	if err != nil {
		panic(err)
	}
	return m.Unmarshal
}
