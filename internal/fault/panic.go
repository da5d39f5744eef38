package fault

import (
	"fmt"
	"runtime/debug"
	"strings"
)

// PanicError is a mistake of ours that was met in the middle of work on one thing: that thing failed, the others go on.
type PanicError struct {
	Value any
	Stack string // where, for a report; it holds no evidence
}

func (e *PanicError) Error() string {
	return fmt.Sprintf("a mistake in Envask (%.200v at %s); please report it", e.Value, e.where())
}

// where gives the place in our own code that is nearest to the panic.
func (e *PanicError) where() string {
	_, below, found := strings.Cut(e.Stack, "panic(")
	if !found {
		below = e.Stack
	}
	for line := range strings.Lines(below) {
		line = strings.TrimSpace(line)
		if i := strings.Index(line, "/internal/"); i >= 0 && strings.Contains(line, ".go:") {
			place, _, _ := strings.Cut(line[i+1:], " ")
			return place
		}
	}
	return "an unknown place"
}

// Safely calls a function and makes an error of a panic in it. Every goroutine that works on what a system sent goes through it:
// a panic in any other would end the program, and with it the work on all other systems.
func Safely(do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &PanicError{Value: p, Stack: string(debug.Stack())}
		}
	}()
	return do()
}
