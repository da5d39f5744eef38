package casefile

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
)

// spareSize is how much room each case keeps for making room, in bytes: on a disk that is full to its last byte, not even what
// is removed could be written down.
const spareSize = 256 << 10

func (c *Case) spareFile() string { return filepath.Join(c.Dir, "spare") }

// keepSpare makes the spare file, where there is room for it.
func (c *Case) keepSpare() {
	if c.Out != "" { // only stands for a case
		return
	}
	if info, err := os.Stat(c.spareFile()); err == nil && info.Size() == spareSize {
		return
	}
	if os.WriteFile(c.spareFile(), bytes.Repeat([]byte{'.'}, spareSize), 0o600) != nil {
		_ = os.Remove(c.spareFile())
	}
}

// WriteToFree is Write for a command that makes room: where the disk is full it gives up the spare file first. The next Write
// makes that anew.
func (c *Case) WriteToFree(command string) (*Writer, error) {
	if err := os.Remove(c.spareFile()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	return c.write(command)
}
