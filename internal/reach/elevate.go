package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"

	"envask/internal/posix"
)

// Elevator is what a system offers whose account can get more rights.
type Elevator interface {
	// RunElevated runs a command line with more rights; the words in front of it stand in the systems file.
	RunElevated(ctx context.Context, command string, stdout, stderr io.Writer) (exit int, err error)
	// TryElevation says whether getting more rights works; nil where the systems file names no elevation.
	TryElevation(ctx context.Context) error
}

// WithElevation gives a runner that runs everything with more rights.
func WithElevation(e Elevator) Runner { return elevatedRunner{e} }

type elevatedRunner struct{ e Elevator }

func (r elevatedRunner) Run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	return r.e.RunElevated(ctx, command, stdout, stderr)
}

// Elevated is what an opened file offers that may be read with more rights than the account has.
type Elevated interface {
	// ThroughElevation gives the words that give the rights, or "".
	ThroughElevation() string
}

// elevatedFS reads with the account's own rights first, and with more where those do not do.
type elevatedFS struct {
	plain FS
	high  func() (*shellFS, error) // made when it is needed first
}

// elevation makes the elevated file system of a system when it is needed, once.
type elevation struct {
	prefix string
	run    func(ctx context.Context, command string, stdout, stderr io.Writer) (int, error)

	mu   sync.Mutex
	fsys *shellFS
	err  error
}

func (e *elevation) high() (*shellFS, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.fsys == nil && e.err == nil {
		var err error
		if e.fsys, err = newShellFS(context.Background(), e.run, e.prefix); err != nil {
			e.fsys = nil
			if !Broken(err) {
				e.err = err
			}
			return nil, err
		}
	}
	return e.fsys, e.err
}

// TryElevation says whether getting more rights works.
func (e *elevation) TryElevation(context.Context) error {
	if e.prefix == "" {
		return nil
	}
	_, err := e.high()
	return err
}

// RunElevated runs a command line with more rights.
func (e *elevation) RunElevated(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	if e.prefix == "" {
		return -1, errors.New("the systems file names no elevation for this system")
	}
	return e.run(ctx, e.prefix+" sh -c "+posix.Word(command), stdout, stderr)
}

// over puts the elevation over a file system, where there is one.
func (e *elevation) over(plain FS) FS {
	if e.prefix == "" {
		return plain
	}
	return elevatedFS{plain, e.high}
}

// with tries again with more rights what the account may not do.
func with[T any](f elevatedFS, got T, err error, again func(*shellFS) (T, error)) (T, error) {
	if err == nil || !errors.Is(err, fs.ErrPermission) {
		return got, err
	}
	var none T
	high, e := f.high()
	if e != nil {
		return none, fmt.Errorf("%w (%w)", err, e)
	}
	return again(high)
}

func (f elevatedFS) Open(name string) (fs.File, error) {
	file, err := f.plain.Open(name)
	return with(f, file, err, func(h *shellFS) (fs.File, error) { return h.Open(name) })
}

func (f elevatedFS) OpenResolved(name string) (fs.File, error) {
	file, err := OpenResolved(f.plain, name)
	return with(f, file, err, func(h *shellFS) (fs.File, error) { return h.OpenResolved(name) })
}

func (f elevatedFS) ReadDir(name string) ([]fs.DirEntry, error) {
	list, err := f.plain.ReadDir(name)
	return with(f, list, err, func(h *shellFS) ([]fs.DirEntry, error) { return h.ReadDir(name) })
}

func (f elevatedFS) Lstat(name string) (fs.FileInfo, error) {
	info, err := f.plain.Lstat(name)
	return with(f, info, err, func(h *shellFS) (fs.FileInfo, error) { return h.Lstat(name) })
}

func (f elevatedFS) ReadLink(name string) (string, error) {
	target, err := f.plain.ReadLink(name)
	return with(f, target, err, func(h *shellFS) (string, error) { return h.ReadLink(name) })
}

// WhyNoElevation says why a file that the account may not read could not be read with more rights either, or "".
func WhyNoElevation(err error) string {
	var e *elevationError
	if errors.As(err, &e) {
		return ", and " + e.Error()
	}
	return ""
}
