package casefile

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
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

// Write takes the case's lock and opens its ledger. The lock goes with the process, also when that is killed.
func (c *Case) Write(command string) (*Writer, error) {
	lockName := filepath.Join(c.Dir, "lock")
	lock := flock.New(lockName, flock.SetPermissions(0o600))
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
	data, err := json.Marshal(Holder{PID: os.Getpid(), Host: host, Command: command, Since: time.Now().UTC()})
	if err == nil {
		err = os.WriteFile(filepath.Join(c.Dir, "holder.json"), data, 0o600)
	}
	var ledger *Ledger
	if err == nil {
		ledger, err = openLedger(c.Dir)
	}
	if err != nil {
		return nil, errors.Join(err, lock.Unlock())
	}
	return &Writer{Case: c, Ledger: ledger, lock: lock}, nil
}

// Close gives the right back.
func (w *Writer) Close() error {
	return errors.Join(w.Ledger.Close(), w.lock.Unlock())
}
