package webtrust

import (
	"io"
	"sync/atomic"
	"time"
)

// pace is how many bytes at least an answer must bring in each stall time: one that drips would else never end.
const pace = 4 << 10

// body is the body of an answer that is closed when it drips.
type body struct {
	io.ReadCloser
	stall time.Duration
	say   func() error
	then  func()
	timer *time.Timer
	late  atomic.Bool
	since int64
}

// Steady gives a body that ends with what say gives when less than 4 KiB come in a stall time. then is called when it is
// closed, by that or by the caller, who has to in any case.
func Steady(of io.ReadCloser, stall time.Duration, say func() error, then func()) io.ReadCloser {
	b := &body{ReadCloser: of, stall: stall, say: say, then: then}
	b.timer = time.AfterFunc(stall, func() {
		b.late.Store(true)
		of.Close()
		then()
	})
	return b
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if b.since += int64(n); b.since >= pace && !b.late.Load() {
		b.since = 0
		b.timer.Reset(b.stall)
	}
	if err != nil && err != io.EOF && b.late.Load() {
		err = b.say()
	}
	return n, err
}

func (b *body) Close() error {
	b.timer.Stop()
	defer b.then()
	return b.ReadCloser.Close()
}
