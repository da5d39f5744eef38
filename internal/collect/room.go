package collect

import (
	"errors"
	"fmt"
	"strings"
	"syscall"
)

// localError is a failure on our side that concerns all of a round, such as a folder that is gone. It stops the whole round, which
// stays unfinished: a table that blames a system for it would be wrong.
type localError struct{ err error }

func (e *localError) Error() string { return "write in the case folder: " + e.err.Error() }
func (e *localError) Unwrap() error { return e.err }

func isLocal(err error) bool {
	var local *localError
	return errors.As(err, &local)
}

// roomError is a failure on our side that concerns one piece of evidence: it does not fit here. The rest goes on.
type roomError struct{ err error }

func (e *roomError) Error() string {
	return "no room for it in the case folder (" + e.err.Error() + "); make room, then run: envask collect --missing"
}
func (e *roomError) Unwrap() error { return e.err }

// ours is a failure to write evidence down: of this piece alone where it is too large for the disk or its name too long for it.
func ours(err error) error {
	var room *roomError
	switch {
	case err == nil || isLocal(err) || errors.As(err, &room):
		return err
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT), errors.Is(err, syscall.EFBIG):
		return &roomError{plainPath(err)}
	case errors.Is(err, syscall.ENAMETOOLONG):
		return fmt.Errorf("its name is longer than this disk takes: %w", plainPath(err))
	}
	return &localError{err}
}

// plainPath takes our own path out of an error: the table is about systems.
func plainPath(err error) error {
	var number syscall.Errno
	if errors.As(err, &number) {
		return number
	}
	return err
}

// isOurs says whether an error is one of writing here, whatever it concerns.
func isOurs(err error) bool {
	var room *roomError
	return isLocal(err) || errors.As(err, &room)
}

// maxTarget is the longest path of a piece of evidence below its system's folder, in bytes. A system may have longer ones: in the
// archive the names of several systems must fit below each other, and most disks take 4096 in all.
const maxTarget = 700

// shortTarget gives a path that is not too long: the folders in its middle give way to a piece of the hash of the whole.
func shortTarget(target string) string {
	if len(target) <= maxTarget {
		return target
	}
	first, rest, _ := strings.Cut(target, "/")
	last := rest[strings.LastIndexByte(rest, '/')+1:]
	keep := rest[:maxTarget-len(last)-2*maxElement]
	keep = keep[:max(0, strings.LastIndexByte(keep, '/'))]
	return first + "/" + strings.TrimPrefix(keep+"/", "/") + "%~" + hashPiece(target) + "/" + last
}
