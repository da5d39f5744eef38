package reach

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"envask/internal/unpack"
)

// archiveIn finds the archive in a path that may lead into it: /media/stick/gate.tar.gz/top/var is the folder top/var of gate.tar.gz.
func archiveIn(root string) (file, within string) {
	for at := root; ; at = filepath.Dir(at) {
		info, err := os.Stat(at)
		if err == nil {
			if !info.Mode().IsRegular() {
				return "", ""
			}
			rel, err := filepath.Rel(at, root)
			if err != nil {
				return "", ""
			}
			return at, filepath.ToSlash(rel)
		}
		if filepath.Dir(at) == at {
			return "", ""
		}
	}
}

// openArchive reads the copy of a system from an archive, below one of its folders.
func openArchive(ctx context.Context, file, within string) (System, error) {
	a, err := unpack.Open(ctx, file)
	if err != nil {
		return nil, err
	}
	if info, err := a.Lstat(within); err != nil || !info.IsDir() {
		a.Close()
		return nil, fmt.Errorf("there is no folder %s in the archive%s", within, topFolders(a))
	}
	f := &Folder{fsys: archiveFS{a, within}, close: a.Close}
	var remarks []string
	if a.Cut != "" {
		remarks = append(remarks, "the archive is not whole: "+a.Cut)
	}
	if a.Left > 0 {
		remarks = append(remarks, fmt.Sprintf("%d names that lead out of the archive, or stand in each other's way, were left", a.Left))
	}
	f.served = Served{Way: "folder", Means: fmt.Sprintf("files in the %s archive %s", a.Form, filepath.Base(file)),
		Remark: strings.Join(remarks, "; ")}
	return f, nil
}

// topFolders names what an archive has at its top.
func topFolders(a *unpack.FS) string {
	list, err := a.ReadDir(".")
	if err != nil || len(list) == 0 {
		return ""
	}
	var names []string
	for _, e := range list[:min(len(list), 5)] {
		names = append(names, e.Name())
	}
	return ": at its top there are " + strings.Join(names, ", ")
}

// archiveFS is an archive from one of its folders on.
type archiveFS struct {
	a      *unpack.FS
	within string
}

func (x archiveFS) at(op, name string) (string, error) {
	if err := checkName(op, name); err != nil {
		return "", err
	}
	return path.Join(x.within, name), nil
}

// maxLinks bounds how many links one name goes through.
const maxLinks = 40

// Open opens a name, and follows links as the system would: none leads out of the folder that is its top.
func (x archiveFS) Open(name string) (fs.File, error) {
	if err := checkName("open", name); err != nil {
		return nil, err
	}
	done, rest := ".", name
	for links := 0; rest != ""; {
		var part string
		part, rest, _ = strings.Cut(rest, "/")
		done = path.Join("/", done, part)[1:] // .. at the top stays there
		info, err := x.a.Lstat(path.Join(x.within, done))
		if err != nil {
			return nil, err
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			continue
		}
		if links++; links > maxLinks {
			return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("too many links")}
		}
		to, err := x.a.ReadLink(path.Join(x.within, done))
		if err != nil {
			return nil, err
		}
		if done = path.Dir(done); strings.HasPrefix(to, "/") {
			done = "."
		}
		rest = strings.Trim(path.Clean("/" + path.Join("/", done, to))[1:]+"/"+rest, "/")
		done = "."
	}
	return x.a.Open(path.Join(x.within, orTop(done)))
}

func orTop(name string) string {
	if name == "" {
		return "."
	}
	return name
}

// OpenResolved opens a name in which no link may be.
func (x archiveFS) OpenResolved(name string) (fs.File, error) {
	if err := checkName("open", name); err != nil {
		return nil, err
	}
	for i := 1; i <= len(name); i++ {
		if i < len(name) && name[i] != '/' {
			continue
		}
		info, err := x.a.Lstat(path.Join(x.within, name[:i]))
		if err != nil {
			return nil, err
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			return nil, &fs.PathError{Op: "open", Path: name, Err: ErrExchanged}
		}
	}
	return x.a.Open(path.Join(x.within, name))
}

func (x archiveFS) ReadDir(name string) ([]fs.DirEntry, error) {
	at, err := x.at("readdir", name)
	if err != nil {
		return nil, err
	}
	return x.a.ReadDir(at)
}

func (x archiveFS) Lstat(name string) (fs.FileInfo, error) {
	at, err := x.at("lstat", name)
	if err != nil {
		return nil, err
	}
	return x.a.Lstat(at)
}

func (x archiveFS) ReadLink(name string) (string, error) {
	at, err := x.at("readlink", name)
	if err != nil {
		return "", err
	}
	return x.a.ReadLink(at)
}
