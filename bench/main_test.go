package main

import (
	"strings"
	"testing"
)

// What a run does not measure stays in the table, in its place; what it does takes the place of what was there.
func TestTheTableKeepsWhatWasNotMeasured(t *testing.T) {
	old := "| S3 | join | 1 s | | | | met |\n| S3b | behind it | 1 s | | | | met |\n| S7 | locks | 1 | | | | met |\n" +
		"| S7 | watched | 1 | | | | met |\n| S7b | idle | 1 | | | | met |\n| S10 | search | 1 ms | | | | met |\n"
	b := &bench{rows: []row{{number: "S7", work: "locks", ours: "2"}, {number: "S3, real data", work: "join", ours: "3 s"}}}
	var got []string
	for _, line := range b.table("## before\n" + old) {
		cells := strings.Split(line, " | ")
		got = append(got, strings.TrimPrefix(cells[0], "| ")+" "+cells[1]+" "+cells[2])
	}
	want := "S3, real data join 3 s; S3 join 1 s; S3b behind it 1 s; S7 locks 2; S7b idle 1; S10 search 1 ms"
	if text := strings.Join(got, "; "); text != want {
		t.Errorf("%s\nnot\n%s", text, want)
	}
}
