package archive

import (
	"errors"
	"io"
	"os"
	"sync"
)

// keptFrames is how many bytes of a compressed file wait in memory for their turn; what is more waits on the disk.
const keptFrames = 2 << 20

// frames are the compressed pieces of one file that waits for its turn.
type frames struct {
	tmpDir string
	kept   []*keptPart // all of them are full but the last one
	file   *os.File    // nil while all are kept
	size   int64       // bytes
}

const keptSize = 128 << 10 // bytes; keptFrames is a multiple of it

// keptPart is memory that the next file uses again.
type keptPart [keptSize]byte

var keptParts = sync.Pool{New: func() any { return new(keptPart) }}

func (f *frames) Write(b []byte) (n int, err error) {
	if f.file == nil && f.size+int64(len(b)) > keptFrames {
		if err := f.toDisk(); err != nil {
			return 0, err
		}
	}
	if f.file != nil {
		n, err = f.file.Write(b)
		f.size += int64(n)
		return n, err
	}
	for n < len(b) {
		at := int(f.size % keptSize)
		if at == 0 {
			f.kept = append(f.kept, keptParts.Get().(*keptPart))
		}
		part := copy(f.kept[len(f.kept)-1][at:], b[n:])
		n += part
		f.size += int64(part)
	}
	return n, nil
}

// toDisk lets what is kept wait on the disk.
func (f *frames) toDisk() error {
	file, err := os.CreateTemp(f.tmpDir, "pack-*")
	if err != nil {
		return err
	}
	kept := *f
	f.file, f.kept = file, nil
	_, err = kept.WriteTo(file)
	return errors.Join(err, kept.discard())
}

// WriteTo gives all of them.
func (f *frames) WriteTo(w io.Writer) (n int64, err error) {
	if f.file != nil {
		if _, err := f.file.Seek(0, io.SeekStart); err != nil {
			return 0, err
		}
		return io.Copy(w, f.file)
	}
	for _, part := range f.kept {
		m, err := w.Write(part[:min(keptSize, f.size-n)])
		n += int64(m)
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// discard lets go of them.
func (f *frames) discard() error {
	for _, part := range f.kept {
		keptParts.Put(part)
	}
	f.kept = nil
	if f.file == nil {
		return nil
	}
	return errors.Join(f.file.Close(), os.Remove(f.file.Name()))
}
