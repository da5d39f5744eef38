package transfer

import (
	"hash"
	"sync"
)

// hashAside is from what size on a file is hashed beside receiving it, in bytes: hashing takes as long as receiving does.
const hashAside = 4 << 20

// Buffers that go to and fro between receiving and hashing.
const (
	hashBuffers = 8
	hashBuffer  = 256 << 10
)

// asideHash hashes in a goroutine of its own. Only one goroutine may use it; end must be called.
type asideHash struct {
	hash.Hash
	work, free chan []byte
	pending    sync.WaitGroup
}

func newAsideHash(h hash.Hash) *asideHash {
	a := &asideHash{Hash: h, work: make(chan []byte, hashBuffers), free: make(chan []byte, hashBuffers)}
	for range hashBuffers {
		a.free <- make([]byte, 0, hashBuffer)
	}
	go func() {
		for b := range a.work {
			a.Hash.Write(b)
			a.free <- b[:0]
			a.pending.Done()
		}
	}()
	return a
}

// Write takes a copy of b; it waits when hashing is far behind.
func (a *asideHash) Write(b []byte) (int, error) {
	n := len(b)
	for len(b) > 0 {
		buf := <-a.free
		k := min(len(b), hashBuffer)
		a.pending.Add(1)
		a.work <- append(buf, b[:k]...)
		b = b[k:]
	}
	return n, nil
}

// Sum waits until all is hashed.
func (a *asideHash) Sum(b []byte) []byte {
	a.pending.Wait()
	return a.Hash.Sum(b)
}

// Reset begins anew.
func (a *asideHash) Reset() {
	a.pending.Wait()
	a.Hash.Reset()
}

// end ends the goroutine.
func (a *asideHash) end() { close(a.work) }
