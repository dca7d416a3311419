package api

import (
	"context"
	"encoding/json"
	"os"
	"testing"
)

// The console's types are made from docs/openapi.json; UPDATE=1 go test ./internal/api writes it anew.
func TestTheDocumentIsValidAndTheKeptCopyIsCurrent(t *testing.T) {
	doc := Document()
	if err := doc.Validate(context.Background()); err != nil {
		t.Fatal(err)
	}
	text, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	text = append(text, '\n')
	const kept = "../../docs/openapi.json"
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(kept, text, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if old, err := os.ReadFile(kept); err != nil || string(old) != string(text) {
		t.Error("docs/openapi.json is not what the routes say; run UPDATE=1 go test ./internal/api")
	}
}
