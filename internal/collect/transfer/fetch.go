package transfer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"envask/internal/durable"
	"envask/internal/reach"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// unknownSize bounds what is read from a file that says it is empty, in bytes (files of /proc do that).
const unknownSize = 16 << 20

var errEnough = errors.New("enough")

// Sink receives a file: hashes it, counts it, and stops at the limit or when the context ends.
type Sink struct {
	Ctx   context.Context
	Out   *os.File
	Hash  hash.Hash
	Limit int64
	N     int64
	Count func(int64)

	Sparse bool  // blocks of zeros become holes
	holes  int64 // bytes of them
}

func (s *Sink) Write(b []byte) (int, error) {
	if err := s.Ctx.Err(); err != nil {
		return 0, err
	}
	full := false
	if left := s.Limit - s.N; int64(len(b)) > left {
		b, full = b[:left], true
	}
	n, err := s.write(b)
	s.Hash.Write(b[:n])
	s.N += int64(n)
	s.Count(int64(n))
	if err != nil {
		return n, Ours(err)
	}
	if full {
		return n, errEnough
	}
	return n, nil
}

// holeBlock is the size of the blocks of zeros that become holes, in bytes.
const holeBlock = 32 << 10

var zeros [holeBlock]byte

// write writes, and leaves blocks of zeros out where the file may have holes. settle gives it its size then.
func (s *Sink) write(b []byte) (n int, err error) {
	for s.Sparse && len(b) >= holeBlock {
		if bytes.Equal(b[:holeBlock], zeros[:]) {
			if _, err := s.Out.Seek(holeBlock, io.SeekCurrent); err != nil {
				return n, err
			}
			s.holes += holeBlock
		} else if k, err := s.Out.Write(b[:holeBlock]); err != nil {
			return n + k, err
		}
		n, b = n+holeBlock, b[holeBlock:]
	}
	k, err := s.Out.Write(b)
	return n + k, err
}

// settle gives a file with holes its size: one at its end is not there yet.
func (s *Sink) settle() error {
	if s.holes == 0 {
		return nil
	}
	return Ours(s.Out.Truncate(s.N))
}

// Stretch gives the bytes from..to of a file, which come compressed over a slow link; nil where that is not done.
type Stretch func(ctx context.Context, from, to int64) (io.ReadCloser, error)

// squeezeFrom is from what size on a file is worth being sent compressed, in bytes.
const squeezeFrom = 1 << 20

