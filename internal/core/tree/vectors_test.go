package tree

const (
	vector      = "c15f6a438c45dd4fdad8126e8fec5ddf61a9a32802379460277475e0dd7c80a1"
	emptyVector = "5e1d473baf66848c1618e39354d10f9f90c79357bef64b844613894464950b5c"
)

// longVector is the root of TestLongKeysEndNodes: nodes that end by weight are part of the format.
const longVector = "3fac8bf96af6607b868d2b8dc7760fc520da1a8e582504a004189d0455ae2b6b"
