package unpack

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
)

// Limits of an archive that is opened. What it claims is looked at before anything is written, and what comes out is counted.
const (
	MaxMembers = 2_000_000
	MaxBytes   = 64 << 30  // of what a compression gives, and of one member
	maxRatio   = 1200      // bytes out for each byte in, beyond freeRatio
	freeRatio  = 256 << 20 // bytes out that any archive may have
	maxLink    = 4096      // bytes of the target of a link
)

// BadError says why a file is not read as an archive, or not further.
type BadError struct{ Why string }

func (e *BadError) Error() string { return e.Why }

func bad(format string, args ...any) error { return &BadError{fmt.Sprintf(format, args...)} }

// FS is an opened archive. It may be used from several goroutines.
type FS struct {
	nodes map[string]*node
	close []func() error
	// Form is what it is: "tar", "tar (gzip)", "zip". Files is how many files it has.
	Form  string
	Files int
	// Left is how many names were left out, since they lead out of the archive. Cut is why not all of it could be read, "" when it could.
	Left int
	Cut  string
}

// node is one name in an archive.
type node struct {
	name     string // its last element
	mode     fs.FileMode
	size     int64
	modified time.Time
	link     string // where a symlink leads
	open     func() (io.ReadCloser, io.ReaderAt, error)
	children []string
	sorted   sync.Once
}

func (n *node) Name() string               { return n.name }
func (n *node) Size() int64                { return n.size }
func (n *node) Mode() fs.FileMode          { return n.mode }
func (n *node) ModTime() time.Time         { return n.modified }
func (n *node) IsDir() bool                { return n.mode.IsDir() }
func (n *node) Sys() any                   { return nil }
func (n *node) Type() fs.FileMode          { return n.mode.Type() }
func (n *node) Info() (fs.FileInfo, error) { return n, nil }

// Open opens an archive. An *BadError says that the file is none, or one that is not safe to read.
func Open(ctx context.Context, file string) (_ *FS, err error) {
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	f := &FS{nodes: map[string]*node{".": {name: ".", mode: fs.ModeDir | 0o755}}, close: []func() error{in.Close}}
	defer func() {
		if err != nil {
			f.Close()
		}
	}()
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, bad("it is no file")
	}
	head := make([]byte, 4)
	if _, err := in.ReadAt(head, 0); err == nil && (string(head) == "PK\x03\x04" || string(head) == "PK\x05\x06") {
		return f, f.zip(in, info.Size())
	}
	return f, f.tar(ctx, in, info.Size())
}

// Close ends it. Files that are open must not be used any more.
func (f *FS) Close() error {
	var first error
	for _, c := range slices.Backward(f.close) {
		if err := c(); err != nil && first == nil {
			first = err
		}
	}
	f.close = nil
	return first
}

// put adds a name. One that leads out of the archive is counted and left.
func (f *FS) put(name string, n *node) error {
	clean, ok := cleanName(name)
	if !ok {
		f.Left++
		return nil
	}
	if len(f.nodes) >= MaxMembers {
		return bad("it has more than %d names", MaxMembers)
	}
	if clean == "." {
		return nil
	}
	dir := f.folder(path.Dir(clean))
	if dir == nil { // a file stands where a folder should be
		f.Left++
		return nil
	}
	n.name = path.Base(clean)
	old := f.nodes[clean]
	switch {
	case old != nil && old.mode.IsDir() && n.mode.IsDir():
		old.mode, old.modified = n.mode, n.modified
		return nil
	case old != nil && old.mode.IsDir() != n.mode.IsDir():
		f.Left++
		return nil
	case old == nil:
		dir.children = append(dir.children, n.name)
		if n.mode.IsRegular() {
			f.Files++
		}
	}
	f.nodes[clean] = n // of two files of one name the last counts, as when it is unpacked
	return nil
}

// folder gives a folder, which may have no entry of its own.
func (f *FS) folder(name string) *node {
	if n := f.nodes[name]; n != nil {
		if !n.mode.IsDir() {
			return nil
		}
		return n
	}
	up := f.folder(path.Dir(name))
	if up == nil {
		return nil
	}
	n := &node{name: path.Base(name), mode: fs.ModeDir | 0o755}
	f.nodes[name] = n
	up.children = append(up.children, n.name)
	return n
}

