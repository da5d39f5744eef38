package collect

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"time"

	"envask/internal/reach"
	"envask/internal/round"
)

// stateOf maps an error of a file to a state.
func stateOf(err error) round.State {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return round.Denied
	case errors.Is(err, fs.ErrNotExist):
		return round.Missing
	case errors.Is(err, reach.ErrExchanged):
		return round.Refused
	case silent(err):
		return round.TimedOut
	}
	return round.Failed
}

// silent says whether the other side did not answer in time.
func silent(err error) bool {
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, reach.ErrSilent)
}

// lostWait bounds how long is waited for the reason why a connection is gone, when a read has failed with it.
const lostWait = 2 * time.Second

// lostBy gives the reason when the connection to a system is gone, after an error: the error may come first, and the reason
// a moment later.
func lostBy(s reach.System, err error) error {
	_, tells := s.(reach.Health)
	if tells && reach.Broken(err) {
		for end := time.Now().Add(lostWait); lost(s) == nil && time.Now().Before(end); {
			time.Sleep(10 * time.Millisecond)
		}
	}
	return lost(s)
}

// lost gives the reason when the connection to a system is gone.
func lost(s reach.System) error {
	if h, ok := s.(reach.Health); ok {
		return h.Lost()
	}
	return nil
}
