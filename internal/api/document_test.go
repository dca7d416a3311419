package api

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
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
	out.WriteString("\n/** The orders in which assets are listed. */\n")
	list("orders", model.Orders)
	out.WriteString("\n/** How an asset may stand in reviews. */\n")
	list("reviewStates", model.ReviewStates)
	out.WriteString("\n/** What the record can be asked about. */\n")
	list("recordSubjects", news.SubjectWords())
	out.WriteString("\nconst endingKinds: Record<string, (typeof assetKinds)[number]> = {\n")
	for _, kind := range media.Kinds {
		if list, except := media.EndingsOf(kind); !except {
			for _, e := range list {
				fmt.Fprintf(&out, "  %q: %q,\n", e, kind)
			}
		}
	}
	out.WriteString("};\n\n/** kindOf is the kind of asset that a path stands for. */\n" +
		"export const kindOf = (path: string) => endingKinds[/[^/](\\.[^./]*)$/.exec(path.toLowerCase())?.[1] ?? \"\"] ?? \"other\";\n")
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
	out.WriteString("};\n\n/** What a page says of a refusal in place of its remedy, and the ways out that it offers, by reason. */\n" +
		"export const waysOut: Record<string, { page: string; ways: Way[] }> = {\n")
	ways := map[string]bool{}
	for _, w := range model.WaysOut {
		var open []string
		for _, way := range w.Ways {
			ways[way] = true
			open = append(open, strconv.Quote(way))
		}
		fmt.Fprintf(&out, "  %q: { page: %q, ways: [%s] },\n", w.Reason, w.Page, strings.Join(open, ", "))
	}
	out.WriteString("};\n")
	quoted := slices.Sorted(maps.Keys(ways))
	for i := range quoted {
		quoted[i] = strconv.Quote(quoted[i])
	}
	fmt.Fprintf(&out, "\nexport type Way = %s;\n", strings.Join(quoted, " | "))
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

// TestRefusalsHaveAWayOutOnAPage: where the remedy of a refusal names a command, the page has words of its own for that reason.
func TestRefusalsHaveAWayOutOnAPage(t *testing.T) {
	known := map[string]bool{}
	for _, w := range model.WaysOut {
		if strings.Contains(w.Page, "tarn ") {
			t.Errorf("the page's words for %q name a command", w.Reason)
		}
		known[w.Reason] = true
	}
	refusal := regexp.MustCompile(`(?s)(?:Reason: |refuse\((?:[^()"]*|[^()]*\([^()]*\))*?, )"([a-z-]+)",` +
		`(.{0,400}?)\n\t*(?:\}|\)|return|if|case|[a-z]+\.)`)
	seen := 0
	for _, room := range []string{"../core/lock", "../core/change", "../service/handoffs", "../service/locks", "../service/reviewing"} {
		files, err := filepath.Glob(room + "/*.go")
		if err != nil || len(files) == 0 {
			t.Fatal(room, err)
		}
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			for _, m := range refusal.FindAllStringSubmatch(string(text), -1) {
				if strings.Contains(m[2], "tarn ") {
					if seen++; !known[m[1]] {
						t.Errorf("%s: the remedy of %q names a command, and a page has no words for it (core/model/ways.go)", name, m[1])
					}
				}
			}
		}
	}
	if seen < 10 {
		t.Errorf("only %d remedies that name commands were found", seen)
	}
}
