package envask_test

import (
	"go/ast"
	"go/token"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// Width counts as length does: of lines in columns, of functions in branches. redact is held to it when it is built anew.
const (
	maxColumns  = 140
	maxBranches = 25
)

// wideLines is how many lines of a package are wider than they may be, and manyBranches how many branches a function has that has more
// than it may. Both only go down: who touches one makes it narrower.
var (
	wideLines = map[string]int{
		"internal/flow":            126,
		"internal/cli":             92,
		"internal/stamp":           53,
		"internal/standin":         49,
		"internal/collect":         46,
		"internal/submit":          38,
		"internal/report":          27,
		"internal/reach":           24,
		"internal/ask":             11,
		"internal/archive":         9,
		"internal/reach/reachtest": 7,
		"internal/logset":          7,
		"internal/compare":         4,
		"scripts/genlog":           3,
		"internal/casefile":        3,
		"internal/window":          2,
		"internal/policy":          2,
		"internal/durable":         2,
		"internal/seal":            1,
	}
	manyBranches = map[string]int{
		"internal/stamp.nameAt":     34,
		"internal/stamp.fromYear":   33,
		"internal/stamp.Line":       30,
		"internal/stamp.clockAfter": 29,
		"internal/stamp.value":      28,
		"internal/stamp.clock":      27,
		"internal/stamp.looksXML":   26,
	}
)

func TestLinesAndFunctionsStayNarrow(t *testing.T) {
	wide := map[string]int{}
	eachFile(t, func(name string, f *ast.File, _ *token.FileSet, text string) {
		dir := name[:max(0, strings.LastIndexByte(name, '/'))]
		if dir == "internal/redact" {
			return
		}
		for _, line := range strings.Split(text, "\n") {
			if utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")) > maxColumns {
				wide[dir]++
			}
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			n := branches(fn)
			key := dir + "." + fn.Name.Name
			if allowed := manyBranches[key]; allowed > 0 {
				require.LessOrEqual(t, n, allowed, "%s has more branches than before", key)
				require.Greater(t, n, maxBranches, "%s is narrow enough now: take it off the list", key)
				continue
			}
			require.LessOrEqual(t, n, maxBranches, "%s has too many branches: name the parts", key)
		}
	})
	for dir, n := range wide {
		require.LessOrEqual(t, n, wideLines[dir], "%s has more lines of over %d columns than before", dir, maxColumns)
	}
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
