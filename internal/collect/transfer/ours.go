package transfer

import (
	"envask/internal/reach"
	"errors"
	"fmt"
	"io/fs"
	"syscall"
)

// LocalError is a failure on our side that concerns all of a round, such as a folder that is gone. It stops the whole round, which
// stays unfinished: a table that blames a system for it would be wrong.
type LocalError struct{ Err error }

func (e *LocalError) Error() string { return "write in the case folder: " + e.Err.Error() }
func (e *LocalError) Unwrap() error { return e.Err }

// IsLocal says whether an error stops the whole round.
func IsLocal(err error) bool {
	var local *LocalError
	return errors.As(err, &local)
}

// RoomError is a failure on our side that concerns one piece of evidence: it does not fit here. The rest goes on.
type RoomError struct{ Err error }

func (e *RoomError) Error() string {
	return "no room for it in the case folder (" + e.Err.Error() + "); make room, then run: envask collect --missing"
}
func (e *RoomError) Unwrap() error { return e.Err }

// Ours is a failure to write evidence down: of this piece alone where it is too large for the disk or its name too long for it.
func Ours(err error) error {
	var room *RoomError
	switch {
	case err == nil || IsLocal(err) || errors.As(err, &room):
		return err
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT), errors.Is(err, syscall.EFBIG):
		return &RoomError{PlainPath(err)}
	case errors.Is(err, syscall.ENAMETOOLONG):
		return fmt.Errorf("its name is longer than this disk takes: %w", PlainPath(err))
	}
	return &LocalError{err}
}

// PlainPath takes our own path out of an error: the table is about systems.
func PlainPath(err error) error {
	var number syscall.Errno
	if errors.As(err, &number) {
		return number
	}
	return err
}

// IsOurs says whether an error is one of writing here, whatever it concerns.
func IsOurs(err error) bool {
	var room *RoomError
	return IsLocal(err) || errors.As(err, &room)
}

// Plain gives the reason in an error without the path, which stands beside it.
func Plain(err error) string {
	noElevation := reach.WhyNoElevation(err)
	var p *fs.PathError
	for errors.As(err, &p) {
		err = p.Err
		p = nil
	}
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "permission denied" + noElevation
	case errors.Is(err, fs.ErrNotExist):
		return "no longer there"
	}
	return fmt.Sprint(err)
}
