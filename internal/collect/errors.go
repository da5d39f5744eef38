package collect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"envask/internal/reach"
)

// stateOf maps an error of a file to a state.
func stateOf(err error) State {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return Denied
	case errors.Is(err, fs.ErrNotExist):
		return Missing
	case silent(err):
		return TimedOut
	}
	return Failed
}

// silent says whether the other side did not answer in time.
func silent(err error) bool {
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, reach.ErrSilent)
}

// plain gives the reason in an error without the path, which stands beside it.
func plain(err error) string {
	var p *fs.PathError
	for errors.As(err, &p) {
		err = p.Err
		p = nil
	}
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "permission denied"
	case errors.Is(err, fs.ErrNotExist):
		return "not there any more"
	}
	return fmt.Sprint(err)
}

// lost gives the reason when the connection to a system is gone.
func lost(s reach.System) error {
	if h, ok := s.(reach.Health); ok {
		return h.Lost()
	}
	return nil
}
