package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// grows are the lists whose length a trace decides, by the field or method that holds them.
var grows = map[string]bool{
	"KeptBy": true, "Keeps": true, "Homed": true, "Built": true, "Containers": true, "children": true,
}

// TestWalksAreMetered reads the core's source: a function that goes through a list whose length a trace decides counts its steps, so that the
// budget of a line holds for it too.
func TestWalksAreMetered(t *testing.T) {
	for _, dir := range []string{"ledger", "facts", "rules"} {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			files := token.NewFileSet()
			file, err := parser.ParseFile(files, path, nil, 0)
			require.NoError(t, err)
			for _, decl := range file.Decls {
				if f, ok := decl.(*ast.FuncDecl); ok && f.Body != nil {
					unmetered(f, func(at token.Pos, list string) {
						t.Errorf("%s: %s goes through %s without counting steps", files.Position(at), f.Name.Name, list)
					})
				}
			}
			return nil
		}))
	}
}

// unmetered calls report for each loop over a growing list in a function that counts no steps.
func unmetered(f *ast.FuncDecl, report func(token.Pos, string)) {
	metered := false
	ast.Inspect(f.Body, func(n ast.Node) bool {
		if call, ok := n.(*ast.CallExpr); ok {
			if sel, ok := call.Fun.(*ast.SelectorExpr); ok && (sel.Sel.Name == "Step" || sel.Sel.Name == "follow" || sel.Sel.Name == "visit") {
				metered = true
			}
		}
		return !metered
	})
	if metered {
		return
	}
	ast.Inspect(f.Body, func(n ast.Node) bool {
		var over ast.Expr
		switch n := n.(type) {
		case *ast.RangeStmt:
			over = n.X
		case *ast.CallExpr:
			if sel, ok := n.Fun.(*ast.SelectorExpr); ok {
				if pkg, ok := sel.X.(*ast.Ident); ok && pkg.Name == "slices" && len(n.Args) > 0 {
					over = n.Args[0]
				}
			}
		}
		if call, ok := over.(*ast.CallExpr); ok {
			over = call.Fun
		}
		if sel, ok := over.(*ast.SelectorExpr); ok && grows[sel.Sel.Name] {
			report(n.Pos(), sel.Sel.Name)
		}
		return true
	})
}
