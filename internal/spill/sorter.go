package spill

import (
	"cmp"
	"context"
	"errors"
	"math"

	"github.com/go-json-experiment/json/v1"
	"github.com/lanrat/extsort"
)

// Of sorting: how many records are in memory in one piece (of which there can be four), and how many wait on each side.
const (
	chunkRecords = 8192
	waiting      = 256
)

// Sorter sorts records that may be more than fit in memory. Records go to the disk and come back as JSON.
type Sorter[T any] struct {
	in   chan T
	out  <-chan T
	errs <-chan error
	stop context.CancelFunc
	ctx  context.Context
	done chan struct{} // closed when all that came is sorted, or sorting failed
}

// NewSorter begins to sort in a folder; "" keeps all in memory. Text that is not UTF-8 must be bytes in a record. compare gives the order,
// which should have no two equal records; it is called by several
// goroutines.
func NewSorter[T any](ctx context.Context, dir string, compare func(a, b *T) int) *Sorter[T] {
	ctx, stop := context.WithCancel(ctx) // #nosec G118 -- Each and Close call it
	s := &Sorter[T]{in: make(chan T, waiting), done: make(chan struct{}), ctx: ctx, stop: stop}
	decode := func(b []byte) (v T, err error) { err = json.Unmarshal(b, &v); return v, err }
	encode := func(v T) ([]byte, error) { return json.Marshal(v) }
	chunk := chunkRecords
	if dir == "" {
		chunk = math.MaxInt
	}
	sorting, out, errs := extsort.Generic(s.in, decode, encode, func(a, b T) int { return compare(&a, &b) },
		&extsort.Config{ChunkSize: chunk, NumWorkers: 1, ChanBuffSize: 0, SortedChanBuffSize: waiting, TempFilesDir: dir})
	s.out, s.errs = out, errs
	go func() {
		defer close(s.done)
		sorting.Sort(ctx)
	}()
	return s
}

// Add gives a record to be sorted.
func (s *Sorter[T]) Add(record T) error {
	select {
	case s.in <- record:
		return nil
	case <-s.done: // it failed: nobody takes more
		return cmp.Or(<-s.errs, s.ctx.Err(), errStopped)
	}
}

// errStopped is the error for adding to a sorting that was closed.
var errStopped = errors.New("the sorting was stopped")

// Each ends the sorting and calls each for every record in order. It is called once.
func (s *Sorter[T]) Each(each func(*T) error) error {
	defer s.Close()
	close(s.in)
	for record := range s.out {
		if err := each(&record); err != nil {
			s.stop()
			for range s.out { // it must end before its files can go
			}
			<-s.errs
			return err
		}
	}
	if err := <-s.errs; err != nil {
		return err
	}
	return s.ctx.Err()
}

// Close ends a sorting whose records nobody wants any more.
func (s *Sorter[T]) Close() { s.stop() }