// squeeze takes the file compressed, where it is large and the link is slow.
func (s *Sink) squeeze(stream Stretch) error {
	if stream == nil || s.Limit < squeezeFrom {
		return nil
	}
	r, err := stream(s.Ctx, 0, s.Limit)
	if err != nil {
		return err
	}
	if r == nil {
		return nil
	}
	_, err = io.Copy(s, r)
	if e := r.Close(); err == nil {
		err = e
	}
	if err == nil && s.N < s.Limit {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// again begins anew.
func (s *Sink) again() error {
	s.Count(-s.N)
	s.N, s.holes = 0, 0
	s.Hash.Reset()
	if err := s.Out.Truncate(0); err != nil {
		return Ours(err)
	}
	if _, err := s.Out.Seek(0, io.SeekStart); err != nil {
		return Ours(err)
	}
	return nil
}

// Got is what came of one file.
type Got struct {
	Size, Bytes int64
	Kept        int64 // bytes that are on our disk: without holes
	SHA256      string
	Modified    time.Time
	Note        string // what was odd: it grew, it shrank
	Short       bool   // less was read than was there at first
	Torn        bool   // it was changed while it was read, so that it may be of two states
	Through     string // the words that gave the right to read it
}

// File is one regular file that is being taken, as it is at the moment of opening: what is written to it later is not
// taken. The content appears under its final name only when it is whole.
type File struct {
	FS          fs.FS
	Name        string
	Part, Final string
	Stream      Stretch
	Count       func(int64)
	Resume      string // where a part of it stays when it is interrupted; "" for nowhere
}

// Take brings the file.
func (g File) Take(ctx context.Context) (Got, error) {
	f, err := reach.OpenResolved(g.FS, g.Name)
	if err != nil {
		return Got{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return Got{}, err
	}
	if !info.Mode().IsRegular() {
		return Got{}, ErrSpecial(info.Mode())
	}
	p, err := g.openPart(f, info)
	if err != nil {
		return Got{}, err
	}
	defer p.end()
	s := &Sink{Ctx: ctx, Out: p.file, Hash: p.hash, Limit: p.size, N: p.had, Count: g.Count, Sparse: p.size >= ResumeFrom}
	if p.size >= hashAside {
		aside := newAsideHash(p.hash)
		defer aside.end()
		s.Hash = aside
	}
	stream := g.Stream
	if s.Limit == 0 || p.had > 0 {
		stream = nil
	}
	if s.Limit == 0 {
		s.Limit = unknownSize
	}
	if err = s.squeeze(stream); err != nil && ctx.Err() == nil && !IsOurs(err) {
		err = s.again() // the plain way then
		stream = nil
	}
	if err == nil && (stream == nil || s.N == 0) {
		_, err = io.Copy(s, f)
	}
	if errors.Is(err, errEnough) {
		err = nil
	}
	if err == nil {
		err = s.settle()
	}
	if err != nil {
		p.stays = !IsOurs(err) && !errors.Is(err, reach.ErrExchanged)
		return Got{}, err
	}
	got := Got{Size: p.size, Bytes: s.N, Kept: s.N - s.holes, SHA256: hex.EncodeToString(s.Hash.Sum(nil)), Modified: p.modified}
	if e, ok := f.(reach.Elevated); ok {
		got.Through = e.ThroughElevation()
	}
	got.judge(f, p)
	if e := p.file.Close(); e != nil {
		return Got{}, Ours(e)
	}
	return got, Place(p.name, g.Final, got.Modified)
}

// judge finds out whether the file was changed while it was read. A log that grew is as it was at first: what came later is
// behind that.
func (got *Got) judge(f fs.File, p *part) {
	after, err := f.Stat()
	switch {
	case got.Bytes < got.Size:
		got.Short, got.Torn = true, true
		got.Note = fmt.Sprintf("shrank during collection: %d of %d bytes taken", got.Bytes, got.Size)
	case err != nil || got.Size == 0:
	case after.Size() > got.Size && p.agrees(f, got.Size):
		got.Note = fmt.Sprintf("grew during collection; taken at its original size, %d bytes", got.Size)
	case after.Size() != got.Size || !after.ModTime().Equal(got.Modified):
		got.Torn = true
		got.Note = "changed during collection; the copy may mix two states"
	}
}

// Keep writes what was read already under its final name.
func Keep(data []byte, modified time.Time, part, final string) (Got, error) {
	if err := os.WriteFile(part, data, 0o600); err != nil { // a part: it has its name only when it is whole
		return Got{}, Ours(err)
	}
	defer os.Remove(part) // fails harmlessly after the rename
	sum := sha256.Sum256(data)
	n := int64(len(data))
	return Got{Size: n, Bytes: n, Kept: n, SHA256: hex.EncodeToString(sum[:]), Modified: modified}, Place(part, final, modified)
}

// Place gives a whole file its final name.
func Place(part, final string, modified time.Time) error {
	if !modified.IsZero() {
		_ = os.Chtimes(part, time.Time{}, modified) // a comfort for the engineer; the entry holds the time
	}
	if err := os.MkdirAll(filepath.Dir(final), 0o700); err != nil {
		return Ours(err)
	}
	durable.Point("before a piece of evidence")
	if err := os.Rename(part, final); err != nil {
		return Ours(err)
	}
	durable.Point("after a piece of evidence")
	return nil
}

// ErrSpecial is the error for what is no regular file.
func ErrSpecial(m fs.FileMode) error {
	what := "special file"
	switch {
	case m&fs.ModeNamedPipe != 0:
		what = "FIFO"
	case m&fs.ModeSocket != 0:
		what = "socket"
	case m&fs.ModeDevice != 0:
		what = "device"
	case m.IsDir():
		what = "folder"
	}
	return fmt.Errorf("a %s is never opened", what)
}
