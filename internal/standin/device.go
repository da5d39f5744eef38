package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"
)

// Device is a simulated device with a command line of its own: it echoes what is typed, shows long answers page by page, and has a
// privileged mode. It is served by SSH (Server.Device), by Telnet, or as a plain stream of bytes.
type Device struct {
	Name      string
	User      string // of a login over the stream
	Password  string
	Privilege string                   // password of the privileged mode; "" has none
	Accounts  map[string]string        // accounts that can be opened, with their passwords
	Answers   map[string]func() string // by command line, besides the usual ones
	Members   []Fellow                 // of its stack
	Ahead     time.Duration            // of its clock
	Epoch     bool                     // its clock was never set
	Flash     *Tree                    // its files
	Exec      bool                     // it takes exec requests of SSH
	SCP       bool                     // it serves the protocol of scp

	// Faults.
	RebootAfter int           // lines of the state dump after which the connection drops, once
	Silence     time.Duration // in the middle of a state dump
	NoPrompt    bool          // it says nothing at all
	Stubborn    bool          // its pager cannot be switched off
	Bell        bool          // its prompt ends with a bell
	Stuck       bool          // accounts do not close
	Lies        bool          // its files are listed one byte larger than they are
	Keeps       bool          // it says that it deleted a file, and keeps it

	mu     sync.Mutex
	opened map[string]bool // accounts
	typed  []string
	drops  int
	logins int
}

// Fellow is one member of a stack.
type Fellow struct{ Name, Address, State string }

// Change changes the device while it runs.
func (d *Device) Change(change func(*Device)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	change(d)
}

// Open reports whether an account is open.
func (d *Device) Open(account string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.opened[account]
}

// Typed gives the command lines that were typed so far.
func (d *Device) Typed() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string(nil), d.typed...)
}

// session is one conversation.
type deviceSession struct {
	d          *Device
	rw         io.ReadWriteCloser
	in         chan byte
	privileged bool
	engine     bool // the deeper shell
	paging     bool
	stop       context.CancelFunc // of the command that runs
	mu         sync.Mutex
}

const deviceRows = 24

var errDropped = errors.New("the device dropped the connection")

// Serve talks over a stream until it ends. login asks for a name and a password first.
func (d *Device) Serve(ctx context.Context, rw io.ReadWriteCloser, login bool) {
	s := &deviceSession{d: d, rw: rw, in: make(chan byte, 64<<10), paging: true}
	defer rw.Close()
	go s.read()
	if d.NoPrompt {
		<-ctx.Done()
		return
	}
	if login && !s.login(ctx) {
		return
	}
	d.Change(func(d *Device) { d.logins++ })
	s.print("\r\n" + d.Name + ", deck switch of the pier\r\n")
	for {
		s.print(s.prompt())
		line, ok := s.readLine(ctx, true)
		if !ok {
			return
		}
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		d.Change(func(d *Device) { d.typed = append(d.typed, line) })
		inner, stop := context.WithCancel(ctx)
		s.mu.Lock()
		s.stop = stop
		s.mu.Unlock()
		err := s.command(inner, line)
		stop()
		if err != nil {
			return
		}
	}
}

func (s *deviceSession) read() {
	buf := make([]byte, 4096)
	for {
		n, err := s.rw.Read(buf)
		for _, c := range buf[:n] {
			if c == 3 {
				s.mu.Lock()
				if s.stop != nil {
					s.stop()
				}
				s.mu.Unlock()
			}
			select {
			case s.in <- c:
			default: // nobody types so much ahead
			}
		}
		if err != nil {
			close(s.in)
			return
		}
	}
}

func (s *deviceSession) print(text string) { _, _ = io.WriteString(s.rw, text) }

func (s *deviceSession) prompt() string {
	bell := ""
	if s.d.Bell {
		bell = "\a"
	}
	switch {
	case s.engine:
		return "engine $ "
	case s.privileged:
		return s.d.Name + "# " + bell
	}
	return s.d.Name + "> " + bell
}

// readLine reads what is typed, with an echo or without.
func (s *deviceSession) readLine(ctx context.Context, echo bool) (string, bool) {
	var line []byte
	for {
		select {
		case <-ctx.Done():
			return "", false
		case c, ok := <-s.in:
			switch {
			case !ok:
				return "", false
			case c == '\r':
				s.print("\r\n")
				return string(line), true
			case c == '\n', c == 0:
			case c == 3:
				s.print("^C\r\n")
				return "", true
			case c == 8 || c == 0x7f:
				if len(line) > 0 {
					line = line[:len(line)-1]
					s.print("\b \b")
				}
			default:
				line = append(line, c)
				if echo {
					s.print(string(c))
				}
			}
		}
	}
}

// key waits for one key.
func (s *deviceSession) key(ctx context.Context) (byte, bool) {
	select {
	case c, ok := <-s.in:
		return c, ok
	case <-ctx.Done():
		return 3, true
	}
}

