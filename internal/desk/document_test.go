package desk

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
)

// TestTheDocumentIsCurrent: what editors read and what the console's page is typed by are made from the table of methods.
func TestTheDocumentIsCurrent(t *testing.T) {
	doc := Document()
	text, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	current(t, "../../docs/editor-interface.json", string(text)+"\n")
	components := doc["components"].(map[string]any)["schemas"].(openapi3.Schemas)
	var out strings.Builder
	out.WriteString("// Made from the table of methods by UPDATE=1 go test ./internal/desk.\n")
	for _, name := range slices.Sorted(maps.Keys(components)) {
		fmt.Fprintf(&out, "\nexport interface %s %s\n", name, script(components[name].Value, ""))
	}
	out.WriteString("\nexport type Nothing = Record<string, never>;\n\nexport interface Methods {\n")
	for _, m := range Methods() {
		fmt.Fprintf(&out, "  %s: { takes: %s; answers: %s };\n", m.Name, m.Takes.Name(), plain(m.Answers))
	}
	out.WriteString("}\n")
	current(t, "../../web/src/api/desk.gen.ts", out.String())

	words, err := os.ReadFile("../../docs/editor-interface.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range Methods() {
		if !strings.Contains(string(words), "`"+m.Name+"`") {
			t.Errorf("docs/editor-interface.md says nothing of %s", m.Name)
		}
	}
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
		t.Errorf("%s is not what the program says; run UPDATE=1 go test ./internal/desk", strings.TrimLeft(name, "./"))
	}
}

// plain is the name of a type, also of what a pointer points at.
func plain(t reflect.Type) string {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return t.Name()
}

// script is a schema as a type of TypeScript.
func script(s *openapi3.Schema, indent string) string {
	switch {
	case s == nil || s.Type == nil:
		return "unknown"
	case s.Type.Is("string"):
		return "string"
	case s.Type.Is("boolean"):
		return "boolean"
	case s.Type.Is("integer"), s.Type.Is("number"):
		return "number"
	case s.Type.Is("array"):
		return ref(s.Items, indent) + "[]"
	case len(s.Properties) == 0 && s.AdditionalProperties.Schema != nil:
		return "Record<string, " + ref(s.AdditionalProperties.Schema, indent) + ">"
	}
	if len(s.Properties) == 0 {
		return "{}"
	}
	var out strings.Builder
	out.WriteString("{\n")
	for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
		optional := ""
		if !slices.Contains(s.Required, name) {
			optional = "?"
		}
		fmt.Fprintf(&out, "%s  %s%s: %s;\n", indent, name, optional, ref(s.Properties[name], indent+"  "))
	}
	return out.String() + indent + "}"
}

func ref(r *openapi3.SchemaRef, indent string) string {
	if r == nil {
		return "unknown"
	}
	if name, ok := strings.CutPrefix(r.Ref, "#/components/schemas/"); ok {
		return name
	}
	return script(r.Value, indent)
}
