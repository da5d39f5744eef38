package standin

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"envask/internal/late"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Command is what a simulated system answers to a command line.
type Command struct {
	Out, Err string
	Exit     int
	Delay    time.Duration
	Endless  bool // it prints Out again and again until it is stopped

	HangAfter bool // it prints Out and then does not end
}

// Server is a simulated system behind a real SSH server on a loopback port.
type Server struct {
	Name     string
	User     string
	Password string        // "" takes none
	Key      ssh.PublicKey // nil takes none
	Tree     *Tree
	Commands map[string]Command
	// Ahead is how far the system's clock is ahead of ours; NoClock takes away its date command.
	Ahead     time.Duration
	NoClock   bool
	Tools     map[string]Tool // programs beside the usual ones
	Without   []string        // usual programs that it lacks
	Banner    string          // what its shell prints when it starts
	Authority ssh.Signer      // when set, it shows a host certificate of this authority
	Windows   bool            // it says that it is Windows; its tree then has drives, as /C:/x
	NoSFTP    bool            // it offers no SFTP
	NoShell   bool            // it answers the command lines of Commands alone, as a device does
	NoSudo    bool            // its account may not use sudo
	Asks      Asking          // how it asks for the password; "" is the plain way
	Linger    time.Duration   // how long a session counts after it was closed
	Sessions  int             // at a time on one connection, as MaxSessions says; 0 is no limit
	Free      int64           // bytes free on its disk; 0 is plenty
	Device    *Device         // when set, a shell is this device's command line
	Refuses   bool            // with Device: no shell, exec requests alone
	Legacy    bool            // it speaks old algorithms alone
	// Exec, when set, answers what Commands does not know; ok says whether it did.
	Exec func(command string, out io.Writer) (exit int, ok bool)
	// Raw, when set, serves the SFTP subsystem, byte by byte: for what no server should do.
	Raw func(ch io.ReadWriter)
	// Files, when set, serves SFTP instead of Tree.
	Files *sftp.Handlers
	// CutAfter drops every connection after so many bytes were sent to the client; 0 never does.
	CutAfter int64
	// StallAfter goes silent, but keeps the connection, after so many bytes; 0 never does.
	StallAfter int64
	// Forward makes the server a jump host: it opens connections to loopback addresses for its clients.
	Forward bool

	listener   net.Listener
	held       []io.Closer     // what keeps the port of a server that is down from others
	life       context.Context // of what runs on when a connection ends
	end        context.CancelFunc
	host       ssh.Signer
	background atomic.Int64 // commands that go on when the connection ends
	ends       map[int64]context.CancelFunc
	mu         sync.Mutex
	conns      map[net.Conn]bool
	logins     int
	refused    int
}

// Start begins to listen on a free loopback port.
func (s *Server) Start() error {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	if s.host, err = ssh.NewSignerFromKey(private); err != nil {
		return err
	}
	if s.Authority != nil {
		cert := &ssh.Certificate{Key: s.host.PublicKey(), CertType: ssh.HostCert, ValidPrincipals: []string{"127.0.0.1"},
			ValidBefore: ssh.CertTimeInfinity}
		if err := cert.SignCert(rand.Reader, s.Authority); err != nil {
			return err
		}
		if s.host, err = ssh.NewCertSigner(cert, s.host); err != nil {
			return err
		}
	}
	if s.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	s.conns = map[net.Conn]bool{}
	s.life, s.end = context.WithCancel(context.Background())
	go s.accept()
	return nil
}

// Port is the port that the server listens on.
func (s *Server) Port() int { return s.listener.Addr().(*net.TCPAddr).Port }

// Address is "user@host:port", as in a systems file.
func (s *Server) Address() string { return fmt.Sprintf("%s@127.0.0.1:%d", s.User, s.Port()) }

// KnownHost is the server's line of a known_hosts file.
func (s *Server) KnownHost() string {
	return fmt.Sprintf("[127.0.0.1]:%d %s", s.Port(), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.host.PublicKey()))))
}

// Fingerprint is that of the host key.
func (s *Server) Fingerprint() string { return ssh.FingerprintSHA256(s.host.PublicKey()) }

// Logins says how many logins succeeded and how many passwords were refused.
func (s *Server) Logins() (good, refused int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.logins, s.refused
}

// Change changes the server while it runs.
func (s *Server) Change(change func(*Server)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change(s)
}

