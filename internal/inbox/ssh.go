package inbox

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// startSSH receives over SFTP, and by the protocol of scp. The host key is made for this time alone.
func startSSH(ctx context.Context, s *Store, address string) (string, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return "", err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	accept(ctx, l, func(_ context.Context, conn net.Conn) { s.overSSH(conn, signer) })
	return l.Addr().String(), nil
}

func (s *Store) overSSH(conn net.Conn, signer ssh.Signer) {
	var account *Account
	conf := &ssh.ServerConfig{ServerVersion: "SSH-2.0-Envask", MaxAuthTries: wrongLogins,
		PasswordCallback: func(m ssh.ConnMetadata, password []byte) (_ *ssh.Permissions, err error) {
			account, err = s.Login(m.User(), string(password), m.RemoteAddr())
			return nil, err
		}}
	conf.AddHostKey(signer)
	sc, channels, requests, err := ssh.NewServerConn(conn, conf)
	if err != nil {
		return
	}
	defer sc.Close()
	go ssh.DiscardRequests(requests)
	for nc := range channels {
		if nc.ChannelType() != "session" {
			_ = nc.Reject(ssh.Prohibited, "only files are taken")
			continue
		}
		ch, reqs, err := nc.Accept()
		if err != nil {
			return
		}
		go s.session(ch, reqs, account, sc.RemoteAddr())
	}
}

func (s *Store) session(ch ssh.Channel, reqs <-chan *ssh.Request, a *Account, from net.Addr) {
	defer ch.Close()
	for r := range reqs {
		var p struct{ Text string }
		_ = ssh.Unmarshal(r.Payload, &p) // what is not understood is refused below
		switch {
		case r.Type == "subsystem" && p.Text == "sftp":
			_ = r.Reply(true, nil)
			h := &writing{s, a, from}
			server := sftp.NewRequestServer(ch, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
			_ = server.Serve() // it ends when the device goes
			return
		case r.Type == "exec" && strings.HasPrefix(p.Text, "scp ") && strings.Contains(p.Text, "-t"):
			_ = r.Reply(true, nil)
			code := uint32(0)
			if err := s.sink(ch, a, from); err != nil {
				fmt.Fprintf(ch, "\x01%v\n", err)
				code = 1
			}
			_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{code}))
			return
		case r.WantReply:
			_ = r.Reply(false, nil)
		}
	}
}

// writing is a file system that is only written to.
type writing struct {
	store   *Store
	account *Account
	from    net.Addr
}

// Fileread refuses: nothing is read back.
func (w *writing) Fileread(*sftp.Request) (io.ReaderAt, error) {
	return nil, sftp.ErrSSHFxPermissionDenied
}

// Filewrite takes a file.
func (w *writing) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	in, err := w.store.Begin(w.account, r.Filepath, "SFTP", w.from)
	if err != nil {
		return nil, sftp.ErrSSHFxPermissionDenied
	}
	return &sftpFile{Incoming: in}, nil
}

// sftpFile is whole when the device closes it, unless the connection broke.
type sftpFile struct {
	*Incoming
	once sync.Once
	bad  error
}

// TransferError is told when the connection broke in the middle.
func (f *sftpFile) TransferError(err error) { f.bad = err }

// Close ends the file.
func (f *sftpFile) Close() (err error) {
	f.once.Do(func() {
		if f.bad != nil {
			f.Abort(f.bad.Error())
			err = f.bad
			return
		}
		err = f.Commit()
	})
	return err
}

// Filecmd takes what clients do around a file (its times, a folder for it), and does nothing; nothing is renamed or removed.
func (w *writing) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Setstat", "Mkdir":
		return nil
	}
	return sftp.ErrSSHFxPermissionDenied
}

// Filelist tells that there is a folder to put things into, and lists nothing.
func (w *writing) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method == "Stat" || r.Method == "Lstat" {
		if p := path.Clean("/" + r.Filepath); p == "/" {
			return oneFolder{}, nil
		}
		return nil, os.ErrNotExist
	}
	return nil, sftp.ErrSSHFxPermissionDenied
}

type oneFolder struct{}

func (oneFolder) ListAt(out []os.FileInfo, at int64) (int, error) {
	if at > 0 || len(out) == 0 {
		return 0, io.EOF
	}
	out[0] = oneFolder{}
	return 1, io.EOF
}

func (oneFolder) Name() string       { return "/" }
func (oneFolder) Size() int64        { return 0 }
func (oneFolder) Mode() os.FileMode  { return os.ModeDir | 0o300 }
func (oneFolder) ModTime() time.Time { return time.Now() }
func (oneFolder) IsDir() bool        { return true }
func (oneFolder) Sys() any           { return nil }

// maxSCPLine bounds a line of the protocol of scp, in bytes.
const maxSCPLine = 4096

// sink is the receiving side of scp: each file is announced by a line with mode, size and name; each part is acknowledged with a NUL.
func (s *Store) sink(ch io.ReadWriter, a *Account, from net.Addr) error {
	in := bufio.NewReaderSize(ch, 64<<10)
	ok := func() error { _, err := ch.Write([]byte{0}); return err }
	if err := ok(); err != nil {
		return err
	}
	for {
		line, err := in.ReadSlice('\n')
		if errors.Is(err, io.EOF) && len(line) == 0 {
			return nil
		}
		if err != nil || len(line) > maxSCPLine {
			return errors.New("not understood")
		}
		text := strings.TrimSuffix(string(line), "\n")
		switch {
		case text == "":
			return errors.New("not understood")
		case text[0] == 'T', text[0] == 'E': // times; the end of a folder
		case text[0] == 'C':
			if err := s.sinkFile(in, ok, text, a, from); err != nil {
				return err
			}
			continue
		default:
			return errors.New("only files are taken")
		}
		if err := ok(); err != nil {
			return err
		}
	}
}

func (s *Store) sinkFile(in *bufio.Reader, ok func() error, text string, a *Account, from net.Addr) error {
	fields := strings.SplitN(text, " ", 3)
	if len(fields) != 3 {
		return errors.New("not understood")
	}
	size, err := strconv.ParseInt(fields[1], 10, 64)
	if err != nil || size < 0 {
		return errors.New("a size that is none")
	}
	if size > s.Limits.Bytes {
		s.remark("%s: %q is larger than allowed: refused", a.System, s.SafeName(fields[2]))
		return ErrTooLarge
	}
	file, err := s.Begin(a, fields[2], "SCP", from)
	if err != nil {
		return err
	}
	if err := ok(); err != nil {
		file.Abort("the connection broke")
		return err
	}
	if n, err := io.CopyN(file, in, size); err != nil {
		file.Abort(fmt.Sprintf("%d of %d bytes", n, size))
		return err
	}
	if c, err := in.ReadByte(); err != nil || c != 0 {
		file.Abort("the device says that it could not read all of it")
		return errors.New("not whole")
	}
	if err := file.Commit(); err != nil {
		return err
	}
	return ok()
}
