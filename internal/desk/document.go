package desk

import (
	"reflect"

	"github.com/getkin/kin-openapi/openapi3"

	"kettletarn/internal/schemas"
)

// Document describes the local interface, in the form of OpenRPC 1.3: its methods with what they take and answer, and, as x-notifications,
// what is told without having been asked for.
func Document() map[string]any {
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
