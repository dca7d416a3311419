//go:build !race

package apart

const slowness = 1
