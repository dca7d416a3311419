//go:build ignore

// This program writes avx512_amd64.s: go run avx512_gen.go > avx512_amd64.s.
package main

import "fmt"

// The words of a message in the order of each round (BLAKE3 specification, section 2.2, with the permutation applied).
var schedule = [7][16]int{
	{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15},
	{2, 6, 3, 10, 7, 0, 4, 13, 1, 11, 12, 5, 9, 14, 15, 8},
	{3, 4, 10, 12, 13, 2, 7, 14, 6, 5, 9, 0, 11, 15, 8, 1},
	{10, 7, 12, 9, 14, 3, 13, 15, 4, 0, 11, 2, 5, 8, 1, 6},
	{12, 13, 9, 11, 15, 10, 14, 8, 7, 2, 5, 3, 0, 1, 6, 4},
	{9, 14, 11, 5, 8, 12, 15, 1, 13, 3, 0, 10, 2, 6, 4, 7},
	{11, 15, 5, 0, 1, 9, 8, 6, 14, 10, 2, 12, 3, 4, 7, 13},
}

// regs are vector registers by what they hold. One more is free, for what takes two into two.
type regs struct {
	at   []int
	free int
}

// pair makes low and high of two, in place.
func (r *regs) pair(i, j int, low, high string) {
	a, b := r.at[i], r.at[j]
	fmt.Printf("\t%s Z%d, Z%d, Z%d\n", low, b, a, r.free)
	fmt.Printf("\t%s Z%d, Z%d, Z%d\n", high, b, a, b)
	r.at[i], r.free = r.free, a
}

// quads takes the words of rows 4g to 4g+3 together, so that row 4g+j has word 4q+j of those rows in its quarter q.
func (r *regs) quads(rows int) {
	for i := 0; i < rows; i += 2 {
		r.pair(i, i+1, "VPUNPCKLDQ", "VPUNPCKHDQ")
	}
	for i := 0; i < rows; i += 4 {
		r.pair(i, i+2, "VPUNPCKLQDQ", "VPUNPCKHQDQ")
		r.pair(i+1, i+3, "VPUNPCKLQDQ", "VPUNPCKHQDQ")
		r.at[i+1], r.at[i+2] = r.at[i+2], r.at[i+1]
	}
}

// transpose turns 16 rows of 16 words into columns.
func (r *regs) transpose() {
	r.quads(16)
	out := make([]int, 16)
	for j := range 4 {
		r.pair(j, 4+j, "VSHUFI32X4 $0x44,", "VSHUFI32X4 $0xee,")
		r.pair(8+j, 12+j, "VSHUFI32X4 $0x44,", "VSHUFI32X4 $0xee,")
		r.pair(j, 8+j, "VSHUFI32X4 $0x88,", "VSHUFI32X4 $0xdd,")
		r.pair(4+j, 12+j, "VSHUFI32X4 $0x88,", "VSHUFI32X4 $0xdd,")
		out[j], out[4+j], out[8+j], out[12+j] = r.at[j], r.at[8+j], r.at[4+j], r.at[12+j]
	}
	r.at = out
}