// Down stops the server; its port refuses connections until Close, as no other program can get it: a connection to a listener of our
// own begins at it.
func (s *Server) Down() error {
	port := s.listener.Addr().(*net.TCPAddr)
	if err := s.stop(); err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	s.held = append(s.held, l)
	d := net.Dialer{LocalAddr: port}
	for try := 0; ; try++ { // a program that was started just now has our sockets until it runs
		conn, err := d.Dial("tcp", l.Addr().String())
		if err == nil {
			s.held = append(s.held, conn)
			return nil
		}
		if try == 500 {
			return err
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// Close stops the server and drops its connections.
func (s *Server) Close() error {
	if s.held == nil {
		return s.stop()
	}
	var errs []error
	for _, h := range s.held {
		errs = append(errs, h.Close())
	}
	return errors.Join(errs...)
}

func (s *Server) stop() error {
	err := s.listener.Close()
	s.end()
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns {
		c.Close()
	}
	return err
}

func (s *Server) accept() {
	for {
		conn, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		s.conns[conn] = true
		faulty := &faultyConn{Conn: conn, cut: s.CutAfter, stall: s.StallAfter}
		s.mu.Unlock()
		go func() {
			s.serve(faulty)
			conn.Close()
			s.mu.Lock()
			delete(s.conns, conn)
			s.mu.Unlock()
		}()
	}
}

// faultyConn is a connection that breaks or goes silent after some bytes.
type faultyConn struct {
	net.Conn
	cut, stall, sent int64
}

func (c *faultyConn) Write(b []byte) (int, error) {
	c.sent += int64(len(b))
	if c.cut > 0 && c.sent > c.cut {
		c.Conn.Close()
		return 0, errors.New("cut off, as the test wants it")
	}
	if c.stall > 0 && c.sent > c.stall {
		return len(b), nil // swallowed: the client hears nothing more
	}
	return c.Conn.Write(b)
}

func (s *Server) config() *ssh.ServerConfig {
	c := &ssh.ServerConfig{ServerVersion: "SSH-2.0-Standin"}
	if s.Windows {
		c.ServerVersion += "_for_Windows"
	}
	if s.Password != "" {
		c.PasswordCallback = func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if m.User() == s.User && string(password) == s.Password {
				return nil, nil
			}
			s.mu.Lock()
			s.refused++
			s.mu.Unlock()
			return nil, errors.New("refused")
		}
	}
	s.asks(c)
	if s.Key != nil {
		c.PublicKeyCallback = func(m ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if m.User() == s.User && string(key.Marshal()) == string(s.Key.Marshal()) {
				return nil, nil
			}
			return nil, errors.New("refused")
		}
	}
	if old := ssh.InsecureAlgorithms(); s.Legacy {
		c.KeyExchanges, c.Ciphers, c.MACs = old.KeyExchanges, old.Ciphers, old.MACs
	}
	c.AddHostKey(s.host)
	return c
}

// Asking is a way in which a server asks for a password.
type Asking string

// Ways other than the plain one.
const (
	AsksQuestions Asking = "questions" // keyboard-interactive alone
	AsksBoth      Asking = "both"      // the plain way, and then keyboard-interactive
	AsksAgain     Asking = "again"     // keyboard-interactive, twice in one login
	AsksNothing   Asking = "nothing"   // it offers keyboard-interactive and refuses before its first question
)

func (s *Server) asks(c *ssh.ServerConfig) {
	if s.Asks == "" {
		return
	}
	c.MaxAuthTries = 20
	if s.Asks != AsksBoth {
		c.PasswordCallback = nil
	}
	c.KeyboardInteractiveCallback = func(m ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
		if s.Asks == AsksNothing {
			return nil, errors.New("refused")
		}
		for n := 0; ; n++ {
			answers, err := ask("", "", []string{"Password: "}, []bool{false})
			if err != nil {
				return nil, err
			}
			if m.User() == s.User && len(answers) == 1 && answers[0] == s.Password {
				return nil, nil
			}
			s.mu.Lock()
			s.refused++
			s.mu.Unlock()
			if s.Asks != AsksAgain || n == 2 {
				return nil, errors.New("refused")
			}
		}
	}
}

func (s *Server) serve(conn net.Conn) {
	sc, channels, requests, err := ssh.NewServerConn(conn, s.config())
	if err != nil {
		return
	}
	defer sc.Close()
	s.mu.Lock()
	s.logins++
	s.mu.Unlock()
	go ssh.DiscardRequests(requests)
	var open atomic.Int64
	for nc := range channels {
		if nc.ChannelType() == "direct-tcpip" && s.Forward {
			go forward(nc)
			continue
		}
		if nc.ChannelType() != "session" {
			_ = nc.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		if s.Sessions > 0 && open.Load() >= int64(s.Sessions) {
			_ = nc.Reject(ssh.ConnectionFailed, "open failed")
			continue
		}
		ch, reqs, err := nc.Accept()
		if err != nil {
			return
		}
		open.Add(1)
		go func() {
			s.session(ch, reqs)
			time.Sleep(s.Linger) // a server frees a session a moment after it was closed
			open.Add(-1)
		}()
	}
}

// forward connects a client of a jump host to where it wants to go, on loopback only (RFC 4254, section 7.2).
func forward(nc ssh.NewChannel) {
	var to struct {
		Host       string
		Port       uint32
		OriginHost string
		OriginPort uint32
	}
	if err := ssh.Unmarshal(nc.ExtraData(), &to); err != nil || to.Host != "127.0.0.1" {
		_ = nc.Reject(ssh.ConnectionFailed, "only to loopback")
		return
	}
	conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", to.Port))
	if err != nil {
		_ = nc.Reject(ssh.ConnectionFailed, "refused")
		return
	}
	ch, reqs, err := nc.Accept()
	if err != nil {
		conn.Close()
		return
	}
	go ssh.DiscardRequests(reqs)
	go func() {
		_, _ = io.Copy(conn, ch)
		conn.Close()
	}()
	_, _ = io.Copy(ch, conn)
	ch.Close()
}

// session serves one command or one SFTP subsystem.
func (s *Server) session(ch ssh.Channel, reqs <-chan *ssh.Request) {
	defer ch.Close()
	ctx, stop := context.WithCancel(s.life)
	var over atomic.Bool // a command that ended by itself; what it began in the background goes on
	defer func() {
		if !over.Load() {
			stop()
		}
	}()
	for r := range reqs {
		var p struct{ Text string }
		_ = ssh.Unmarshal(r.Payload, &p) // what is not understood is refused below
		switch {
		case r.Type == "subsystem" && p.Text == "sftp" && !s.NoSFTP:
			_ = r.Reply(true, nil)
			go func() {
				s.sftp(ch)
				ch.Close()
			}()
		case s.Device != nil && r.Type == "pty-req":
			_ = r.Reply(true, nil)
		case s.Device != nil && r.Type == "shell" && !s.Refuses:
			_ = r.Reply(true, nil)
			go s.Device.Serve(ctx, ch, false)
		case s.Device != nil && r.Type == "exec" && !s.Device.takes(p.Text):
			_ = r.Reply(false, nil)
		case r.Type == "exec":
			_ = r.Reply(true, nil)
			go func() {
				run := s.run
				if s.Device != nil {
					run = s.Device.exec
				}
				exit := run(ctx, p.Text, ch)
				over.Store(true)
				_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{uint32(exit)}))
				ch.Close()
			}()
		case r.Type == "signal":
			stop()
		case r.WantReply:
			_ = r.Reply(false, nil)
		}
	}
}

func (s *Server) sftp(ch ssh.Channel) {
	if s.Raw != nil {
		s.Raw(ch)
		return
	}
	h := s.Files
	if h == nil {
		own := s.Tree.handlers()
		h = &own
	}
	server := sftp.NewRequestServer(ch, *h)
	_ = server.Serve() // it ends when the client goes
	_ = server.Close()
}

func (s *Server) commands() map[string]Command {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.Commands)
}

