package collect

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/collect/transfer"
	"envask/internal/durable"
)

// progressFile keeps, in the round's folder, how far an item came: for a run that goes on after an interruption.
type progressFile string

// progressOf gives the file of the work's item on its system.
func (w *work) progressOf() progressFile {
	return progressFile(filepath.Join(w.round.Dir(), progressFolder, w.sys.Name+"."+w.item.ID+".json"))
}

// progressFolder is where the files stand, below the round's.
const progressFolder = "making"

// load reads what was kept into a value, and reports whether there was something. A damaged file counts as none.
func (f progressFile) load(into any) bool {
	data, err := os.ReadFile(string(f))
	return err == nil && json.Unmarshal(data, into) == nil
}

// save keeps a value, durably.
func (f progressFile) save(v any) error {
	data, err := json.Marshal(v)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(string(f)), 0o700)
	}
	if err == nil {
		err = durable.WriteFile(string(f), data, 0o600)
	}
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	return nil
}

// forget removes the file, where there is one.
func (f progressFile) forget() error {
	if err := os.Remove(string(f)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return &transfer.LocalError{Err: err}
	}
	return nil
}