// cleanName gives the name of io/fs for one in an archive; ok is false where it leads out. What stands behind / is below the top.
func cleanName(name string) (clean string, ok bool) {
	if strings.ContainsRune(name, 0) {
		return "", false
	}
	for _, part := range strings.Split(name, "/") {
		if part == ".." {
			return "", false
		}
	}
	clean = strings.TrimPrefix(path.Clean("/"+name), "/")
	if clean == "" {
		clean = "."
	}
	return clean, true
}

func (f *FS) lookup(op, name string) (*node, error) {
	if n := f.nodes[name]; n != nil {
		return n, nil
	}
	return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
}

// Lstat tells of a name.
func (f *FS) Lstat(name string) (fs.FileInfo, error) {
	n, err := f.lookup("lstat", name)
	if err != nil {
		return nil, err
	}
	return n, nil
}

// Stat is Lstat: who reads an archive follows links by themselves.
func (f *FS) Stat(name string) (fs.FileInfo, error) { return f.Lstat(name) }

// ReadLink gives where a link leads.
func (f *FS) ReadLink(name string) (string, error) {
	n, err := f.lookup("readlink", name)
	if err != nil {
		return "", err
	}
	if n.mode&fs.ModeSymlink == 0 {
		return "", &fs.PathError{Op: "readlink", Path: name, Err: fs.ErrInvalid}
	}
	return n.link, nil
}

// ReadDir lists a folder, sorted.
func (f *FS) ReadDir(name string) ([]fs.DirEntry, error) {
	n, err := f.lookup("readdir", name)
	if err != nil {
		return nil, err
	}
	if !n.mode.IsDir() {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: fs.ErrInvalid}
	}
	n.sorted.Do(func() { slices.Sort(n.children) })
	out := make([]fs.DirEntry, len(n.children))
	for i, c := range n.children {
		out[i] = f.nodes[path.Join(name, c)]
	}
	return out, nil
}

// Open opens a file or a folder.
func (f *FS) Open(name string) (fs.File, error) {
	n, err := f.lookup("open", name)
	if err != nil {
		return nil, err
	}
	if n.mode.IsDir() {
		list, err := f.ReadDir(name)
		return &openDir{node: n, list: list}, err
	}
	if n.open == nil {
		return &openFile{node: n, Reader: strings.NewReader("")}, nil
	}
	r, at, err := n.open()
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	file := openFile{node: n, Reader: r, close: r.Close}
	if at != nil {
		return &openFileAt{file, io.NewSectionReader(at, 0, n.size)}, nil
	}
	return &file, nil
}

// openFile is an opened file that can only be read in order.
type openFile struct {
	*node
	io.Reader
	close func() error
}

func (o *openFile) Stat() (fs.FileInfo, error) { return o.node, nil }

func (o *openFile) Close() error {
	if o.close == nil {
		return nil
	}
	return o.close()
}

// openFileAt is one that can be read anywhere.
type openFileAt struct {
	openFile
	section *io.SectionReader
}

func (o *openFileAt) Read(b []byte) (int, error)                { return o.section.Read(b) }
func (o *openFileAt) ReadAt(b []byte, off int64) (int, error)   { return o.section.ReadAt(b, off) }
func (o *openFileAt) Seek(off int64, whence int) (int64, error) { return o.section.Seek(off, whence) }

// openDir is an opened folder.
type openDir struct {
	*node
	list []fs.DirEntry
}

func (o *openDir) Stat() (fs.FileInfo, error) { return o.node, nil }
func (o *openDir) Close() error               { return nil }

func (o *openDir) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: o.name, Err: fs.ErrInvalid}
}

// ReadDir gives the next n entries.
func (o *openDir) ReadDir(n int) ([]fs.DirEntry, error) {
	if n <= 0 {
		out := o.list
		o.list = nil
		return out, nil
	}
	if len(o.list) == 0 {
		return nil, io.EOF
	}
	k := min(n, len(o.list))
	out := o.list[:k]
	o.list = o.list[k:]
	return out, nil
}
