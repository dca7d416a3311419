package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// contexts are the structs that keep a context.Context, and the interface of others that has no place for one and that they stand for.
// Everywhere else it is the first argument of whatever can wait.
var contexts = map[string]string{
	"client.slow":      "io.Reader",
	"contents.Content": "io.ReadSeeker",
	"desk.Line":        "channel.Channel, of jrpc2",
	"store.object":     "io.ReaderAt",
}

func TestContextsAreArguments(t *testing.T) {
	left := map[string]bool{}
	for name := range contexts {
		left[name] = true
	}
	if err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			spec, is := n.(*ast.TypeSpec)
			if !is || !keepsContext(spec.Type) {
				return true
			}
			name := file.Name.Name + "." + spec.Name.Name
			if contexts[name] == "" {
				t.Errorf("%s: %s keeps a context: it is the first argument of whatever can wait", path, name)
			}
			delete(left, name)
			return true
		})
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for name := range left {
		t.Errorf("%s keeps no context any more", name)
	}
}

// keepsContext reports whether a struct has a field of that type.
func keepsContext(of ast.Expr) bool {
	s, is := of.(*ast.StructType)
	if !is {
		return false
	}
	for _, f := range s.Fields.List {
		if of, is := f.Type.(*ast.SelectorExpr); is && of.Sel.Name == "Context" {
			if from, is := of.X.(*ast.Ident); is && from.Name == "context" {
				return true
			}
		}
	}
	return false
}
