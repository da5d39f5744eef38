package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"envask/internal/posix"

	"github.com/klauspost/compress/gzip"
)

// Squeezer is what a system offers that can send a stretch of a file compressed, for links that are slower than its
// processor.
type Squeezer interface {
	// CanSqueeze says whether the system has the commands for it; it is asked once.
	CanSqueeze(ctx context.Context) bool
	// Squeezed gives the bytes from..to of a file, which come compressed and are unpacked here. A stretch that does not
	// come whole ends in an error.
	Squeezed(ctx context.Context, name string, from, to int64) (io.ReadCloser, error)
}

var _ Squeezer = (*SSH)(nil)

type squeeze struct {
	once sync.Once
	can  bool
}

// CanSqueeze asks whether tail, head and gzip are there.
func (r *SSH) CanSqueeze(ctx context.Context) bool {
	r.squeeze.once.Do(func() {
		exit, err := r.Run(ctx, "command -v tail && command -v head && command -v gzip", io.Discard, io.Discard)
		r.squeeze.can = err == nil && exit == 0
	})
	return r.squeeze.can
}

// Squeezed reads a stretch through tail, head and gzip.
func (r *SSH) Squeezed(ctx context.Context, name string, from, to int64) (io.ReadCloser, error) {
	if err := checkName("open", name); err != nil {
		return nil, err
	}
	if to < from || from < 0 {
		return nil, fmt.Errorf("no stretch from %d to %d", from, to)
	}
	ctx, cancel := context.WithCancel(ctx)
	out, in := io.Pipe()
	command := posix.Shell(readPinned(name, "", fmt.Sprintf("tail -c +%d | head -c %d | gzip -1 -c", from+1, to-from), false))
	s := &squeezed{pipe: out, cancel: cancel, left: to - from}
	s.ended.Add(1)
	go func() {
		defer s.ended.Done()
		exit, err := r.Run(ctx, command, in, io.Discard)
		if err == nil && exit != 0 {
			err = fmt.Errorf("gzip ended with code %d", exit)
		}
		in.CloseWithError(err) // nil means the end
	}()
	return s, nil
}

// squeezed unpacks what comes.
type squeezed struct {
	pipe   *io.PipeReader
	zip    *gzip.Reader
	cancel context.CancelFunc
	ended  sync.WaitGroup
	left   int64
}

func (s *squeezed) Read(b []byte) (int, error) {
	if s.zip == nil {
		z, err := gzip.NewReader(s.pipe)
		if err != nil {
			return 0, err
		}
		s.zip = z
	}
	n, err := s.zip.Read(b)
	s.left -= int64(n)
	if s.left < 0 {
		return n, errors.New("more came than was asked for")
	}
	if err == io.EOF && s.left > 0 {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

func (s *squeezed) Close() error {
	s.cancel()
	err := s.pipe.Close()
	s.ended.Wait()
	return err
}
