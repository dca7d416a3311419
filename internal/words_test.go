package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"testing"

	"kettletarn/internal/core/news"
)

// What happened is told in words of one table: a literal at the place where it is written would be a second one.
func TestEventsHaveTheirKindsFromTheTable(t *testing.T) {
	files, err := filepath.Glob("service/*.go")
	if err != nil || len(files) < 10 {
		t.Fatal(files, err)
	}
	more, _ := filepath.Glob("service/*/*.go")
	calls := 0
	for _, name := range append(files, more...) {
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			if what, ok := call.Fun.(*ast.SelectorExpr); !ok || what.Sel.Name != "AddEvent" || len(call.Args) < 4 {
				return true
			}
			calls++
			if literal, ok := call.Args[3].(*ast.BasicLit); ok {
				t.Errorf("%s: %s is no kind of the table in core/news", name, literal.Value)
			}
			return true
		})
	}
	if calls < 20 {
		t.Errorf("only %d calls were found", calls)
	}
	seen := map[string]bool{}
	for _, e := range news.Events {
		if e.Telling && !e.Open || seen[e.Kind] {
			t.Errorf("%+v", e)
		}
		seen[e.Kind] = true
	}
}
