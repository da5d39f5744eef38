package fault

import (
	"context"
	"errors"
	"strings"
)

// Class says what kind of failure an error is. It is what callers act on; the sentence is for people.
type Class int

const (
	// Failed is any failure that is nobody's mistake in writing. The zero Class means Failed too.
	Failed Class = iota + 1
	// Usage is a wrong flag or argument, or a bad input file.
	Usage
	// Incomplete means the work was done, but something that the ask requires is missing.
	Incomplete
	// Refused means the whole command was refused for safety.
	Refused
	// Interrupted means a person stopped the work; it can be resumed.
	Interrupted
)

// ExitCodes gives the exit code of each class, as documented in docs/exit-codes.md.
var ExitCodes = map[Class]int{Failed: 1, Usage: 2, Incomplete: 3, Refused: 4, Interrupted: 130}

// Error is one failure as a person reads it.
type Error struct {
	Class  Class
	Op     string // what was being done, e.g. "open case"
	Target string // the system, file or place, e.g. "gate-1" or "ask.yaml:3:4"
	Err    error  // why
	Hint   string // what to do next; printed on its own line
}

// Error gives "op target: why" without the hint.
func (e *Error) Error() string {
	var b strings.Builder
	b.WriteString(e.Op)
	if e.Target != "" {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(e.Target)
	}
	if e.Err != nil {
		if b.Len() > 0 {
			b.WriteString(": ")
		}
		b.WriteString(e.Err.Error())
	}
	return b.String()
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Err }

// New makes an error of a class from a sentence, with a hint that may be empty.
func New(class Class, op, target, why, hint string) *Error {
	return &Error{Class: class, Op: op, Target: target, Err: errors.New(why), Hint: hint}
}

// Wrap makes an error of class Failed around a cause; nil stays nil.
func Wrap(op, target string, err error) error {
	if err == nil {
		return nil
	}
	return &Error{Class: classOfCause(err), Op: op, Target: target, Err: err}
}

func classOfCause(err error) Class {
	if errors.Is(err, context.Canceled) {
		return Interrupted
	}
	var inner *Error
	if errors.As(err, &inner) && inner.Class != 0 {
		return inner.Class
	}
	return Failed
}

// ClassOf gives the class of any error. A cancelled context counts as Interrupted.
func ClassOf(err error) Class { return classOfCause(err) }

// ExitCode gives the process exit code of an error; nil is 0.
func ExitCode(err error) int {
	if err == nil {
		return 0
	}
	return ExitCodes[ClassOf(err)]
}

// HintOf gives the first hint in an error's chain, or "".
func HintOf(err error) string {
	for err != nil {
		var e *Error
		if !errors.As(err, &e) {
			return ""
		}
		if e.Hint != "" {
			return e.Hint
		}
		err = e.Err
	}
	return ""
}
