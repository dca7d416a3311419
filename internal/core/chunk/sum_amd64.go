package chunk

import (
	"encoding/binary"
	"math/bits"
	"sync"
	"unsafe"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/cpu"
)

// BLAKE3 (the specification of 2020, by O'Connor, Aumasson, Neves and Wilcox-O'Hearn) cuts its input into leaves of 1 KiB, which have
// nothing to do with each other, and takes what comes of them together two by two. Here 16 of them are done at once, with AVX-512, where
// the machine has it: half of what the package that is used otherwise takes, at both ends of every transfer. The assembly is written by
// avx512_gen.go, and the tests hold both to each other.
const (
	leaf        = 1024
	leavesOnce  = 16
	leastOnce   = 4 * leaf // less is faster without
	startOfLeaf = 1
	endOfLeaf   = 2
	parent      = 4
	root        = 8
)

// hash16 compresses 16 inputs, each of a number of blocks of 64 bytes, that begin stride bytes apart, and writes their chaining values.
// All of them begin with the initial value. start and end are flags of the first and the last block besides.
//
//go:noescape
func hash16(out *[leavesOnce][8]uint32, in *byte, stride, blocks uint64, counters *[leavesOnce]uint32, flags, start, end uint32)

var initial = [8]uint32{0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a, 0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19}

var avx512 = cpu.X86.HasAVX512F

// hashing is the memory of one sum: the values of one level of the tree, with room for what 16 at once read and write behind them.
type hashing struct {
	values [Max/leaf + 2*leavesOnce][8]uint32
	last   [leavesOnce * leaf]byte
}

var hashings = sync.Pool{New: func() any { return new(hashing) }}

// sum is the BLAKE3-256 of b.
func sum(b []byte) (out Digest) {
	if !avx512 || len(b) < leastOnce || len(b) > Max {
		return blake3.Sum256(b)
	}
	h := hashings.Get().(*hashing)
	defer hashings.Put(h)
	var counters [leavesOnce]uint32
	n := 0
	for len(b) > 0 {
		for i := range counters {
			counters[i] = uint32(n + i)
		}
		some := b[:min(len(b), leavesOnce*leaf)]
		in := some
		if len(some) < leavesOnce*leaf {
			in = h.last[:]
			copy(in, some)
		}
		hash16((*[leavesOnce][8]uint32)(h.values[n:]), &in[0], leaf, leaf/64, &counters, 0, startOfLeaf, endOfLeaf)
		n += len(some) / leaf
		if rest := some[len(some)/leaf*leaf:]; len(rest) > 0 {
			h.values[n] = shortLeaf(rest, uint32(n))
			n++
		}
		b = b[len(some):]
	}
	counters = [leavesOnce]uint32{}
	for n > 2 {
		// What is behind the pairs comes out as nonsense, behind what they come to.
		odd := h.values[n-1]
		for i := 0; i < n/2; i += leavesOnce {
			hash16((*[leavesOnce][8]uint32)(h.values[i:]), (*byte)(unsafe.Pointer(&h.values[2*i])), 64, 1, &counters, parent, 0, 0)
		}
		if n%2 == 1 {
			h.values[n/2] = odd
		}
		n = (n + 1) / 2
	}
	var block [16]uint32
	copy(block[:8], h.values[0][:])
	copy(block[8:], h.values[1][:])
	value := compress(&initial, &block, 0, 64, parent|root)
	for i, w := range value {
		binary.LittleEndian.PutUint32(out[4*i:], w)
	}
	return out
}

// shortLeaf is the chaining value of a leaf of fewer bytes than others have.
func shortLeaf(b []byte, counter uint32) [8]uint32 {
	value, flags := initial, uint32(startOfLeaf)
	for {
		var block [16]uint32
		n := min(len(b), 64)
		if n == 64 {
			for i := range block {
				block[i] = binary.LittleEndian.Uint32(b[4*i:])
			}
		} else {
			var last [64]byte
			copy(last[:], b)
			for i := range block {
				block[i] = binary.LittleEndian.Uint32(last[4*i:])
			}
		}
		if b = b[n:]; len(b) == 0 {
			return compress(&value, &block, counter, uint32(n), flags|endOfLeaf)
		}
		value = compress(&value, &block, counter, 64, flags)
		flags = 0
	}
}

var permutation = [16]int{2, 6, 3, 10, 7, 0, 4, 13, 1, 11, 12, 5, 9, 14, 15, 8}

// compress is the compression function, for counters below 2^32.
func compress(cv *[8]uint32, m *[16]uint32, counter, size, flags uint32) (out [8]uint32) {
	v := [16]uint32{cv[0], cv[1], cv[2], cv[3], cv[4], cv[5], cv[6], cv[7], initial[0], initial[1], initial[2], initial[3], counter, 0,
		size, flags}
	msg := *m
	for round := range 7 {
		if round > 0 {
			var next [16]uint32
			for i, from := range permutation {
				next[i] = msg[from]
			}
			msg = next
		}
		v[0], v[4], v[8], v[12] = mix(v[0], v[4], v[8], v[12], msg[0], msg[1])
		v[1], v[5], v[9], v[13] = mix(v[1], v[5], v[9], v[13], msg[2], msg[3])
		v[2], v[6], v[10], v[14] = mix(v[2], v[6], v[10], v[14], msg[4], msg[5])
		v[3], v[7], v[11], v[15] = mix(v[3], v[7], v[11], v[15], msg[6], msg[7])
		v[0], v[5], v[10], v[15] = mix(v[0], v[5], v[10], v[15], msg[8], msg[9])
		v[1], v[6], v[11], v[12] = mix(v[1], v[6], v[11], v[12], msg[10], msg[11])
		v[2], v[7], v[8], v[13] = mix(v[2], v[7], v[8], v[13], msg[12], msg[13])
		v[3], v[4], v[9], v[14] = mix(v[3], v[4], v[9], v[14], msg[14], msg[15])
	}
	for i := range out {
		out[i] = v[i] ^ v[i+8]
	}
	return out
}

func mix(a, b, c, d, x, y uint32) (uint32, uint32, uint32, uint32) {
	a += b + x
	d = bits.RotateLeft32(d^a, -16)
	c += d
	b = bits.RotateLeft32(b^c, -12)
	a += b + y
	d = bits.RotateLeft32(d^a, -8)
	c += d
	b = bits.RotateLeft32(b^c, -7)
	return a, b, c, d
}
