package collect

import (
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
)

// localError is a failure on our side, such as a full disk. It stops the whole round, which stays unfinished: a table
// that blames a system for it would be wrong.
type localError struct{ err error }

func (e *localError) Error() string { return "write in the case folder: " + e.err.Error() }
func (e *localError) Unwrap() error { return e.err }

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
}

func (s *sink) Write(b []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	full := false
	if left := s.limit - s.n; int64(len(b)) > left {
		b, full = b[:left], true
	}
	n, err := s.out.Write(b)
	s.hash.Write(b[:n])
	s.n += int64(n)
	s.count(int64(n))
	if err != nil {
		return n, &localError{err}
	}
	if full {
		return n, errEnough
	}
	return n, nil
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
	s.n = 0
	s.hash.Reset()
	if err := s.out.Truncate(0); err != nil {
		return &localError{err}
	}
	if _, err := s.out.Seek(0, io.SeekStart); err != nil {
		return &localError{err}
	}
	return nil
}

func isLocal(err error) bool {
	var local *localError
	return errors.As(err, &local)
}

// fetched is what came of one file.
type fetched struct {
	size, bytes int64
	sha256      string
	modified    time.Time
	note        string // what was odd: it grew, it shrank
	short       bool   // less was read than was there at first
}

// fetch reads one regular file as it is at the moment of opening: what is written to it later is not taken. The content
// appears under its final name only when it is whole.
func fetch(ctx context.Context, fsys fs.FS, name, part, final string, stream stretch, count func(int64)) (fetched, error) {
	f, err := fsys.Open(name)
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
	out, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fetched{}, &localError{err}
	}
	defer os.Remove(part) // fails harmlessly after the rename
	s := &sink{ctx: ctx, out: out, hash: sha256.New(), limit: info.Size(), count: count}
	if s.limit == 0 {
		s.limit, stream = unknownSize, nil
	}
	if err = s.squeeze(stream); err != nil && ctx.Err() == nil && !isLocal(err) {
		err = s.again() // the plain way then
		stream = nil
	}
	if err == nil && (stream == nil || s.n == 0) {
		_, err = io.Copy(s, f)
	}
	if errors.Is(err, errEnough) {
		err = nil
	}
	if e := out.Close(); err == nil && e != nil {
		err = &localError{e}
	}
	if err != nil {
		return fetched{}, err
	}
	got := fetched{size: info.Size(), bytes: s.n, sha256: hex.EncodeToString(s.hash.Sum(nil)), modified: info.ModTime()}
	after, err := f.Stat()
	switch {
	case s.n < got.size:
		got.short = true
		got.note = fmt.Sprintf("it shrank while it was read: %d of %d bytes taken", s.n, got.size)
	case err == nil && got.size > 0 && after.Size() > got.size:
		got.note = fmt.Sprintf("it grew while it was read; taken as it was at first, %d bytes", got.size)
	case err == nil && got.size > 0 && !after.ModTime().Equal(got.modified):
		got.note = "it was changed while it was read"
	}
	return got, place(part, final, got.modified)
}

// keep writes what was read already under its final name.
func keep(data []byte, modified time.Time, part, final string) (fetched, error) {
	if err := os.WriteFile(part, data, 0o600); err != nil {
		return fetched{}, &localError{err}
	}
	defer os.Remove(part) // fails harmlessly after the rename
	sum := sha256.Sum256(data)
	n := int64(len(data))
	return fetched{size: n, bytes: n, sha256: hex.EncodeToString(sum[:]), modified: modified}, place(part, final, modified)
}

// place gives a whole file its final name.
func place(part, final string, modified time.Time) error {
	if !modified.IsZero() {
		_ = os.Chtimes(part, time.Time{}, modified) // a comfort for the engineer; the entry holds the time
	}
	if err := os.MkdirAll(filepath.Dir(final), 0o700); err != nil {
		return &localError{err}
	}
	if err := os.Rename(part, final); err != nil {
		return &localError{err}
	}
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