func (s *deviceSession) login(ctx context.Context) bool {
	for range 3 {
		s.print("\r\nUsername: ")
		user, ok := s.readLine(ctx, true)
		if !ok {
			return false
		}
		s.print("Password: ")
		password, ok := s.readLine(ctx, false)
		if !ok {
			return false
		}
		if user == s.d.User && password == s.d.Password {
			return true
		}
		s.print("% Login invalid\r\n")
	}
	return false
}

// page prints an answer page by page.
func (s *deviceSession) page(ctx context.Context, text string) error {
	rows := 0
	for line := range strings.Lines(text) {
		if ctx.Err() != nil {
			s.print("^C\r\n")
			return nil
		}
		if s.paging && rows == deviceRows-1 {
			s.print(" --More-- ")
			c, ok := s.key(ctx)
			if !ok {
				return errDropped
			}
			s.print("\r          \r")
			switch c {
			case 'q', 3:
				return nil
			case '\r':
				rows--
			default:
				rows = 0
			}
		}
		s.print(strings.TrimSuffix(line, "\n") + "\r\n")
		rows++
	}
	return nil
}

// StreamDevice serves a device on a loopback port, by Telnet or as a plain stream.
type StreamDevice struct {
	*Device
	Telnet   bool
	listener net.Listener
	life     context.Context
	end      context.CancelFunc
}

// Start begins to listen.
func (s *StreamDevice) Start() (err error) {
	s.life, s.end = context.WithCancel(context.Background())
	if s.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	go func() {
		for {
			conn, err := s.listener.Accept()
			if err != nil {
				return
			}
			go func() {
				stop := context.AfterFunc(s.life, func() { conn.Close() })
				defer stop()
				var rw io.ReadWriteCloser = conn
				if s.Telnet {
					rw = telnetServer(conn)
				}
				s.Serve(s.life, rw, s.User != "")
			}()
		}
	}()
	return nil
}

// Address is "host:port".
func (s *StreamDevice) Address() string { return s.listener.Addr().String() }

// Close stops it.
func (s *StreamDevice) Close() error {
	s.end()
	return s.listener.Close()
}

// telnetConn is the server's side of Telnet (RFC 854): it offers to echo, asks for the kind and size of the terminal, and takes what the
// client says of the protocol out of the stream.
type telnetConn struct {
	net.Conn
	state int
	cr    bool
}

func telnetServer(conn net.Conn) io.ReadWriteCloser {
	_, _ = conn.Write([]byte{255, 251, 1, 255, 251, 3, 255, 253, 24, 255, 253, 31})
	return &telnetConn{Conn: conn}
}

func (t *telnetConn) Read(b []byte) (int, error) {
	buf := make([]byte, len(b))
	for {
		n, err := t.Conn.Read(buf)
		out := b[:0]
		for _, c := range buf[:n] {
			switch {
			case t.state == 1: // a command
				t.state = map[byte]int{250: 3, 251: 2, 252: 2, 253: 2, 254: 2}[c]
			case t.state == 2:
				t.state = 0
			case t.state == 3 && c == 255:
				t.state = 4
			case t.state == 3:
			case t.state == 4:
				t.state = map[bool]int{true: 0, false: 3}[c == 240]
			case c == 255:
				t.state = 1
			case c == 0 && t.cr, c == '\n' && t.cr:
				t.cr = false
			default:
				t.cr = c == '\r'
				out = append(out, c)
			}
		}
		if len(out) > 0 || err != nil {
			return len(out), err
		}
	}
}

// Usual gives the answer to a command line that needs no dialogue; ok says whether there is one.
func (d *Device) usual(line string) (text string, ok bool) {
	d.mu.Lock()
	answer := d.Answers[line]
	d.mu.Unlock()
	if answer != nil {
		return answer(), true
	}
	switch line {
	case "show release":
		return "Deck switch " + d.Name + "\nRelease 4.2.7, built 2026-01-19\nModel DS-48\nUptime is 41 days, 3 hours, 12 minutes\n", true
	case "show clock":
		at := time.Now().UTC().Add(d.Ahead)
		if d.Epoch {
			at = time.Unix(3600, 0).UTC()
		}
		return at.Format("15:04:05.000 UTC Mon Jan 2 2006") + "\n", true
	case "show ports":
		return portTable(d.Name), true
	case "show log":
		return deviceLog(d.Name), true
	case "show stack":
		var b strings.Builder
		b.WriteString("Unit      Address         State\n")
		for _, m := range d.Members {
			fmt.Fprintf(&b, "%-9s %-15s %s\n", m.Name, m.Address, m.State)
		}
		return b.String(), true
	}
	for _, m := range d.Members {
		if line == "show unit "+m.Name {
			return fmt.Sprintf("Unit %s is %s\nTemperature 41 C\nFan 5200 turns a minute\nFaults since start 0\n", m.Name, m.State), true
		}
	}
	return "", false
}
