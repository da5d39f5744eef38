// Testreport reads the output of go test -json: it prints what failed in full, a line for each package, and at the end,
// loudly, what was skipped and why.
package main

import (
	"bufio"
	"fmt"
	"os"
	"sort"
	"strings"

	"github.com/go-json-experiment/json/v1"
)

type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64
}

func main() {
	if err := run(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	output := map[string][]string{}
	count := map[string]int{}
	var skipped []string
	in := bufio.NewScanner(f)
	in.Buffer(make([]byte, 0, 1<<20), 64<<20)
	for in.Scan() {
		var e event
		if json.Unmarshal(in.Bytes(), &e) != nil {
			fmt.Println(in.Text()) // a build that failed speaks without JSON
			continue
		}
		key := e.Package + " " + e.Test
		switch e.Action {
		case "output", "build-output":
			output[key] = append(output[key], e.Output)
		case "fail":
			fmt.Print(strings.Join(output[key], ""))
			count["failed"]++
		case "skip":
			if e.Test != "" {
				skipped = append(skipped, key+": "+reason(output[key]))
				count["skipped"]++
			}
		case "pass":
			if e.Test == "" {
				fmt.Printf("ok  %-32s %6.1fs\n", e.Package, e.Elapsed)
			} else {
				count["passed"]++
			}
		}
		if e.Action == "pass" || e.Action == "fail" || e.Action == "skip" {
			delete(output, key)
		}
	}
	sort.Strings(skipped)
	for _, s := range skipped {
		fmt.Println("!! SKIPPED " + s)
	}
	fmt.Printf("%d passed, %d failed, %d skipped\n", count["passed"], count["failed"], count["skipped"])
	return in.Err()
}

// reason gives what a skipped test said.
func reason(lines []string) string {
	for _, l := range lines {
		if i := strings.Index(l, "SKIPPED"); i >= 0 {
			return strings.TrimPrefix(strings.TrimSpace(l[i+len("SKIPPED"):]), ": ")
		}
	}
	return strings.TrimSpace(strings.Join(lines, " "))
}
