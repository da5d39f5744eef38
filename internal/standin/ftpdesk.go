package standin

import (
	"bufio"
	"crypto"
	_ "crypto/md5"
	_ "crypto/sha1"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"os"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"
)

// FTPDesk is a vendor's desk that takes files over FTP (RFC 959) with explicit TLS (RFC 4217), data connections that the client
// opens (EPSV of RFC 2428, PASV), going on at a byte (REST of RFC 3659), and digests by HASH and the older commands.
type FTPDesk struct {
	User, Password string
	Certificate    []byte   // PEM
	InTheClear     bool     // takes logins without TLS
	Digests        []string // of ftpDigests; it names and computes just these
	Room           int64    // bytes of one file that it has room for; 0 is any
	Short          int64    // it says that files have so many bytes fewer than they have
	Corrupt        bool     // keeps another first byte than it was given
	// Cut gives how many bytes of a file come through before the whole connection is cut; 0 is all of them.
	Cut func() int64

	root     *os.Root
	listener net.Listener
	conf     *tls.Config
	mu       sync.Mutex
	open     map[net.Conn]bool
}

// ftpDigests are the digests by their names in HASH, and their older commands.
var ftpDigests = map[string]struct {
	kind  crypto.Hash
	older string
}{"SHA-256": {crypto.SHA256, "XSHA256"}, "SHA-1": {crypto.SHA1, "XSHA1"}, "MD5": {crypto.MD5, "XMD5"}}

// StartFTPDesk starts a desk on a loopback port, with a certificate of its own.
func StartFTPDesk(dir, user, password string) (*FTPDesk, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	text, conf, err := ownTLS()
	if err != nil {
		return nil, err
	}
	d := &FTPDesk{User: user, Password: password, Certificate: text, Digests: []string{"SHA-256"}, root: root, open: map[net.Conn]bool{},
		conf: conf}
	if d.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	go func() {
		for {
			c, err := d.listener.Accept()
			if err != nil {
				return
			}
			go d.serve(c)
		}
	}()
	return d, nil
}

// Address gives host and port.
func (d *FTPDesk) Address() string { return d.listener.Addr().String() }

// Fingerprint gives the certificate's, in the form of credentials.yaml.
func (d *FTPDesk) Fingerprint() string { return fingerprint(d.Certificate) }

func fingerprint(certificate []byte) string {
	block, _ := pem.Decode(certificate)
	sum := sha256.Sum256(block.Bytes)
	return "SHA256:" + hex.EncodeToString(sum[:])
}

// Close stops it, and what is under way.
func (d *FTPDesk) Close() error {
	err := d.listener.Close()
	d.mu.Lock()
	defer d.mu.Unlock()
	for c := range d.open {
		c.Close()
	}
	return errors.Join(err, d.root.Close())
}

// ftpSession is one control connection.
type ftpSession struct {
	*FTPDesk
	conn    net.Conn // bare, or TLS
	lines   *textproto.Reader
	secure  bool
	private bool // data connections are TLS
	user    string
	known   bool
	dir     string
	at      int64 // REST
	from    string
	digest  string
	data    net.Listener
}

func (d *FTPDesk) serve(c net.Conn) {
	d.mu.Lock()
	d.open[c] = true
	d.mu.Unlock()
	s := &ftpSession{FTPDesk: d, conn: c, lines: textproto.NewReader(bufio.NewReader(c)), dir: "/"}
	if len(d.Digests) > 0 {
		s.digest = d.Digests[0]
	}
	defer func() {
		d.mu.Lock()
		delete(d.open, c)
		d.mu.Unlock()
		if s.data != nil {
			s.data.Close()
		}
		c.Close()
	}()
	s.say("220 desk.ostrevane.example")
	for {
		line, err := s.lines.ReadLine()
		if err != nil {
			return
		}
		verb, rest, _ := strings.Cut(line, " ")
		if verb = strings.ToUpper(verb); verb == "QUIT" {
			s.say("221 bye")
			return
		}
		s.do(verb, rest)
	}
}

func (s *ftpSession) say(format string, args ...any) {
	_ = s.conn.SetWriteDeadline(time.Now().Add(time.Minute))
	fmt.Fprintf(s.conn, format+"\r\n", args...)
}

