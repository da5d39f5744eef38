package casefile

import (
	"bytes"
	"io"
	"os"
)

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
