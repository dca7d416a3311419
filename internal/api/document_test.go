package api

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
)

// The console's lists of words are those of the core; UPDATE=1 go test ./internal/api writes them anew.
func TestTheConsoleHasTheWordsOfTheCore(t *testing.T) {
	var out strings.Builder
	out.WriteString("// Made from the tables of the core by UPDATE=1 go test ./internal/api.\n\n" +
		"/** Kinds of asset, in the order in which they are shown. */\n")
	list := func(name string, words []string) {
		fmt.Fprintf(&out, "export const %s = [\n", name)
		for _, w := range words {
			fmt.Fprintf(&out, "  %q,\n", w)
		}
		out.WriteString("] as const;\n")
	}
	list("assetKinds", media.Kinds)
	fmt.Fprintf(&out, "\n/** The branch that each project begins with. */\nexport const firstBranch = %q;\n", model.FirstBranch)
	out.WriteString("\n/** Kinds of news; what is urgent is told at once. */\nexport const newsKinds = [\n")
	for _, k := range news.Kinds() {
		fmt.Fprintf(&out, "  { name: %q, short: %q, urgent: %v },\n", k.Name, k.Short, k.Desktop)
	}
	out.WriteString("] as const;\n")
	out.WriteString("\n/** How a hold ended, by the word that the record has, in the words for people. */\n" +
		"export const endings: Record<string, string> = {\n")
	for _, e := range lock.Endings {
		fmt.Fprintf(&out, "  %q: %q,\n", e.Word, e.Said)
	}
	out.WriteString("};\n")
	current(t, "../../web/src/api/words.gen.ts", out.String())
}

// current holds a file to what it should be, or, with UPDATE, makes it so.
func current(t *testing.T, name, want string) {
	t.Helper()
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(name, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if old, err := os.ReadFile(name); err != nil || string(old) != want {
		t.Errorf("%s is not what the program says; run UPDATE=1 go test ./internal/api", strings.TrimLeft(name, "./"))
	}
}

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
	current(t, "../../docs/openapi.json", string(text)+"\n")
}
