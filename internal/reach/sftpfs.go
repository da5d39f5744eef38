package reach

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"
)

// sftpFS shows a server's files as an io/fs file system. pkg/sftp already turns the protocol's codes into fs.ErrNotExist
// and fs.ErrPermission.
type sftpFS struct {
	c      *sftp.Client
	wire   *sftpWire
	drives bool        // the system is Windows: the first element of a name is a drive
	one    *sync.Mutex // one listing at a time
}

var (
	_ FS         = sftpFS{}
	_ Resolved   = sftpFS{}
	_ EachLister = sftpFS{}
)

// path gives the path of a name as the server wants it: OpenSSH for Windows has "/C:/x" where we have "C/x".
func (f sftpFS) path(name string) string {
	if drive, rest, _ := strings.Cut(name, "/"); f.drives && len(drive) == 1 && drive != "." {
		return "/" + drive + ":/" + rest
	}
	return Path(name)
}

func pathError(op, name string, err error) error {
	if err == nil {
		return nil
	}
	var status *sftp.StatusError
	if errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxFailure &&
		strings.Contains(strings.ToLower(status.Error()), "permission denied") {
		err = fs.ErrPermission // some servers say it only in words
	}
	return &fs.PathError{Op: op, Path: Path(name), Err: err}
}

// sftpFile is an opened file whose facts are checked.
type sftpFile struct{ *sftp.File }

func (f sftpFile) Stat() (fs.FileInfo, error) { return checkedInfo(f.File.Stat()) }

func (f sftpFS) Open(name string) (fs.File, error) {
	file, _, err := f.open(name, true)
	return file, err
}

func (f sftpFS) open(name string, links bool) (file fs.File, found fs.FileInfo, err error) {
	if err := checkName("open", name); err != nil {
		return nil, nil, err
	}
	// A FIFO or device would hold the server, and with it us.
	found, err = checkedInfo(f.c.Lstat(f.path(name)))
	if err != nil {
		return nil, nil, pathError("open", name, err)
	}
	link := found.Mode()&fs.ModeSymlink != 0
	if link && !links {
		return nil, nil, pathError("open", name, ErrExchanged)
	}
	if !found.Mode().IsRegular() && !link {
		return nil, nil, pathError("open", name, errors.New("not a regular file"))
	}
	opened, err := f.c.Open(f.path(name))
	if err != nil {
		return nil, nil, pathError("open", name, err)
	}
	return sftpFile{opened}, found, nil
}

// OpenResolved opens a file and then compares it with what stands under its name: SFTP does not tell what was opened, so it is told
// by its facts. That no link is on the way is asked after the file was opened, for each folder above it.
func (f sftpFS) OpenResolved(name string) (fs.File, error) {
	file, found, err := f.open(name, false)
	if err != nil {
		return nil, err
	}
	var opened, there fs.FileInfo
	var gone error
	var g errgroup.Group // the questions go together
	g.Go(func() (err error) { opened, err = file.Stat(); return err })
	g.Go(func() error { there, gone = f.c.Lstat(f.path(name)); return nil })
	for i, c := range name {
		if c == '/' {
			g.Go(func() error { return f.noLink(name[:i]) })
		}
	}
	err = g.Wait()
	switch {
	case err != nil:
	case errors.Is(gone, fs.ErrNotExist):
		err = stillFound(found, opened)
	case gone != nil:
		err = gone
	case !sameOwner(opened, there):
		err = ErrExchanged
	case opened.Size() != there.Size() || !opened.ModTime().Equal(there.ModTime()):
		err = f.sameTimes(name, found, file)
	}
	if err != nil {
		file.Close()
		return nil, pathError("open", name, err)
	}
	return file, nil
}

// noLink makes sure that a folder above a file is no link.
func (f sftpFS) noLink(name string) error {
	info, err := f.c.Lstat(f.path(name))
	if err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return ErrExchanged
	}
	return nil // what cannot be told of a folder was told when the name was resolved
}

// sameOwner says whether an opened file and what stands under its name can be the same: of one owner and one mode.
func sameOwner(opened, there fs.FileInfo) bool {
	if opened.Mode() != there.Mode() {
		return false
	}
	a, ok := opened.Sys().(*sftp.FileStat)
	b, also := there.Sys().(*sftp.FileStat)
	return !ok || !also || a.UID == b.UID && a.GID == b.GID
}

// stillFound says whether what was opened can be what stood under its name before, which is gone now: a log that was rotated away,
// and has grown at most. A link that was there for a moment leads to something else.
func stillFound(found, opened fs.FileInfo) error {
	if !sameOwner(opened, found) || opened.Size() < found.Size() || opened.ModTime().Before(found.ModTime()) {
		return ErrExchanged
	}
	return nil
}

// sameTimes compares the times of an opened file with what stands under its name, for one that is being written to: the time of the
// second question lies between those of the first and the third.
func (f sftpFS) sameTimes(name string, found fs.FileInfo, file fs.File) error {
	before, err := file.Stat()
	if err != nil {
		return err
	}
	there, err := f.c.Lstat(f.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return stillFound(found, before)
	}
	if err != nil {
		return err
	}
	after, err := file.Stat()
	if err != nil {
		return err
	}
	if there.ModTime().Before(before.ModTime()) || there.ModTime().After(after.ModTime()) {
		return ErrExchanged
	}
	return nil
}

// EachEntry lists a folder as its names come.
func (f sftpFS) EachEntry(ctx context.Context, name string, each func(fs.DirEntry) error) error {
	if err := checkName("readdir", name); err != nil {
		return err
	}
	f.one.Lock()
	defer f.one.Unlock()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	l := &sftpListing{stop: cancel, each: func(info fs.FileInfo) error {
		// a server may send any name; one with a slash would lead elsewhere
		if n := info.Name(); validName(n) && !strings.Contains(n, "/") {
			return each(checkedEntry{fs.FileInfoToDirEntry(info)})
		}
		return nil
	}}
	f.wire.list(l)
	_, err := f.c.ReadDirContext(ctx, f.path(name))
	f.wire.list(nil)
	if l.err != nil {
		return l.err
	}
	return pathError("readdir", name, err)
}

func (f sftpFS) ReadDir(name string) ([]fs.DirEntry, error) { return readDir(f, name) }

func (f sftpFS) Lstat(name string) (fs.FileInfo, error) {
	if err := checkName("lstat", name); err != nil {
		return nil, err
	}
	info, err := checkedInfo(f.c.Lstat(f.path(name)))
	return info, pathError("lstat", name, err)
}

func (f sftpFS) ReadLink(name string) (string, error) {
	if err := checkName("readlink", name); err != nil {
		return "", err
	}
	target, err := f.c.ReadLink(f.path(name))
	return target, pathError("readlink", name, err)
}