func (s *Server) command(line string) (Command, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, ok := s.Commands[line]
	return c, ok
}

// clock gives how far the system's clock is ahead, and whether it has none.
func (s *Server) clock() (ahead time.Duration, none bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.Ahead, s.NoClock
}

// lookUpLine asks a POSIX shell whether there is a command.
var lookUpLine = late.Pattern(`^command -v sh >.*\{ command -v (\S+) >`)

// run answers a command line.
func (s *Server) run(ctx context.Context, line string, ch ssh.Channel) int {
	if s.Banner != "" {
		_, _ = io.WriteString(ch, s.Banner)
		_, _ = io.WriteString(ch.Stderr(), s.Banner)
	}
	if c, ok := s.command(line); ok {
		return s.answer(ctx, c, ch, ch.Stderr())
	}
	if word, looked := strings.CutPrefix(line, "command -v "); looked && !strings.ContainsAny(word, "&|;") {
		if s.knows(word) {
			return 0
		}
		return 1
	}
	if m := lookUpLine().FindStringSubmatch(line); m != nil && !s.NoShell {
		_, _ = io.WriteString(ch, map[bool]string{true: "there\n", false: "absent\n"}[s.knows(m[1])])
		return 0
	}
	if ahead, none := s.clock(); !none && strings.HasPrefix(line, "date -u +%s.%N") {
		now, synchronised := time.Now().Add(ahead), "yes"
		if ahead != 0 {
			synchronised = "no"
		}
		_, _ = fmt.Fprintf(ch, "%d.%09d\n%s\n", now.Unix(), now.Nanosecond(), synchronised)
		return 0
	}
	if s.Exec != nil {
		if exit, ok := s.Exec(line, ch); ok {
			return exit
		}
	}
	if s.NoShell || s.Tree == nil {
		name, _, _ := strings.Cut(line, " ")
		_, _ = io.WriteString(ch.Stderr(), "sh: "+name+": not found\n")
		return 127
	}
	return s.shell(ctx, line, "/", nil, ch, ch.Stderr())
}

// NewKey makes a login key: the private half as a file, and the public half.
func NewKey() (file []byte, public ssh.PublicKey, err error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "made for the stand-in")
	if err != nil {
		return nil, nil, err
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(block), signer.PublicKey(), nil
}

// Drop ends every connection; new ones are taken.
func (s *Server) Drop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns {
		c.Close()
	}
}

// begin gives a context for a command that goes on when the connection ends.
func (s *Server) begin() (context.Context, func()) {
	ctx, cancel := context.WithCancel(s.life)
	s.background.Add(1)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ends == nil {
		s.ends = map[int64]context.CancelFunc{}
	}
	key := int64(len(s.ends))
	s.ends[key] = cancel
	return ctx, func() { s.background.Add(-1); cancel() }
}

// endBackground ends all of them.
func (s *Server) endBackground() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, end := range s.ends {
		end()
	}
}
