package envask_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// layers is the order of the house, from the front to the foundation. A package may import only what stands below it.
var layers = []string{
	"cmd/envask", "internal/cli", "internal/cli/term", "internal/cli/question", "internal/standin", "internal/flow", "internal/report", "internal/brief",
	"internal/compare", "internal/bring", "internal/draft", "internal/submit", "internal/parts",
	"internal/archive", "internal/collect", "internal/collect/transfer", "internal/inbox", "internal/round", "internal/reach", "internal/reach/console",
	"internal/reach/web", "internal/undo",
	"internal/unpack", "internal/logset", "internal/stamp",
	"internal/redact/measure", "internal/casefile", "internal/ask", "internal/site", "internal/device", "internal/extract", "internal/policy", "internal/keyfile", "internal/seal",
	"internal/redact/prove", "internal/redact", "internal/redact/form", "internal/redact/learn", "internal/redact/scan", "internal/redact/find", "internal/redact/alias", "internal/redact/fact", "internal/redact/phrase", "internal/redact/envelope",
	"internal/redact/mutate", "internal/redact/judge", "internal/redact/lexicon", "internal/redact/chars",
	"internal/window", "internal/durable", "internal/spill", "internal/fault", "internal/patience", "internal/webtrust", "internal/posix", "internal/late",
	"internal/reach/reachtest",
}

// Limits of a tidy house, in lines.
const (
	maxFunction = 80
	maxFile     = 650
)

type listed struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) []listed {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	var all []listed
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p listed
		if err := dec.Decode(&p); err == io.EOF {
			return all
		} else {
			require.NoError(t, err)
		}
		all = append(all, p)
	}
}

func TestImportsPointDown(t *testing.T) {
	rank := map[string]int{}
	for i, l := range layers {
		rank["envask/"+l] = i
	}
	for _, p := range packages(t) {
		from, known := rank[p.ImportPath]
		if p.ImportPath == "envask" || strings.HasPrefix(p.ImportPath, "envask/scripts/") {
			continue // this test, and tools of the workshop
		}
		require.True(t, known, "%s is not in the table of layers", p.ImportPath)
		for _, imp := range p.Imports {
			to, ours := rank[imp]
			if ours && p.ImportPath != "envask/internal/reach/reachtest" {
				require.Less(t, from, to, "%s must not import %s", p.ImportPath, imp)
			}
			if p.ImportPath == "envask/internal/redact" {
				require.NotContains(t, []string{"net", "net/http", "os/exec"}, imp, "rules get their inputs handed in")
			}
			require.NotEqual(t, "encoding/json", imp, "%s: there is one library of JSON, github.com/go-json-experiment/json (/v1)",
				p.ImportPath)
			if ours && strings.HasSuffix(imp, "/standin") {
				require.Contains(t, p.ImportPath, "/cli", "stand-ins are for the demo and the tests only")
			}
		}
	}
}

// core packages print nothing, read no flag and no environment.
var forbidden = regexp.MustCompile(`\b(fmt\.Print\w*|os\.Stdout|os\.Stderr|os\.Stdin|os\.Getenv|os\.LookupEnv|flag\.\w+)\b`)

func TestTheCoreIsSilent(t *testing.T) {
	eachFile(t, func(name string, f *ast.File, set *token.FileSet, text string) {
		inCore := strings.HasPrefix(name, "internal/") && !strings.HasPrefix(name, "internal/cli/") &&
			!strings.Contains(name, "/reachtest/")
		if inCore {
			require.NotRegexp(t, forbidden, text, name)
		}
		if !strings.HasPrefix(name, "cmd/") && !strings.HasPrefix(name, "scripts/") {
			require.NotContains(t, text, "os.Exit(", name)
		}
	})
}

