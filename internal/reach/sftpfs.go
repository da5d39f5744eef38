package reach

import (
	"errors"
	"io/fs"
	"sort"
	"strings"

	"github.com/pkg/sftp"
)

// sftpFS shows a server's files as an io/fs file system. pkg/sftp already turns the protocol's codes into fs.ErrNotExist
// and fs.ErrPermission.
type sftpFS struct {
	c      *sftp.Client
	drives bool // the system is Windows: the first element of a name is a drive
}

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
	if errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxFailure && strings.Contains(strings.ToLower(status.Error()), "permission denied") {
		err = fs.ErrPermission // some servers say it only in words
	}
	return &fs.PathError{Op: op, Path: Path(name), Err: err}
}

func (f sftpFS) Open(name string) (fs.File, error) {
	if err := checkName("open", name); err != nil {
		return nil, err
	}
	// A FIFO or device would hold the server, and with it us.
	info, err := f.c.Lstat(f.path(name))
	if err != nil {
		return nil, pathError("open", name, err)
	}
	if !info.Mode().IsRegular() && info.Mode()&fs.ModeSymlink == 0 {
		return nil, pathError("open", name, errors.New("not a regular file"))
	}
	file, err := f.c.Open(f.path(name))
	if err != nil {
		return nil, pathError("open", name, err)
	}
	return file, nil
}

func (f sftpFS) ReadDir(name string) ([]fs.DirEntry, error) {
	if err := checkName("readdir", name); err != nil {
		return nil, err
	}
	infos, err := f.c.ReadDir(f.path(name))
	if err != nil {
		return nil, pathError("readdir", name, err)
	}
	entries := make([]fs.DirEntry, 0, len(infos))
	for _, info := range infos {
		if n := info.Name(); validName(n) && !strings.Contains(n, "/") { // a server may send any name; one with a slash would lead elsewhere
			entries = append(entries, fs.FileInfoToDirEntry(info))
		}
	}
	sort.Slice(entries, func(i, j int) bool { return entries[i].Name() < entries[j].Name() })
	return entries, nil
}

func (f sftpFS) Lstat(name string) (fs.FileInfo, error) {
	if err := checkName("lstat", name); err != nil {
		return nil, err
	}
	info, err := f.c.Lstat(f.path(name))
	return info, pathError("lstat", name, err)
}

func (f sftpFS) ReadLink(name string) (string, error) {
	if err := checkName("readlink", name); err != nil {
		return "", err
	}
	target, err := f.c.ReadLink(f.path(name))
	return target, pathError("readlink", name, err)
}
