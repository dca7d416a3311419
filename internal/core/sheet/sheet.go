// Package sheet writes lists as tables that a spreadsheet reads: CSV as RFC 4180 has it.
package sheet

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strings"
	"time"

	"kettletarn/internal/core/text"
)

// ErrNoList is the error of what has no list in it.
var ErrNoList = errors.New("there is no list in it")

// Write writes the list that v is, or that is in v: a struct or a map whose first field (by the order of fields, or by name) that is a list
// of structs counts. The columns are its JSON keys; what is inside a struct inside has both keys, and a list of words is one cell.
func Write(w io.Writer, v any) error {
	list, ok := find(reflect.ValueOf(v))
	if !ok {
		return ErrNoList
	}
	element := list.Type().Elem()
	out := csv.NewWriter(w)
	out.UseCRLF = true
	columns := columnsOf(element, nil, "")
	row := make([]string, len(columns))
	for i, c := range columns {
		row[i] = c.name
	}
	if err := out.Write(row); err != nil {
		return err
	}
	for i := range list.Len() {
		for j, c := range columns {
			row[j] = text.Cell(c.text(list.Index(i)))
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// Listed reports whether Write finds a list in what is of v's type: a struct.
func Listed(v any) bool {
	t := reflect.TypeOf(v)
	if t == nil || t.Kind() != reflect.Struct {
		return false
	}
	for i := range t.NumField() {
		if f := t.Field(i).Type; f.Kind() == reflect.Slice && structOf(f.Elem()) {
			return true
		}
	}
	return false
}

func find(v reflect.Value) (list reflect.Value, ok bool) {
	for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		if v.IsNil() {
			return v, false
		}
		v = v.Elem()
	}
	switch v.Kind() {
	case reflect.Slice:
		return v, structOf(v.Type().Elem())
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Field(i); f.Kind() == reflect.Slice && structOf(f.Type().Elem()) {
				return f, true
			}
		}
	case reflect.Map:
		for _, key := range []string{"assets", "handoffs", "versions"} {
			if f := v.MapIndex(reflect.ValueOf(key)); f.IsValid() {
				if list, ok := find(f); ok {
					return list, true
				}
			}
		}
		for it := v.MapRange(); it.Next(); {
			if list, ok := find(it.Value()); ok {
				return list, true
			}
		}
	}
	return v, false
}

var timeType = reflect.TypeFor[time.Time]()

func structOf(t reflect.Type) bool {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return t.Kind() == reflect.Struct && t != timeType
}

// column is one key, and the fields that lead to it.
type column struct {
	name string
	path []int
}

func columnsOf(t reflect.Type, path []int, prefix string) (list []column) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if !f.IsExported() || name == "-" || name == "" && !f.Anonymous {
			continue
		}
		at := append(append([]int{}, path...), i)
		switch {
		case f.Anonymous:
			list = append(list, columnsOf(f.Type, at, prefix)...)
		case structOf(f.Type):
			if len(path) < 2 {
				list = append(list, columnsOf(f.Type, at, prefix+name+".")...)
			}
		case f.Type.Kind() == reflect.Slice && structOf(f.Type.Elem()):
			// A list within a list has no place in a table.
		default:
			list = append(list, column{prefix + name, at})
		}
	}
	return list
}

func (c column) text(v reflect.Value) string {
	for _, i := range append([]int{-1}, c.path...) {
		if i >= 0 {
			v = v.Field(i)
		}
		for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
			if v.IsNil() {
				return ""
			}
			v = v.Elem()
		}
	}
	switch x := v.Interface().(type) {
	case time.Time:
		if x.IsZero() {
			return ""
		}
		return x.UTC().Format(time.RFC3339)
	case string:
		return x
	case []string:
		return strings.Join(x, ", ")
	case bool:
		if !x {
			return ""
		}
		return "yes"
	}
	if v.Kind() == reflect.Map || v.Kind() == reflect.Slice {
		data, _ := json.Marshal(v.Interface())
		return string(data)
	}
	return fmt.Sprint(v.Interface())
}
