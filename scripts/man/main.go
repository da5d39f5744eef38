// Man writes the manual pages of envask and its commands into a folder: man DIR.
package main

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra/doc"

	"envask/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: man DIR")
		os.Exit(2)
	}
	day := time.Unix(0, 0).UTC() // the same pages from the same sources
	head := &doc.GenManHeader{Title: "ENVASK", Section: "1", Source: "Envask " + cli.Version, Manual: "Envask", Date: &day}
	root := cli.Root()
	root.DisableAutoGenTag = true
	err := os.MkdirAll(os.Args[1], 0o755)
	if err == nil {
		err = doc.GenManTree(root, head, os.Args[1])
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "error:", err)
		os.Exit(1)
	}
}
