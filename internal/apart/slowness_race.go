//go:build race

package apart

// slowness is how many times as long everything takes under the race detector.
const slowness = 10
