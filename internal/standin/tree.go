package standin

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"path"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
)

// Node is one file, folder or link of a simulated system.
type Node struct {
	Data   []byte
	Mode   fs.FileMode // type bits only; 0 is a plain file
	Time   time.Time
	Link   string // target, for a link
	Denied bool   // nobody may read it
	Size   int64  // what it says its size is, when that is not len(Data)
}

// Tree is the file system of a simulated system. It is served over SFTP.
type Tree struct {
	mu    sync.Mutex
	nodes map[string]*Node // by whole path
}

// NewTree makes an empty file system.
func NewTree() *Tree {
	return &Tree{nodes: map[string]*Node{"/": {Mode: fs.ModeDir}}}
}

// Put adds or replaces a node, with the folders above it.
func (t *Tree) Put(name string, n *Node) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for dir := path.Dir(name); t.nodes[dir] == nil; dir = path.Dir(dir) {
		t.nodes[dir] = &Node{Mode: fs.ModeDir, Time: n.Time}
	}
	t.nodes[name] = n
}

// File adds a plain file.
func (t *Tree) File(name string, data []byte, modified time.Time) {
	t.Put(name, &Node{Data: data, Time: modified})
}

// node gives the node of a path itself, behind the links of the folders above it.
func (t *Tree) node(name string) (*Node, error) {
	_, n, err := t.real(name)
	return n, err
}

// real gives the path without links above its last element, and the node there.
func (t *Tree) real(name string) (string, *Node, error) {
	name = path.Clean(name)
	for range 10 {
		t.mu.Lock()
		n := t.nodes[name]
		t.mu.Unlock()
		if n != nil {
			return name, n, nil
		}
		at, ok := t.above(name)
		if !ok {
			return name, nil, os.ErrNotExist
		}
		name = at
	}
	return name, nil, os.ErrNotExist
}

// above puts the target of the first link among the folders above a path in its place; ok is false where there is none.
func (t *Tree) above(name string) (string, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i := 1; i < len(name); i++ {
		if name[i] != '/' {
			continue
		}
		if n := t.nodes[name[:i]]; n != nil && n.Mode&fs.ModeSymlink != 0 {
			to := n.Link
			if !strings.HasPrefix(to, "/") {
				to = path.Join(path.Dir(name[:i]), to)
			}
			return path.Join(to, name[i:]), true
		}
	}
	return name, false
}

// follow gives the node behind all links.
func (t *Tree) follow(name string) (string, *Node, error) {
	for range 10 {
		real, n, err := t.real(name)
		if err != nil {
			return name, nil, err
		}
		name = real
		if n.Mode&fs.ModeSymlink == 0 {
			return name, n, nil
		}
		if strings.HasPrefix(n.Link, "/") {
			name = n.Link
		} else {
			name = path.Join(path.Dir(name), n.Link)
		}
	}
	return name, nil, os.ErrInvalid
}

type nodeInfo struct {
	name string
	n    *Node
}

func (i nodeInfo) Name() string { return i.name }
func (i nodeInfo) Size() int64 {
	if i.n.Size != 0 {
		return i.n.Size
	}
	return int64(len(i.n.Data))
}
func (i nodeInfo) Mode() fs.FileMode {
	if i.n.Mode.IsDir() {
		return i.n.Mode | 0o755
	}
	if i.n.Denied {
		return i.n.Mode | 0o600
	}
	return i.n.Mode | 0o644
}
func (i nodeInfo) ModTime() time.Time { return i.n.Time }
func (i nodeInfo) IsDir() bool        { return i.n.Mode.IsDir() }
func (i nodeInfo) Sys() any           { return nil }

// Fileread serves a file.
func (t *Tree) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	_, n, err := t.follow(r.Filepath)
	switch {
	case err != nil:
		return nil, err
	case n.Denied:
		return nil, sftp.ErrSSHFxPermissionDenied
	case n.Mode != 0:
		return nil, os.ErrInvalid
	}
	return bytes.NewReader(n.Data), nil
}

// Filewrite refuses: a simulated system is only read.
func (t *Tree) Filewrite(*sftp.Request) (io.WriterAt, error) {
	return nil, sftp.ErrSSHFxPermissionDenied
}

// Filecmd refuses for the same reason.
func (t *Tree) Filecmd(*sftp.Request) error { return sftp.ErrSSHFxPermissionDenied }

// Filelist lists a folder, or tells about a file behind its links.
func (t *Tree) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	name, n, err := t.follow(r.Filepath)
	if err != nil {
		return nil, err
	}
	if r.Method != "List" {
		return listing{nodeInfo{path.Base(r.Filepath), n}}, nil
	}
	if n.Denied {
		return nil, sftp.ErrSSHFxPermissionDenied
	}
	var out listing
	for _, i := range t.children(name) {
		out = append(out, i)
	}
	return out, nil
}

// children gives what is in a folder, sorted.
func (t *Tree) children(name string) []nodeInfo {
	t.mu.Lock()
	defer t.mu.Unlock()
	var out []nodeInfo
	for p, child := range t.nodes {
		if p != "/" && path.Dir(p) == path.Clean(name) {
			out = append(out, nodeInfo{path.Base(p), child})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].name < out[j].name })
	return out
}

// Lstat tells about a file or link itself.
func (t *Tree) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	n, err := t.node(r.Filepath)
	if err != nil {
		return nil, err
	}
	return listing{nodeInfo{path.Base(r.Filepath), n}}, nil
}

// Readlink gives a link's target.
func (t *Tree) Readlink(name string) (string, error) {
	n, err := t.node(name)
	if err != nil {
		return "", err
	}
	if n.Mode&fs.ModeSymlink == 0 {
		return "", os.ErrInvalid
	}
	return n.Link, nil
}

type listing []os.FileInfo

func (l listing) ListAt(out []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[at:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}

// handlers serves the tree over SFTP.
func (t *Tree) handlers() sftp.Handlers {
	return sftp.Handlers{FileGet: t, FilePut: t, FileCmd: t, FileList: t}
}

var (
	_ sftp.LstatFileLister    = (*Tree)(nil)
	_ sftp.ReadlinkFileLister = (*Tree)(nil)
)
