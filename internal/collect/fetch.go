package collect

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"envask/internal/durable"
	"envask/internal/reach"
)

// unknownSize bounds what is read from a file that says it is empty, in bytes (files of /proc do that).
const unknownSize = 16 << 20

var errEnough = errors.New("enough")

// sink receives a file: hashes it, counts it, and stops at the limit or when the context ends.
type sink struct {
	ctx   context.Context
	out   *os.File
	hash  hash.Hash
	limit int64
	n     int64
	count func(int64)

	sparse bool  // blocks of zeros become holes
	holes  int64 // bytes of them
}

func (s *sink) Write(b []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	full := false
	if left := s.limit - s.n; int64(len(b)) > left {
		b, full = b[:left], true
	}
	n, err := s.write(b)
	s.hash.Write(b[:n])
	s.n += int64(n)
	s.count(int64(n))
	if err != nil {
		return n, ours(err)
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
func (s *sink) write(b []byte) (n int, err error) {
	for s.sparse && len(b) >= holeBlock {
		if bytes.Equal(b[:holeBlock], zeros[:]) {
			if _, err := s.out.Seek(holeBlock, io.SeekCurrent); err != nil {
				return n, err
			}
			s.holes += holeBlock
		} else if k, err := s.out.Write(b[:holeBlock]); err != nil {
			return n + k, err
		}
		n, b = n+holeBlock, b[holeBlock:]
	}
	k, err := s.out.Write(b)
	return n + k, err
}

// settle gives a file with holes its size: one at its end is not there yet.
func (s *sink) settle() error {
	if s.holes == 0 {
		return nil
	}
	return ours(s.out.Truncate(s.n))
}

// stretch gives the bytes from..to of a file, which come compressed over a slow link; nil where that is not done.
type stretch func(ctx context.Context, from, to int64) (io.ReadCloser, error)

// squeezeFrom is from what size on a file is worth being sent compressed, in bytes.
const squeezeFrom = 1 << 20

// squeeze takes the file compressed, where it is large and the link is slow.
func (s *sink) squeeze(stream stretch) error {
	if stream == nil || s.limit < squeezeFrom {
		return nil
	}
	r, err := stream(s.ctx, 0, s.limit)
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
	if err == nil && s.n < s.limit {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// again begins anew.
func (s *sink) again() error {
	s.count(-s.n)
	s.n, s.holes = 0, 0
	s.hash.Reset()
	if err := s.out.Truncate(0); err != nil {
		return ours(err)
	}
	if _, err := s.out.Seek(0, io.SeekStart); err != nil {
		return ours(err)
	}
	return nil
}

// fetched is what came of one file.
type fetched struct {
	size, bytes int64
	kept        int64 // bytes that are on our disk: without holes
	sha256      string
	modified    time.Time
	note        string // what was odd: it grew, it shrank
	short       bool   // less was read than was there at first
	torn        bool   // it was changed while it was read, so that it may be of two states
	through     string // the words that gave the right to read it
}

// fetching is one regular file that is being taken, as it is at the moment of opening: what is written to it later is not
// taken. The content appears under its final name only when it is whole.
type fetching struct {
	fsys        fs.FS
	name        string
	part, final string
	stream      stretch
	count       func(int64)
	resume      string // where a part of it stays when it is interrupted; "" for nowhere
}

func (g fetching) fetch(ctx context.Context) (fetched, error) {
	f, err := reach.OpenResolved(g.fsys, g.name)
	if err != nil {
		return fetched{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return fetched{}, err
	}
	if !info.Mode().IsRegular() {
		return fetched{}, errSpecial(info.Mode())
	}
	p, err := g.openPart(f, info)
	if err != nil {
		return fetched{}, err
	}
	defer p.end()
	s := &sink{ctx: ctx, out: p.file, hash: p.hash, limit: p.size, n: p.had, count: g.count, sparse: p.size >= resumeFrom}
	if p.size >= hashAside {
		aside := newAsideHash(p.hash)
		defer aside.end()
		s.hash = aside
	}
	stream := g.stream
	if s.limit == 0 || p.had > 0 {
		stream = nil
	}
	if s.limit == 0 {
		s.limit = unknownSize
	}
	if err = s.squeeze(stream); err != nil && ctx.Err() == nil && !isOurs(err) {
		err = s.again() // the plain way then
		stream = nil
	}
	if err == nil && (stream == nil || s.n == 0) {
		_, err = io.Copy(s, f)
	}
	if errors.Is(err, errEnough) {
		err = nil
	}
	if err == nil {
		err = s.settle()
	}
	if err != nil {
		p.stays = !isOurs(err) && !errors.Is(err, reach.ErrExchanged)
		return fetched{}, err
	}
	got := fetched{size: p.size, bytes: s.n, kept: s.n - s.holes, sha256: hex.EncodeToString(s.hash.Sum(nil)), modified: p.modified}
	if e, ok := f.(reach.Elevated); ok {
		got.through = e.ThroughElevation()
	}
	got.judge(f, p)
	if e := p.file.Close(); e != nil {
		return fetched{}, ours(e)
	}
	return got, place(p.name, g.final, got.modified)
}

// judge finds out whether the file was changed while it was read. A log that grew is as it was at first: what came later is
// behind that.
func (got *fetched) judge(f fs.File, p *part) {
	after, err := f.Stat()
	switch {
	case got.bytes < got.size:
		got.short, got.torn = true, true
		got.note = fmt.Sprintf("shrank during collection: %d of %d bytes taken", got.bytes, got.size)
	case err != nil || got.size == 0:
	case after.Size() > got.size && p.agrees(f, got.size):
		got.note = fmt.Sprintf("grew during collection; taken at its original size, %d bytes", got.size)
	case after.Size() != got.size || !after.ModTime().Equal(got.modified):
		got.torn = true
		got.note = "changed during collection; the copy may mix two states"
	}
}

// keep writes what was read already under its final name.
func keep(data []byte, modified time.Time, part, final string) (fetched, error) {
	if err := os.WriteFile(part, data, 0o600); err != nil { // a part: it has its name only when it is whole
		return fetched{}, ours(err)
	}
	defer os.Remove(part) // fails harmlessly after the rename
	sum := sha256.Sum256(data)
	n := int64(len(data))
	return fetched{size: n, bytes: n, kept: n, sha256: hex.EncodeToString(sum[:]), modified: modified}, place(part, final, modified)
}

// place gives a whole file its final name.
func place(part, final string, modified time.Time) error {
	if !modified.IsZero() {
		_ = os.Chtimes(part, time.Time{}, modified) // a comfort for the engineer; the entry holds the time
	}
	if err := os.MkdirAll(filepath.Dir(final), 0o700); err != nil {
		return ours(err)
	}
	durable.Point("before a piece of evidence")
	if err := os.Rename(part, final); err != nil {
		return ours(err)
	}
	durable.Point("after a piece of evidence")
	return nil
}

func errSpecial(m fs.FileMode) error {
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
