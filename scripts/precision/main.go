// Command precision prints what redaction replaces in the texts of this machine: counts by kind and rule, and random samples to read.
package main

import (
	"flag"
	"fmt"
	"os"

	"envask/internal/redact/measure"
)

func main() {
	each := flag.Int("samples", 60, "samples of each rule")
	direct := flag.Bool("direct", false, "samples of what rules find at their places, without what was learned")
	flag.Parse()
	r, err := measure.Precision(measure.Kinds(), *each, *direct, 12<<20)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	r.Write(os.Stdout, *each > 0)
}
