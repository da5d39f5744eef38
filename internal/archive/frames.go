package archive

import (
	"errors"
	"io"
	"os"
)

// keptFrames is how many bytes of a compressed file wait in memory for their turn; what is more waits on the disk.
const keptFrames = 2 << 20

// frames are the compressed pieces of one file that waits for its turn.
type frames struct {
	tmpDir string
	kept   []byte
	file   *os.File // nil while all are kept
	size   int64    // bytes
}

func (f *frames) Write(b []byte) (int, error) {
	if f.file == nil && len(f.kept)+len(b) <= keptFrames {
		f.kept = append(f.kept, b...)
		f.size += int64(len(b))
		return len(b), nil
	}
	if f.file == nil {
		file, err := os.CreateTemp(f.tmpDir, "pack-*")
		if err != nil {
			return 0, err
		}
		f.file = file
		if _, err := file.Write(f.kept); err != nil {
			return 0, err
		}
		f.kept = nil
	}
	n, err := f.file.Write(b)
	f.size += int64(n)
	return n, err
}

// WriteTo gives all of them.
func (f *frames) WriteTo(w io.Writer) (int64, error) {
	if f.file == nil {
		n, err := w.Write(f.kept)
		return int64(n), err
	}
	if _, err := f.file.Seek(0, io.SeekStart); err != nil {
		return 0, err
	}
	return io.Copy(w, f.file)
}

// discard lets go of them.
func (f *frames) discard() error {
	f.kept = nil
	if f.file == nil {
		return nil
	}
	return errors.Join(f.file.Close(), os.Remove(f.file.Name()))
}