// ftpVerbs are the commands; those of guests are answered before a login.
var ftpVerbs = map[string]struct {
	guests bool
	do     func(s *ftpSession, arg string)
}{
	"AUTH": {true, (*ftpSession).auth}, "USER": {true, (*ftpSession).login}, "PASS": {true, (*ftpSession).pass},
	"FEAT": {true, (*ftpSession).features},
	"PBSZ": {true, answer("200 fine")}, "NOOP": {true, answer("200 fine")},
	"PROT": {true, func(s *ftpSession, arg string) { s.private = arg == "P"; s.say("200 fine") }},
	"TYPE": {false, answer("200 fine")}, "PWD": {false, func(s *ftpSession, _ string) { s.say("257 %q", s.dir) }},
	"CWD":  {false, (*ftpSession).change},
	"OPTS": {false, (*ftpSession).options}, "EPSV": {false, (*ftpSession).passive}, "PASV": {false, (*ftpSession).passiveOld},
	"SIZE": {false, (*ftpSession).size}, "REST": {false, (*ftpSession).restart}, "STOR": {false, (*ftpSession).store},
	"RETR": {false, (*ftpSession).fetch},
	"DELE": {false, func(s *ftpSession, arg string) { s.done("250 gone", s.root.Remove(s.path(arg))) }},
	"RNFR": {false, (*ftpSession).renameFrom}, "RNTO": {false, (*ftpSession).renameTo},
	"HASH": {false, func(s *ftpSession, arg string) { s.sum(s.digest, arg, true) }}, "XSHA256": {false, older("SHA-256")},
	"XSHA1": {false, older("SHA-1")}, "XMD5": {false, older("MD5")},
}

func answer(text string) func(*ftpSession, string) {
	return func(s *ftpSession, _ string) { s.say("%s", text) }
}

func older(digest string) func(*ftpSession, string) {
	return func(s *ftpSession, arg string) { s.sum(digest, arg, false) }
}

func (s *ftpSession) do(verb, arg string) {
	v, ok := ftpVerbs[verb]
	switch {
	case !ok:
		s.say("502 no such command")
	case !v.guests && !s.known:
		s.say("530 who is it?")
	default:
		v.do(s, arg)
	}
}

func (s *ftpSession) done(well string, err error) {
	if err != nil {
		s.say("550 not possible")
		return
	}
	s.say("%s", well)
}

func (s *ftpSession) path(arg string) string {
	if !path.IsAbs(arg) {
		arg = path.Join(s.dir, arg)
	}
	return name(arg)
}

func (s *ftpSession) auth(string) {
	s.say("234 go on")
	s.secure = true
	s.conn = tls.Server(s.conn, s.conf)
	s.lines = textproto.NewReader(bufio.NewReader(s.conn))
}

func (s *ftpSession) login(arg string) {
	s.user = arg
	s.say("331 and the password?")
}

func (s *ftpSession) pass(arg string) {
	if !s.secure && !s.InTheClear || s.user != s.User || arg != s.Password {
		s.say("530 who is it?")
		return
	}
	s.known = true
	s.say("230 come in")
}

func (s *ftpSession) features(string) {
	s.say("211-known:")
	s.say(" AUTH TLS\r\n UTF8\r\n EPSV\r\n SIZE\r\n REST STREAM")
	hash := ""
	for _, d := range s.Digests {
		s.say(" %s", ftpDigests[d].older)
		if hash += d; d == s.digest {
			hash += "*"
		}
		hash += ";"
	}
	if hash != "" {
		s.say(" HASH %s", hash)
	}
	s.say("211 end")
}

func (s *ftpSession) options(arg string) {
	if kind, ok := strings.CutPrefix(arg, "HASH "); ok {
		s.digest = kind
		s.say("200 %s", kind)
		return
	}
	s.say("200 fine")
}

func (s *ftpSession) change(arg string) {
	info, err := s.root.Stat(s.path(arg))
	if err == nil && !info.IsDir() {
		err = os.ErrNotExist
	}
	if err == nil {
		s.dir = path.Join("/", s.path(arg))
	}
	s.done("250 "+s.dir, err)
}

func (s *ftpSession) listen() (port int, err error) {
	if s.data != nil {
		s.data.Close()
	}
	if s.data, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return 0, err
	}
	return s.data.Addr().(*net.TCPAddr).Port, nil
}

func (s *ftpSession) passive(string) {
	port, err := s.listen()
	s.done(fmt.Sprintf("229 come (|||%d|)", port), err)
}

func (s *ftpSession) passiveOld(string) {
	port, err := s.listen()
	s.done(fmt.Sprintf("227 come (127,0,0,1,%d,%d)", port>>8, port&255), err)
}

