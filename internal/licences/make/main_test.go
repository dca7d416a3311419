package main

import (
	"path/filepath"
	"strings"
	"testing"

	"kettletarn/internal/licences"
)

// TestEveryPartHasItsNotice fails where something was added or renewed and go generate ./internal/licences was not run.
func TestEveryPartHasItsNotice(t *testing.T) {
	list, err := parts(filepath.Join("..", "..", ".."))
	if err != nil {
		t.Fatal(err)
	}
	if len(list) < 50 {
		t.Fatalf("only %d parts are found", len(list))
	}
	for _, p := range list {
		if strings.Count(licences.Notices, "\n"+p.String()+"\n") < 2 {
			t.Errorf("%s has no notice; run go generate ./internal/licences", p)
		}
	}
}
