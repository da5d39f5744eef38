// Package inbox receives what devices push, on an address of the engineer's, for a limited time: SFTP and SCP, FTP, TFTP, and HTTP. All of
// them are small adapters on one store, which only takes: nothing is listed, and nothing is read back.
package inbox

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"net"
	"net/netip"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// What a caller may act on.
var (
	ErrRefused  = errors.New("refused")
	ErrTooLarge = errors.New("larger than allowed")
	ErrTooMany  = errors.New("more files than allowed")
)

// wrongLogins close an account for the rest of the time.
const wrongLogins = 3

// Limits of what is taken.
type Limits struct {
	Bytes int64 // of one file
	Files int   // of one account
}

// Account is one device that may push, with credentials for this time alone.
type Account struct {
	System, Item   string
	User, Password string
	Name           string // the one name that TFTP takes, which has no logins
	From           []netip.Addr

	wrong, files int
	closed       bool
}

// Arrival is a file that came as a whole.
type Arrival struct {
	System, Item string
	Name         string    // as it is kept
	Said         string    // as the device called it
	Renamed      bool      // its own name was no plain one, or was there already
	By, From     string    // protocol and address; "folder" and which
	Modified     time.Time // of a file from a drop folder, as the folder has it
	File         string    // where it is
	Bytes        int64
	SHA256       string
	At           time.Time
}

// How tells in words how it came.
func (a *Arrival) How() string {
	if a.By == byFolder {
		return "put into " + a.From
	}
	return "pushed by " + a.By + " from " + a.From
}

// Fits reports whether it is named as expected. By TFTP the name is the credential, and says nothing.
func (a *Arrival) Fits(named func(name string) bool) bool { return a.By == byTFTP || named(a.Name) }

const byTFTP = "TFTP"

// byFolder is what Arrival.By has of a drop folder.
const byFolder = "folder"

// Store takes what comes.
type Store struct {
	Dir      string
	Limits   Limits
	Accounts []*Account
	Arrived  func(Arrival)
	Remark   func(text string) // of what was refused; nil drops it
	SafeName func(string) string

	mu sync.Mutex
	n  int
}

// NewAccount gives a device credentials for this time alone.
func NewAccount(system, item string, from []netip.Addr) *Account {
	word := strings.ToLower(rand.Text())
	return &Account{System: system, Item: item, User: "in-" + word[:6], Password: rand.Text()[:16],
		Name: "in-" + strings.ToLower(rand.Text())[:12],
		From: from}
}

func (s *Store) remark(format string, args ...any) {
	if s.Remark != nil {
		s.Remark(fmt.Sprintf(format, args...))
	}
}

// addressOf gives the address of the other side, without a port.
func addressOf(a net.Addr) netip.Addr {
	p, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return netip.Addr{}
	}
	return p.Addr().Unmap()
}

func (a *Account) from(address netip.Addr) bool {
	if len(a.From) == 0 {
		return true
	}
	for _, x := range a.From {
		if x == address {
			return true
		}
	}
	return false
}

// Login gives the account of a device. Three wrong passwords close it; a wrong address is no password, and counts for nothing.
func (s *Store) Login(user, password string, from net.Addr) (*Account, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.Accounts {
		if subtle.ConstantTimeCompare([]byte(a.User), []byte(user)) != 1 {
			continue
		}
		switch {
		case !a.from(addressOf(from)):
			s.remark("%s: a login from %s, which is not its address, was refused", a.System, addressOf(from))
			return nil, ErrRefused
		case a.closed:
			return nil, ErrRefused
		case subtle.ConstantTimeCompare([]byte(a.Password), []byte(password)) != 1:
			if a.wrong++; a.wrong == wrongLogins {
				a.closed = true
				s.remark("%s: three wrong passwords: nothing more is taken for it", a.System)
			}
			return nil, ErrRefused
		}
		return a, nil
	}
	s.remark("a login with an unknown name from %s was refused", addressOf(from))
	return nil, ErrRefused
}

// byName gives the account whose one name TFTP takes.
func (s *Store) byName(name string, from net.Addr) (*Account, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.Accounts {
		if subtle.ConstantTimeCompare([]byte(a.Name), []byte(name)) == 1 && !a.closed && a.from(addressOf(from)) {
			return a, nil
		}
	}
	s.remark("a file by TFTP from %s with an unknown name was refused", addressOf(from))
	return nil, ErrRefused
}

// Incoming is a file that is coming. It takes bytes at any offset, since SFTP and TFTP send them so.
type Incoming struct {
	store   *Store
	account *Account
	arrival Arrival
	dir     string // of ours, around the file
	f       *os.File
	mu      sync.Mutex
	next    int64 // up to which bytes came in order
	sum     hash.Hash
	ordered bool
	err     error
	done    bool
}

// Begin takes a file from a connection.
func (s *Store) Begin(a *Account, name, by string, from net.Addr) (*Incoming, error) {
	return s.begin(a, name, by, addressOf(from).String())
}