func TestFunctionsAndFilesStaySmall(t *testing.T) {
	eachFile(t, func(name string, f *ast.File, set *token.FileSet, text string) {
		require.LessOrEqual(t, strings.Count(text, "\n"), maxFile, "%s has become two things", name)
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			lines := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1
			require.LessOrEqual(t, lines, maxFunction, "%s: %s is too long", name, fn.Name.Name)
		}
	})
}

func TestPackagesAndExportedNamesAreDocumented(t *testing.T) {
	documented := map[string]bool{}
	eachFile(t, func(name string, f *ast.File, _ *token.FileSet, _ string) {
		dir := filepath.Dir(name)
		documented[dir] = documented[dir] || f.Doc != nil
	})
	for dir, ok := range documented {
		require.True(t, ok, "package %s has no comment", dir)
	}
}

func eachFile(t *testing.T, each func(name string, f *ast.File, set *token.FileSet, text string)) {
	t.Helper()
	n := 0
	err := filepath.WalkDir(".", func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, name, text, parser.ParseComments)
		require.NoError(t, err)
		each(filepath.ToSlash(name), f, set, string(text))
		n++
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, n, 40, "the walk must have seen the program")
}

// Tables of kinds and the files beside them must agree: a kind is one file and one line.
func TestEveryKindIsOneFileAndOneLine(t *testing.T) {
	for _, c := range []struct{ files, table, line string }{
		{"internal/ask/kind_*.go", "internal/ask/ask.go", `{"%s", read`},
		{"internal/collect/kind_*.go", "internal/collect/kinds.go", `{"%s", take`},
		{"internal/site/way_*.go", "internal/site/site.go", `{"%s", read`},
		{"internal/submit/route_*.go", "internal/submit/submit.go", `, open%s}`},
	} {
		found, err := filepath.Glob(c.files)
		require.NoError(t, err)
		require.NotEmpty(t, found, c.files)
		table, err := os.ReadFile(c.table)
		require.NoError(t, err)
		for _, f := range found {
			_, key, _ := strings.Cut(strings.TrimSuffix(filepath.Base(f), ".go"), "_")
			line := strings.ToLower(strings.ReplaceAll(c.line, "%s", key))
			require.Contains(t, strings.ToLower(string(table)), line, "%s has no line in %s", f, c.table)
		}
	}
}

// TestPatternsWait: the program starts without compiling a pattern, and each of those that wait for their first use can be compiled.
func TestPatternsWait(t *testing.T) {
	top := regexp.MustCompile(`(?m)^(var [a-zA-Z]+ = |\t[a-zA-Z]+ += )regexp\.MustCompile\(`)
	files, err := filepath.Glob("internal/*/*.go")
	require.NoError(t, err)
	below, err := filepath.Glob("internal/*/*/*.go")
	require.NoError(t, err)
	compiled := 0
	for _, f := range append(files, below...) {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		src, err := os.ReadFile(f)
		require.NoError(t, err)
		require.Empty(t, top.FindString(string(src)), "%s: use late.Pattern", f)
		tree, err := parser.ParseFile(token.NewFileSet(), f, src, 0)
		require.NoError(t, err)
		ast.Inspect(tree, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			if name, ok := call.Fun.(*ast.SelectorExpr); !ok || name.Sel.Name != "Pattern" || len(call.Args) != 1 {
				return true
			}
			expr := textOf(t, call.Args[0])
			_, err = regexp.Compile(expr)
			require.NoError(t, err, f)
			compiled++
			return true
		})
	}
	require.Greater(t, compiled, 30)
}

// textOf gives a text that is written in a source, also one that is put together of several.
func textOf(t *testing.T, e ast.Expr) string {
	t.Helper()
	if sum, ok := e.(*ast.BinaryExpr); ok {
		return textOf(t, sum.X) + textOf(t, sum.Y)
	}
	lit, ok := e.(*ast.BasicLit)
	require.True(t, ok, "late.Pattern of a text that is written there")
	text, err := strconv.Unquote(lit.Value)
	require.NoError(t, err)
	return text
}
