package casefile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"

	"envask/internal/durable"
)

// ErrExists means that there is a case of that name already.
var ErrExists = errors.New("there is a case of that name already")

// Arriving is a case that comes from elsewhere and does not count yet.
type Arriving struct {
	Dir  string // where its files are put
	home Home
	lock *flock.Flock
}

// Arrive begins to take in a case. Only one process does so at a time; what a killed one left is removed.
func (h Home) Arrive() (*Arriving, error) {
	top := filepath.Join(h.Dir, "arriving")
	if err := os.MkdirAll(top, 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(h.Dir, "arriving.lock"), flock.SetPermissions(0o600))
	if ok, err := lock.TryLock(); err != nil || !ok {
		return nil, errors.Join(err, errors.New("another process takes in a case just now"))
	}
	err := durable.RemoveAll(top)
	if err == nil {
		err = os.MkdirAll(top, 0o700)
	}
	if err != nil {
		return nil, errors.Join(err, lock.Unlock())
	}
	return &Arriving{Dir: top, home: h, lock: lock}, nil
}

// Check reads the case as it arrived: its file, and the chain of its ledger to the end.
func (a *Arriving) Check() (*Case, int, error) {
	n := 0
	if _, err := readChain(ledgerFile(a.Dir), func(Record) error { n++; return nil }); err != nil {
		return nil, n, err
	}
	c, err := load(a.Dir)
	return c, n, err
}

// Settle gives the case its name, from which on it counts.
func (a *Arriving) Settle(name string) (*Case, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	to := a.home.caseDir(name)
	if _, err := os.Lstat(to); err == nil {
		return nil, fmt.Errorf("%s: %w", name, ErrExists)
	}
	if err := os.MkdirAll(a.home.casesDir(), 0o700); err != nil {
		return nil, err
	}
	if err := os.Rename(a.Dir, to); err != nil {
		return nil, err
	}
	if err := durable.SyncDir(a.home.casesDir()); err != nil {
		return nil, err
	}
	return load(to)
}

// Close removes what did not become a case.
func (a *Arriving) Close() error { return errors.Join(durable.RemoveAll(a.Dir), a.lock.Unlock()) }
