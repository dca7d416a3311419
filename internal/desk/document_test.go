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

	"kettletarn/internal/schemas"

	"github.com/getkin/kin-openapi/openapi3"
)

// TestTheDocumentIsCurrent: what editors read and what the console's page is typed by are made from the table of methods.
func TestTheDocumentIsCurrent(t *testing.T) {
	doc := document()
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

// document describes the local interface, in the form of OpenRPC 1.3: its methods with what they take and answer, and, as x-notifications,
// what is told without having been asked for.
func document() map[string]any {
	components := openapi3.Schemas{}
	var methods []map[string]any
	for _, m := range Methods() {
		one := map[string]any{"name": m.Name, "summary": m.About, "paramStructure": "by-name", "params": params(m.Takes, components),
			"result": map[string]any{"name": "result", "schema": schemas.Of(reflect.New(m.Answers).Elem().Interface(), components)},
			"errors": []map[string]any{{"code": CodeRefused, "message": "refused"}, {"code": CodeWrongUse, "message": "wrong use"},
				{"code": CodeUnreachable, "message": "the service can't be reached"}}}
		methods = append(methods, one)
	}
	var told []map[string]any
	for _, n := range []struct {
		name, about string
		of          any
	}{
		{"changed", "Something is other in a workspace that one follows", Changed{}},
		{"noticed", "A watch in a workspace that one follows has something to say", Noticed{}},
		{"progress", "How far long work is, for requests with a word for it", Progress{}},
	} {
		told = append(told, map[string]any{"name": n.name, "summary": n.about, "params": params(reflect.TypeOf(n.of), components)})
	}
	schemas.Of(Refusals{}, components)
	return map[string]any{"openrpc": "1.3.2",
		"info":    map[string]any{"title": "Kettle Tarn, local interface", "version": Edition},
		"methods": methods, "x-notifications": told, "components": map[string]any{"schemas": components}}
}

// params are the fields of a type as named parameters.
func params(t reflect.Type, components openapi3.Schemas) []map[string]any {
	schemas.Of(reflect.New(t).Elem().Interface(), components)
	list := []map[string]any{}
	whole := components[t.Name()]
	if whole == nil {
		return list
	}
	for _, f := range reflect.VisibleFields(t) {
		name, has := schemas.Key(f)
		if !has {
			continue
		}
		required := false
		for _, r := range whole.Value.Required {
			required = required || r == name
		}
		list = append(list, map[string]any{"name": name, "required": required, "schema": whole.Value.Properties[name]})
	}
	return list
}

// current holds a file of the project, by its path from the test's package, to what it should be; with UPDATE=1, it makes it so.
func current(t *testing.T, name, want string) {
	t.Helper()
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(name, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if old, err := os.ReadFile(name); err != nil || string(old) != want {
		t.Errorf("%s is not what the program says; run this test with UPDATE=1", strings.TrimLeft(name, "./"))
	}
}
