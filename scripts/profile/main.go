// Profile puts profiles of benchmarks together into the one by which the compiler is told what is worth inlining: profile OUT IN...
// Where they were made is left out.
package main

import (
	"fmt"
	"os"

	"github.com/google/pprof/profile"
)

func main() {
	if len(os.Args) < 3 {
		fmt.Fprintln(os.Stderr, "usage: profile OUT IN...")
		os.Exit(2)
	}
	if err := run(os.Args[1], os.Args[2:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(out string, in []string) error {
	var all []*profile.Profile
	for _, name := range in {
		p, err := read(name)
		if err != nil {
			return err
		}
		all = append(all, p)
	}
	p, err := profile.Merge(all)
	if err != nil {
		return err
	}
	p.TimeNanos = 0
	f, err := os.Create(out)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := p.Write(f); err != nil {
		return err
	}
	return f.Close()
}

func read(name string) (*profile.Profile, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	p, err := profile.Parse(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for _, m := range p.Mapping {
		m.File, m.BuildID = "", ""
	}
	for _, f := range p.Function {
		f.Filename = ""
	}
	return p, nil
}
