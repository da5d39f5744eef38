package envask_test

import (
	"go/ast"
	"go/token"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// Width counts as length does: of lines in columns, of functions in branches.
const (
	maxColumns  = 140
	maxBranches = 25
)

func TestLinesAndFunctionsStayNarrow(t *testing.T) {
	eachFile(t, func(name string, f *ast.File, _ *token.FileSet, text string) {
		for i, line := range strings.Split(text, "\n") {
			columns := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
			require.LessOrEqual(t, columns, maxColumns, "%s:%d is too wide: break it where its thought does", name, i+1)
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			require.LessOrEqual(t, branches(fn), maxBranches, "%s: %s has too many branches: name its parts", name, fn.Name.Name)
		}
	})
}

// branches counts the ways on which a function may go on.
func branches(fn *ast.FuncDecl) (n int) {
	ast.Inspect(fn.Body, func(x ast.Node) bool {
		switch x := x.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt, *ast.CommClause:
			n++
		case *ast.CaseClause:
			if x.List != nil {
				n++
			}
		case *ast.BinaryExpr:
			if x.Op == token.LAND || x.Op == token.LOR {
				n++
			}
		}
		return true
	})
	return n
}