// connect waits for the data connection.
func (s *ftpSession) connect() (net.Conn, error) {
	if s.data == nil {
		return nil, errors.New("no data connection was asked for")
	}
	defer func() { s.data.Close(); s.data = nil }()
	if err := s.data.(*net.TCPListener).SetDeadline(time.Now().Add(20 * time.Second)); err != nil {
		return nil, err
	}
	c, err := s.data.Accept()
	if err == nil && s.private {
		c = tls.Server(c, s.conf)
	}
	return c, err
}

func (s *ftpSession) size(arg string) {
	info, err := s.root.Stat(s.path(arg))
	if err != nil {
		s.say("550 no such file")
		return
	}
	s.say("213 %d", info.Size()-s.Short)
}

func (s *ftpSession) restart(arg string) {
	at, err := strconv.ParseInt(arg, 10, 64)
	s.at = at
	if err != nil || at < 0 {
		s.at = 0
		s.say("501 no number")
		return
	}
	s.say("350 from %d", at)
}

func (s *ftpSession) store(arg string) {
	at := s.at
	s.at = 0
	f, err := s.root.OpenFile(s.path(arg), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		s.say("550 not possible")
		return
	}
	defer f.Close()
	if err := errors.Join(f.Truncate(at), seek(f, at)); err != nil {
		s.say("550 not possible")
		return
	}
	s.say("150 send it")
	c, err := s.connect()
	if err != nil {
		s.say("425 no data connection")
		return
	}
	defer c.Close()
	var in io.Reader = c
	if s.Room > 0 {
		in = io.LimitReader(c, max(0, s.Room-at))
	}
	if s.Cut != nil {
		if most := s.Cut(); most > 0 {
			if _, err := io.CopyN(f, in, most); err == nil {
				s.conn.Close()
				return
			}
			s.say("226 it is here")
			return
		}
	}
	n, err := io.Copy(f, in)
	if s.Corrupt && at+n > 0 {
		_, err = f.WriteAt([]byte{'!'}, 0)
	}
	switch {
	case s.Room > 0 && at+n >= s.Room && !ended(c):
		s.say("452 no room")
	case err != nil:
		s.say("426 the data connection broke")
	default:
		s.say("226 it is here")
	}
}

// ended says whether nothing more comes.
func ended(c net.Conn) bool {
	_, err := c.Read(make([]byte, 1))
	return err == io.EOF
}

func seek(f *os.File, at int64) error {
	_, err := f.Seek(at, io.SeekStart)
	return err
}

func (s *ftpSession) fetch(arg string) {
	at := s.at
	s.at = 0
	f, err := s.root.Open(s.path(arg))
	if err != nil {
		s.say("550 no such file")
		return
	}
	defer f.Close()
	if err := seek(f, at); err != nil {
		s.say("550 not possible")
		return
	}
	s.say("150 it comes")
	c, err := s.connect()
	if err != nil {
		s.say("425 no data connection")
		return
	}
	_, err = io.Copy(c, f)
	if err := errors.Join(err, c.Close()); err != nil {
		s.say("426 the data connection broke")
		return
	}
	s.say("226 that was it")
}

func (s *ftpSession) renameFrom(arg string) {
	s.from = s.path(arg)
	_, err := s.root.Lstat(s.from)
	s.done("350 and to?", err)
}

func (s *ftpSession) renameTo(arg string) {
	err := os.ErrExist
	if _, missing := s.root.Lstat(s.path(arg)); missing != nil {
		err = s.root.Rename(s.from, s.path(arg))
	}
	s.done("250 done", err)
}

// sum computes a digest. The answer of HASH names the digest and the bytes that it is of (draft-bryan-ftpext-hash).
func (s *ftpSession) sum(digest, arg string, named bool) {
	known := false
	for _, d := range s.Digests {
		known = known || d == digest
	}
	if !known {
		s.say("504 no such digest")
		return
	}
	f, err := s.root.Open(s.path(arg))
	if err != nil {
		s.say("550 no such file")
		return
	}
	defer f.Close()
	h := ftpDigests[digest].kind.New()
	n, err := io.Copy(h, f)
	switch text := hex.EncodeToString(h.Sum(nil)); {
	case err != nil:
		s.say("550 not possible")
	case named:
		s.say("213 %s 0-%d %s %s", digest, n, text, arg)
	default:
		s.say("250 %s", strings.ToUpper(text))
	}
}