func main() {
	fmt.Print(`// Written by avx512_gen.go; not to be edited.

#include "textflag.h"

DATA iv<>+0(SB)/4, $0x6a09e667
DATA iv<>+4(SB)/4, $0xbb67ae85
DATA iv<>+8(SB)/4, $0x3c6ef372
DATA iv<>+12(SB)/4, $0xa54ff53a
DATA iv<>+16(SB)/4, $0x510e527f
DATA iv<>+20(SB)/4, $0x9b05688c
DATA iv<>+24(SB)/4, $0x1f83d9ab
DATA iv<>+28(SB)/4, $0x5be0cd19
DATA iv<>+32(SB)/4, $64
GLOBL iv<>(SB), RODATA|NOPTR, $36

// func hash16(out *[16][8]uint32, in *byte, stride, blocks uint64, counters *[16]uint32, flags, start, end uint32)
TEXT ·hash16(SB), NOSPLIT, $0-52
	MOVQ out+0(FP), DI
	MOVQ in+8(FP), SI
	MOVQ stride+16(FP), DX
	MOVQ blocks+24(FP), CX
	MOVQ counters+32(FP), BX
	MOVL flags+40(FP), R8
	MOVL start+44(FP), R9
	MOVL end+48(FP), R10
	ORL R8, R9
`)
	for i := range 8 {
		fmt.Printf("\tVPBROADCASTD iv<>+%d(SB), Z%d\n", 4*i, i)
	}
	fmt.Print("block:\n\tCMPQ CX, $1\n\tJNE more\n\tORL R10, R9\nmore:\n\tMOVQ SI, R11\n")
	m := &regs{free: 15}
	for i := range 16 {
		fmt.Printf("\tVMOVDQU32 (R11), Z%d\n", 16+i)
		if i < 15 {
			fmt.Print("\tADDQ DX, R11\n")
		}
		m.at = append(m.at, 16+i)
	}
	m.transpose()
	// What was free goes back: the state has that register.
	for i, reg := range m.at {
		if reg == 15 {
			fmt.Printf("\tVMOVDQA32 Z15, Z%d\n", m.free)
			m.at[i] = m.free
		}
	}
	for i := range 4 {
		fmt.Printf("\tVPBROADCASTD iv<>+%d(SB), Z%d\n", 4*i, 8+i)
	}
	fmt.Print("\tVMOVDQU32 (BX), Z12\n\tVPXORD Z13, Z13, Z13\n\tVPBROADCASTD iv<>+32(SB), Z14\n\tVPBROADCASTD R9, Z15\n")
	for _, order := range schedule {
		for half, g := range [2][4][4]int{{{0, 4, 8, 12}, {1, 5, 9, 13}, {2, 6, 10, 14}, {3, 7, 11, 15}},
			{{0, 5, 10, 15}, {1, 6, 11, 12}, {2, 7, 8, 13}, {3, 4, 9, 14}}} {
			step := func(format string, args func(k int, a, b, c, d int) []any) {
				for k, r := range g {
					fmt.Printf("\t"+format+"\n", args(k, r[0], r[1], r[2], r[3])...)
				}
			}
			for second := range 2 {
				left, right := 16, 12
				if second == 1 {
					left, right = 8, 7
				}
				step("VPADDD Z%d, Z%d, Z%d", func(k, a, b, c, d int) []any { return []any{m.at[order[8*half+2*k+second]], a, a} })
				step("VPADDD Z%d, Z%d, Z%d", func(k, a, b, c, d int) []any { return []any{b, a, a} })
				step("VPXORD Z%d, Z%d, Z%d", func(k, a, b, c, d int) []any { return []any{a, d, d} })
				step("VPRORD $%d, Z%d, Z%d", func(k, a, b, c, d int) []any { return []any{left, d, d} })
				step("VPADDD Z%d, Z%d, Z%d", func(k, a, b, c, d int) []any { return []any{d, c, c} })
				step("VPXORD Z%d, Z%d, Z%d", func(k, a, b, c, d int) []any { return []any{c, b, b} })
				step("VPRORD $%d, Z%d, Z%d", func(k, a, b, c, d int) []any { return []any{right, b, b} })
			}
		}
	}
	for i := range 8 {
		fmt.Printf("\tVPXORD Z%d, Z%d, Z%d\n", 8+i, i, i)
	}
	fmt.Print("\tMOVL R8, R9\n\tADDQ $64, SI\n\tDECQ CX\n\tJNZ block\n")
	h := &regs{at: []int{0, 1, 2, 3, 4, 5, 6, 7}, free: 8}
	h.quads(8)
	for lane := range 16 {
		for half := range 2 {
			fmt.Printf("\tVEXTRACTI32X4 $%d, Z%d, %d(DI)\n", lane/4, h.at[4*half+lane%4], 32*lane+16*half)
		}
	}
	fmt.Print("\tVZEROUPPER\n\tRET\n")
}
