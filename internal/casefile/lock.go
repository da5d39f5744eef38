package casefile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/go-json-experiment/json/v1"
	"github.com/gofrs/flock"

	"envask/internal/durable"
)

// Holder says who works on a case.
type Holder struct {
	PID     int       `json:"pid"`
	Host    string    `json:"host"`
	Command string    `json:"command"`
	Since   time.Time `json:"since"`
}

// LockedError means that another process works on the case.
type LockedError struct {
	Case   string
	Holder Holder
}

func (e *LockedError) Error() string {
	if e.Holder.PID == 0 {
		return fmt.Sprintf("case %s is in use by another process", e.Case)
	}
	return fmt.Sprintf("case %s is in use by %q (process %d on %s, since %s)", e.Case, e.Holder.Command, e.Holder.PID,
		e.Holder.Host, e.Holder.Since.Local().Format("15:04:05"))
}

// Writer is the right to change a case, with its open ledger.
type Writer struct {
	*Case
	Ledger *Ledger
	lock   *flock.Flock
}

// Write takes the case's lock and opens its ledger. The lock goes with the process, also when that is killed. What a killed
// process left aside is swept up.
func (c *Case) Write(command string) (*Writer, error) {
	w, err := c.write(command)
	if err == nil {
		c.keepSpare()
	}
	return w, err
}

func (c *Case) write(command string) (*Writer, error) {
	lock, err := c.takeLock(command)
	if err != nil {
		return nil, err
	}
	ledger, err := openLedger(c.Dir)
	if err == nil {
		err = c.sweep()
		if err != nil {
			err = errors.Join(err, ledger.Close())
		}
	}
	if err != nil {
		return nil, errors.Join(err, lock.Unlock())
	}
	return &Writer{Case: c, Ledger: ledger, lock: lock}, nil
}

func (c *Case) takeLock(command string) (*flock.Flock, error) {
	lock := flock.New(filepath.Join(c.Dir, "lock"), flock.SetPermissions(0o600))
	ok, err := lock.TryLock()
	if err != nil {
		return nil, err
	}
	if !ok {
		locked := &LockedError{Case: c.Name}
		if data, err := os.ReadFile(filepath.Join(c.Dir, "holder.json")); err == nil {
			_ = json.Unmarshal(data, &locked.Holder) // only for the message; without it the message says less
		}
		return nil, locked
	}
	host, _ := os.Hostname()
	if data, err := json.Marshal(Holder{PID: os.Getpid(), Host: host, Command: command, Since: time.Now().UTC()}); err == nil {
		_ = durable.WriteFile(filepath.Join(c.Dir, "holder.json"), data, 0o600) // the same: a full disk must not keep tidy from working
	}
	return lock, nil
}

// sweep removes what killed processes left: only who holds the lock may.
func (c *Case) sweep() error {
	err := errors.Join(durable.RemoveAll(c.tempDir()), durable.Sweep(c.Dir), durable.Sweep(c.OutDir()),
		durable.Sweep(filepath.Join(c.Dir, "asks")), durable.Sweep(filepath.Join(c.Dir, "contents")))
	rounds, globErr := filepath.Glob(filepath.Join(c.RoundsDir(), "r*"))
	for _, r := range rounds {
		err = errors.Join(err, durable.Sweep(r), durable.Sweep(filepath.Join(r, "making")))
	}
	return errors.Join(err, globErr)
}

func (c *Case) tempDir() string { return filepath.Join(c.Dir, "tmp") }

// Temp gives a new folder for temporary files. It lies in the case, since they may hold evidence, and goes with the next sweep.
func (w *Writer) Temp() (string, error) {
	if err := os.MkdirAll(w.tempDir(), 0o700); err != nil {
		return "", err
	}
	return os.MkdirTemp(w.tempDir(), "")
}

// Close gives the right back.
func (w *Writer) Close() error {
	return errors.Join(w.Ledger.Close(), durable.RemoveAll(w.tempDir()), w.lock.Unlock())
}
