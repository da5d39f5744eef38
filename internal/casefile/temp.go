package casefile

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"envask/internal/durable"

	"github.com/gofrs/flock"
)

// Temp gives a new folder for temporary files of a command that has no case: in the home, since they may hold evidence, and never in
// the system's own folder. done removes it; what a killed process left there is removed by the next that makes one.
func (h Home) Temp() (dir string, done func(), err error) {
	top := filepath.Join(h.Dir, "tmp")
	if err := os.MkdirAll(top, 0o700); err != nil {
		return "", nil, err
	}
	guard := tempGuard(top)
	if err := guard.Lock(); err != nil {
		return "", nil, err
	}
	defer guard.Unlock()
	if err := sweepTemp(top); err != nil {
		return "", nil, err
	}
	if dir, err = os.MkdirTemp(top, ""); err != nil {
		return "", nil, err
	}
	held := flock.New(dir + lockEnding)
	if ok, err := held.TryLock(); err != nil || !ok {
		return "", nil, errors.Join(err, durable.RemoveAll(dir), errors.New("a folder for temporary files cannot be locked"))
	}
	return dir, func() {
		durable.RemoveAll(dir)
		held.Unlock()
		os.Remove(dir + lockEnding)
	}, nil
}

// lockEnding ends the names of the locks beside temporary folders: who holds it still works there.
const lockEnding = ".lock"

// Sweep removes what killed processes left aside in the home, where several may work at once.
func (h Home) Sweep() error {
	return errors.Join(durable.SweepShared(h.Dir), durable.SweepShared(h.ApprovalsDir()),
		durable.SweepShared(filepath.Dir(h.terminalFile())), h.SweepTemp(),
		h.sweepRemoved())
}

// sweepRemoved finishes the removal of cases that was interrupted.
func (h Home) sweepRemoved() error {
	left, err := filepath.Glob(filepath.Join(h.Dir, removedPrefix+"*"))
	for _, dir := range left {
		err = errors.Join(err, durable.RemoveAll(dir))
	}
	return err
}

// SweepTemp removes the temporary folders of processes that are gone.
func (h Home) SweepTemp() error {
	top := filepath.Join(h.Dir, "tmp")
	guard := tempGuard(top)
	ok, err := guard.TryLock()
	if errors.Is(err, fs.ErrNotExist) || err == nil && !ok { // no folder; or another one is at it
		return nil
	}
	if err != nil {
		return err
	}
	defer guard.Unlock()
	return sweepTemp(top)
}

// tempGuard is held while a temporary folder is made and locked, and while those of others are looked at: a folder that has no lock
// yet looks like one that was left.
func tempGuard(top string) *flock.Flock {
	return flock.New(filepath.Join(top, "lock"), flock.SetPermissions(0o600))
}

func sweepTemp(top string) error {
	entries, err := os.ReadDir(top)
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		dir := filepath.Join(top, e.Name())
		lock := flock.New(dir + lockEnding)
		if ok, err := lock.TryLock(); err == nil && ok {
			err = durable.RemoveAll(dir)
			err = errors.Join(err, lock.Unlock(), os.Remove(dir+lockEnding))
			if err != nil {
				return err
			}
		}
	}
	return err
}
