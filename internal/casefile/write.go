package casefile

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"runtime"
)

// WriteFile writes a file so that its name only ever holds whole content: written aside, flushed, renamed.
func WriteFile(name string, data []byte, perm os.FileMode) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".*.tmp")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // fails harmlessly after the rename
	_, err = f.Write(data)
	if err == nil {
		err = f.Chmod(perm)
	}
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	if err := os.Rename(f.Name(), name); err != nil {
		return err
	}
	return SyncDir(filepath.Dir(name))
}

// SyncDir flushes a folder, so that a rename in it survives a power cut. Windows has no such call and needs none.
func SyncDir(dir string) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// FileSum gives the SHA-256 of a file, in hex.
func FileSum(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// SameContent says whether two files can be read and hold the same bytes.
func SameContent(a, b string) bool {
	fa, err := os.Open(a)
	if err != nil {
		return false
	}
	defer fa.Close()
	fb, err := os.Open(b)
	if err != nil {
		return false
	}
	defer fb.Close()
	bufA, bufB := make([]byte, 256<<10), make([]byte, 256<<10)
	for {
		n, errA := io.ReadFull(fa, bufA)
		m, errB := io.ReadFull(fb, bufB)
		if !bytes.Equal(bufA[:n], bufB[:m]) {
			return false
		}
		if errA != nil || errB != nil { // the end of both, or one cannot be read
			return atEnd(errA) && atEnd(errB)
		}
	}
}

func atEnd(err error) bool { return err == io.EOF || err == io.ErrUnexpectedEOF }