func (s *Store) begin(a *Account, name, by, from string) (*Incoming, error) {
	s.mu.Lock()
	if a.files >= s.Limits.Files {
		s.mu.Unlock()
		s.remark("%s: more than %d files: refused", a.System, s.Limits.Files)
		return nil, ErrTooMany
	}
	a.files++
	s.n++
	n := s.n
	s.mu.Unlock()
	dir := filepath.Join(s.Dir, fmt.Sprintf("%04d", n))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	plain := s.SafeName(path.Base(path.Clean("/" + strings.ReplaceAll(name, `\`, "/"))))
	if plain == "" || plain == "." || plain == "/" {
		plain = "file"
	}
	f, err := os.OpenFile(filepath.Join(dir, plain), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	return &Incoming{store: s, account: a, dir: dir, f: f, sum: sha256.New(), ordered: true,
		arrival: Arrival{System: a.System, Item: a.Item, Name: plain,
			Said: strings.TrimPrefix(name, "/"), Renamed: plain != strings.TrimPrefix(name, "/"), By: by,
			From: from, File: f.Name()}}, nil
}

// WriteAt takes bytes.
func (in *Incoming) WriteAt(b []byte, at int64) (int, error) {
	in.mu.Lock()
	defer in.mu.Unlock()
	switch {
	case in.err != nil:
		return 0, in.err
	case at < 0 || at+int64(len(b)) > in.store.Limits.Bytes:
		in.err = ErrTooLarge
		in.store.remark("%s: %q is larger than allowed: refused", in.account.System, in.arrival.Name)
		return 0, in.err
	}
	n, err := in.f.WriteAt(b, at)
	if in.err = err; err != nil {
		return n, err
	}
	if at == in.next && in.ordered {
		in.sum.Write(b)
		in.next += int64(n)
	} else {
		in.ordered = false // its sum is made at the end
	}
	return n, nil
}

// Write takes bytes in their order.
func (in *Incoming) Write(b []byte) (int, error) { return in.WriteAt(b, in.next) }

// Abort drops what came, and says that it is not whole.
func (in *Incoming) Abort(why string) {
	if in.drop() {
		in.store.remark("%s: %q did not come as a whole (%s)", in.account.System, in.arrival.Name, why)
	}
}

// drop removes what came, and reports whether there was something.
func (in *Incoming) drop() bool {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.done {
		return false
	}
	in.done = true
	in.f.Close()
	_ = os.RemoveAll(in.dir) // #nosec G703 -- a folder that we made; what is left is swept
	in.store.mu.Lock()
	in.account.files--
	in.store.mu.Unlock()
	return true
}

// Commit says that all of it came.
func (in *Incoming) Commit() error {
	in.mu.Lock()
	if in.done {
		in.mu.Unlock()
		return in.err
	}
	in.done = true
	err := in.err
	if err == nil {
		err = in.settle()
	}
	if e := in.f.Close(); err == nil {
		err = e
	}
	in.mu.Unlock()
	if err != nil {
		_ = os.RemoveAll(in.dir) // #nosec G703 -- a folder that we made
		return err
	}
	in.store.Arrived(in.arrival)
	return nil
}

// settle makes the bytes lasting, and their sum where they did not come in order.
func (in *Incoming) settle() error {
	info, err := in.f.Stat()
	if err == nil {
		err = in.f.Sync()
	}
	if m := in.arrival.Modified; err == nil && !m.IsZero() {
		err = os.Chtimes(in.f.Name(), m, m)
	}
	if err != nil {
		return err
	}
	if !in.ordered || in.next != info.Size() {
		in.sum.Reset()
		if _, err := io.Copy(in.sum, io.NewSectionReader(in.f, 0, info.Size())); err != nil {
			return err
		}
	}
	in.arrival.Bytes, in.arrival.SHA256, in.arrival.At = info.Size(), hex.EncodeToString(in.sum.Sum(nil)),
		time.Now().UTC().Truncate(time.Second)
	return nil
}

// server is one protocol.
type server struct {
	Name  string
	Port  int // the usual one
	Start func(ctx context.Context, s *Store, address string) (at string, err error)
}

// servers is the table of protocols, in the order in which their words are told.
var servers = []server{
	{"sftp", 22, startSSH},
	{"ftp", 21, startFTP},
	{"tftp", 69, startTFTP},
	{"http", 80, startHTTP},
}

// Protocols lists them.
func Protocols() []string {
	var out []string
	for _, s := range servers {
		out = append(out, s.Name)
	}
	return out
}

// Start begins to receive by some protocols on an address of ours, until the context ends; port gives the one for a protocol, 0 for any.
// The
// answer has host and port by protocol.
func Start(ctx context.Context, s *Store, host string, protocols []string, port func(protocol string) int) (map[string]string, error) {
	out := map[string]string{}
	for _, p := range protocols {
		known := false
		for _, x := range servers {
			if x.Name != p {
				continue
			}
			known = true
			at, err := x.Start(ctx, s, net.JoinHostPort(host, fmt.Sprint(port(p))))
			if err != nil {
				return nil, fmt.Errorf("%s on %s: %w", p, host, err)
			}
			out[p] = at
		}
		if !known {
			return nil, fmt.Errorf("there is no protocol %q; known: %s", p, strings.Join(Protocols(), ", "))
		}
	}
	return out, nil
}

// idle is how long a connection may be silent.
const idle = 2 * time.Minute

// accept serves each connection of a listener until the context ends.
func accept(ctx context.Context, l net.Listener, serve func(ctx context.Context, conn net.Conn)) {
	context.AfterFunc(ctx, func() { l.Close() })
	go func() {
		room := make(chan struct{}, mostConnections)
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			select {
			case room <- struct{}{}:
			default: // a flood
				conn.Close()
				continue
			}
			go func() {
				stop := context.AfterFunc(ctx, func() { conn.Close() })
				defer func() { stop(); conn.Close(); <-room }()
				serve(ctx, lively{conn})
			}()
		}
	}()
}

// mostConnections bounds how many devices push at a time by one protocol.
const mostConnections = 64

// lively is a connection that ends when nothing moves on it.
type lively struct{ net.Conn }

func (l lively) Read(b []byte) (int, error) {
	_ = l.SetReadDeadline(time.Now().Add(idle)) // an error shows in what follows
	return l.Conn.Read(b)
}
