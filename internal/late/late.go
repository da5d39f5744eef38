// Package late makes regular expressions that are compiled when they are first used: the program starts without paying for those
// that a command does not need.
package late

import (
	"regexp"
	"sync"
)

// Pattern gives a regular expression in Go's syntax. One that cannot be compiled panics where it is first used; a test of the house
// compiles
// them all.
func Pattern(expr string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr) })
}
