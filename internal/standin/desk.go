package standin

import (
	"crypto/sha256"
	"encoding/hex"
	"envask/internal/late"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"github.com/pkg/sftp"
)

// NewDesk makes a vendor desk that takes files over SFTP into a folder, and can compute their checksums. Nothing outside
// of the folder can be reached.
func NewDesk(dir, user, password string) (*Server, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	d := &desk{root: root}
	h := sftp.Handlers{FileGet: d, FilePut: d, FileCmd: d, FileList: d}
	return &Server{Name: "desk", User: user, Password: password, Files: &h, Exec: d.exec}, nil
}

type desk struct{ root *os.Root }

// name gives a path below the root.
func name(p string) string {
	p = strings.TrimPrefix(path.Clean("/"+p), "/")
	if p == "" {
		return "."
	}
	return p
}

func (d *desk) Fileread(r *sftp.Request) (io.ReaderAt, error) { return d.root.Open(name(r.Filepath)) }

func (d *desk) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flags := os.O_CREATE | os.O_WRONLY
	if r.Pflags().Trunc {
		flags |= os.O_TRUNC
	}
	return d.root.OpenFile(name(r.Filepath), flags, 0o644)
}

func (d *desk) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Rename":
		if _, err := d.root.Lstat(name(r.Target)); err == nil {
			return os.ErrExist
		}
		return d.root.Rename(name(r.Filepath), name(r.Target))
	case "Remove":
		return d.root.Remove(name(r.Filepath))
	case "Setstat":
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

func (d *desk) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		info, err := d.root.Stat(name(r.Filepath))
		if err != nil {
			return nil, err
		}
		return listing{info}, nil
	}
	f, err := d.root.Open(name(r.Filepath))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	infos, err := f.Readdir(-1)
	return listing(infos), err
}

var sumCommand = late.Pattern(`^sha256sum -- '([^']+)'$`)

func (d *desk) exec(command string, out io.Writer) (int, bool) {
	m := sumCommand().FindStringSubmatch(command)
	if m == nil {
		return 0, false
	}
	f, err := d.root.Open(name(m[1]))
	if err != nil {
		return 1, true
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return 1, true
	}
	fmt.Fprintf(out, "%s  %s\n", hex.EncodeToString(h.Sum(nil)), m[1])
	return 0, true
}
