package archive

import "crypto/sha256"

// besideBuffers of besideSize bytes each lie between who reads and who hashes.
const (
	besideBuffers = 4
	besideSize    = 256 << 10
)

// besideHash makes the SHA-256 of one file after the other on a goroutine of its own, since it takes as long as what else is done
// with them.
type besideHash struct {
	work chan hashWork
	free chan []byte
	sum  chan [sha256.Size]byte
	buf  []byte

	handed bool // some of the file is with the goroutine already
}

type hashWork struct {
	data []byte
	last bool // of the file
}

func newBesideHash() *besideHash {
	h := &besideHash{work: make(chan hashWork, besideBuffers), free: make(chan []byte, besideBuffers), sum: make(chan [sha256.Size]byte)}
	for range besideBuffers {
		h.free <- make([]byte, 0, besideSize)
	}
	h.buf = <-h.free
	go func() {
		sum := sha256.New()
		for w := range h.work {
			sum.Write(w.data)
			h.free <- w.data[:0]
			if w.last {
				h.sum <- [sha256.Size]byte(sum.Sum(nil))
				sum.Reset()
			}
		}
	}()
	return h
}

// Write never fails.
func (h *besideHash) Write(b []byte) (int, error) {
	given := len(b)
	for len(b) > 0 {
		n := min(len(b), besideSize-len(h.buf))
		h.buf = append(h.buf, b[:n]...)
		if b = b[n:]; len(h.buf) == besideSize {
			h.hand(false)
		}
	}
	return given, nil
}

func (h *besideHash) hand(last bool) {
	h.handed = !last
	h.work <- hashWork{h.buf, last}
	h.buf = <-h.free
}

// Sum ends a file and gives its digest; the next file begins.
func (h *besideHash) Sum() [sha256.Size]byte {
	if !h.handed { // a small file is hashed sooner than it is handed over
		sum := sha256.Sum256(h.buf)
		h.buf = h.buf[:0]
		return sum
	}
	h.hand(true)
	return <-h.sum
}

// Close ends the goroutine.
func (h *besideHash) Close() { close(h.work) }
