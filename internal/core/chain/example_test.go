package chain_test

import (
	"fmt"

	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/tree"
)

// A handoff is named by the digest of what it says, the digest of its parent included: nothing before it can be changed unnoticed.
func ExampleHandoff_Encode() {
	first := chain.Handoff{Project: "brinelight", Number: 1, Branch: "main", Root: tree.Empty(), Author: "tamsin", Note: "begun"}
	_, one := first.Encode()
	next := chain.Handoff{Project: "brinelight", Number: 2, Branch: "main", Root: tree.Empty(), Author: "rurik", Note: "fog",
		Parents: []chain.Parent{{Number: 1, Digest: one}}}
	data, two := next.Encode()
	read, err := chain.Decode(data)
	fmt.Println(read.Number, read.Parents[0].Digest == one, err)
	first.Note = "begun anew"
	_, other := first.Encode()
	next.Parents[0].Digest = other
	_, changed := next.Encode()
	fmt.Println(changed == two)
	// Output:
	// 2 true <nil>
	// false
}
