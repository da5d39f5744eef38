// Command platforms checks that the sources fit together on every platform for which programs are made, without making them: it reads
// all of them, libraries and the standard library among them, and checks their types. It takes seconds where six builds take minutes.
//
//	platforms linux/amd64 windows/arm64 …
package main

import (
	"fmt"
	"os"
	"strings"

	"golang.org/x/tools/go/packages"
)

func main() {
	failed := false
	for _, platform := range os.Args[1:] {
		system, machine, ok := strings.Cut(platform, "/")
		if !ok {
			fmt.Fprintf(os.Stderr, "%q: expected a system and a processor, such as linux/amd64\n", platform)
			os.Exit(2)
		}
		loaded, err := packages.Load(&packages.Config{
			Mode: packages.NeedName | packages.NeedFiles | packages.NeedImports | packages.NeedDeps | packages.NeedTypes |
				packages.NeedSyntax | packages.NeedTypesInfo | packages.NeedTypesSizes,
			Tests:      true,
			Env:        append(os.Environ(), "GOOS="+system, "GOARCH="+machine, "CGO_ENABLED=0"),
			BuildFlags: []string{"-tags", "nethttpomithttp2"},
		}, "./cmd/...", "./internal/...")
		if err != nil {
			fmt.Fprintf(os.Stderr, "%s: %v\n", platform, err)
			os.Exit(1)
		}
		checked := 0
		packages.Visit(loaded, nil, func(p *packages.Package) {
			checked++
			for _, e := range p.Errors {
				failed = true
				fmt.Fprintf(os.Stderr, "%s: %v\n", platform, e)
			}
		})
		fmt.Printf("%s: %d packages fit\n", platform, checked)
	}
	if failed {
		os.Exit(1)
	}
}
