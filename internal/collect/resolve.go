package collect

import (
	"fmt"
	"io/fs"
	"path"
	"strings"
	"sync"

	"envask/internal/reach"
)

// maxLinks is how many links are followed on the way to one file.
const maxLinks = 40

var errLoop = fmt.Errorf("a circular symlink (more than %d links in a row)", maxLinks)

// resolver finds out where links lead. Folders that were looked at are remembered.
type resolver struct {
	fsys    reach.FS
	mu      sync.Mutex
	folders map[string]folder
}

type folder struct {
	target string // where the link leads, when it is one
	link   bool
}

// resolve gives the name of a file with no link in it. A chain of more than maxLinks links is an error.
func (r *resolver) resolve(name string, info fs.FileInfo) (string, error) {
	parts := strings.Split(name, "/")
	at, links := ".", 0
	for i := 0; i < len(parts); i++ {
		next := path.Join(at, parts[i])
		last := i == len(parts)-1
		f, err := r.look(next, last && links == 0, info)
		if err != nil {
			return "", err
		}
		if !f.link {
			at = next
			continue
		}
		if links++; links > maxLinks {
			return "", errLoop
		}
		target := f.target
		if !strings.HasPrefix(target, "/") {
			target = path.Join("/", at, target)
		}
		rest := parts[i+1:]
		parts = append(strings.Split(reach.Name(target), "/"), rest...)
		at, i = ".", -1
	}
	return at, nil
}

// look says whether a name is a link. known is the file's own info, which saves asking again.
func (r *resolver) look(name string, known bool, info fs.FileInfo) (folder, error) {
	if known && info != nil && info.Mode()&fs.ModeSymlink == 0 {
		return folder{}, nil
	}
	r.mu.Lock()
	f, ok := r.folders[name]
	r.mu.Unlock()
	if ok {
		return f, nil
	}
	info, err := r.fsys.Lstat(name)
	if err != nil {
		return folder{}, err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		f.link = true
		if f.target, err = r.fsys.ReadLink(name); err != nil {
			return folder{}, err
		}
	}
	if f.link || info.IsDir() {
		r.mu.Lock()
		r.folders[name] = f
		r.mu.Unlock()
	}
	return f, nil
}
