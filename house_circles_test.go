package envask_test

import (
	"go/ast"
	"go/build"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// maxCircle is how many files of a package may name each other in a circle.
const maxCircle = 8

// A package that grew large stays readable from the ground up: its files name what stands below them.
func TestFilesOfLargePackagesPointDown(t *testing.T) {
	for _, dir := range []string{"internal/redact", "internal/redact/find", "internal/redact/alias"} {
		uses := fileUses(t, dir)
		for _, circle := range circles(uses) {
			require.LessOrEqual(t, len(circle), maxCircle, "%s: %s name each other", dir, strings.Join(circle, " "))
		}
	}
}

// fileUses gives, for each file of a package, the other files whose declarations it names.
func fileUses(t *testing.T, dir string) map[string]map[string]bool {
	t.Helper()
	set := token.NewFileSet()
	names, err := filepath.Glob(dir + "/*.go")
	require.NoError(t, err)
	var files []*ast.File
	for _, name := range names {
		if built, err := build.Default.MatchFile(dir, filepath.Base(name)); err != nil || !built || strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(set, name, nil, 0)
		require.NoError(t, err)
		files = append(files, f)
	}
	info := &types.Info{Uses: map[*ast.Ident]types.Object{}}
	config := types.Config{Importer: importer.ForCompiler(set, "source", nil), Error: func(error) {}}
	pkg, _ := config.Check(dir, set, files, info)
	uses := map[string]map[string]bool{}
	file := func(at token.Pos) string { return filepath.Base(set.Position(at).Filename) }
	for id, object := range info.Uses {
		if _, field := object.(*types.Var); object.Pkg() != pkg || field && object.Parent() != pkg.Scope() {
			continue
		}
		if from, to := file(id.Pos()), file(object.Pos()); from != to {
			if uses[from] == nil {
				uses[from] = map[string]bool{}
			}
			uses[from][to] = true
		}
	}
	require.NotEmpty(t, uses, dir)
	return uses
}

// circles gives the groups of files from each of which all others of the group are reached.
func circles(uses map[string]map[string]bool) (all [][]string) {
	reached := map[string]map[string]bool{}
	var walk func(from, at string)
	walk = func(from, at string) {
		for to := range uses[at] {
			if !reached[from][to] {
				reached[from][to] = true
				walk(from, to)
			}
		}
	}
	for from := range uses {
		reached[from] = map[string]bool{}
		walk(from, from)
	}
	seen := map[string]bool{}
	for from := range uses {
		if seen[from] || !reached[from][from] {
			continue
		}
		var group []string
		for to := range reached[from] {
			if reached[to][from] {
				group, seen[to] = append(group, to), true
			}
		}
		sort.Strings(group)
		all = append(all, group)
	}
	return all
}
