// Package schemas describes the types of what is said over the wire as JSON Schema.
package schemas

import (
	"reflect"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3gen"

	"kettletarn/internal/core/chunk"
)

// Of describes the type of a value, in the components where it is a struct of ours.
func Of(v any, components openapi3.Schemas) *openapi3.SchemaRef {
	ref, err := openapi3gen.NewSchemaRefForValue(v, components,
		openapi3gen.CreateComponentSchemas(openapi3gen.ExportComponentSchemasOptions{ExportComponentSchemas: true, ExportTopLevelSchema: true}),
		openapi3gen.SchemaCustomizer(customize))
	if err != nil {
		panic(err)
	}
	return ref
}

// customize adds what the types say and the generator does not know: digests are hex, fields without omitempty are always there,
// and there are no others.
func customize(_ string, t reflect.Type, _ reflect.StructTag, s *openapi3.Schema) error {
	if t == reflect.TypeFor[chunk.Digest]() {
		*s = *openapi3.NewStringSchema().WithPattern("^[0-9a-f]{64}$")
		return nil
	}
	if t.Kind() == reflect.Int {
		s.Min, s.Max = nil, nil
	}
	if t.Kind() != reflect.Struct || !strings.HasPrefix(t.PkgPath(), "kettletarn/") {
		return nil
	}
	s.AdditionalProperties = openapi3.AdditionalProperties{Has: openapi3.Ptr(false)}
	for _, field := range reflect.VisibleFields(t) {
		name, options, _ := strings.Cut(field.Tag.Get("json"), ",")
		if options != "omitempty" && options != "omitzero" && !field.Anonymous {
			s.Required = append(s.Required, name)
		}
	}
	return nil
}

// Key is the name of a field on the wire; has is false for one that has none of its own there.
func Key(f reflect.StructField) (name string, has bool) {
	name, _, _ = strings.Cut(f.Tag.Get("json"), ",")
	return name, name != "" && name != "-" && !f.Anonymous
}
