package console

import (
	"io"
	"net"
	"sync"
	"time"
)

// Telnet (RFC 854, with the options of RFC 857, 858, 1073 and 1091): what belongs to the protocol is taken out of the stream and
// answered. We let the other side echo and suppress go-aheads, and tell the kind and the size of our terminal; all else is declined.
const (
	telnetSE   = 240
	telnetNOP  = 241
	telnetSB   = 250
	telnetWill = 251
	telnetWont = 252
	telnetDo   = 253
	telnetDont = 254
	telnetIAC  = 255

	optionEcho    = 1
	optionGoAhead = 3
	optionKind    = 24
	optionSize    = 31
)

// Columns and Rows are the size of the terminal that a device is told of: wide, so that it breaks no lines.
const (
	Columns = 511
	Rows    = 250
	Kind    = "vt100"
)

// telnetAlive is how often a sign of life goes to the other side.
const telnetAlive = 30 * time.Second

// telnet is a connection with the protocol taken out.
type telnet struct {
	net.Conn
	mu    sync.Mutex // of writing
	state int        // of reading: 0 plain, or the bytes of a command so far
	verb  byte
	sub   []byte
	said  map[[2]byte]bool // what we answered: each once, so that no two sides answer each other for ever
	buf   [4096]byte
	cr    bool
	stop  func()
}

const (
	telnetPlain = iota
	telnetCommand
	telnetOption
	telnetSub
	telnetSubIAC
)

// maxSub bounds a sub-negotiation, in bytes.
const maxSub = 256

// Telnet takes the protocol out of a connection.
func Telnet(conn net.Conn) io.ReadWriteCloser {
	t := &telnet{Conn: conn, said: map[[2]byte]bool{}}
	tick := time.NewTicker(telnetAlive)
	gone := make(chan struct{})
	t.stop = sync.OnceFunc(func() { tick.Stop(); close(gone) })
	go func() {
		for {
			select {
			case <-gone:
				return
			case <-tick.C:
				if t.raw([]byte{telnetIAC, telnetNOP}) != nil {
					return
				}
			}
		}
	}()
	return t
}

func (t *telnet) Close() error {
	t.stop()
	return t.Conn.Close()
}

func (t *telnet) raw(b []byte) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	_, err := t.Conn.Write(b)
	return err
}

// Write sends bytes: a carriage return that no line feed follows goes with a NUL, and the mark of commands twice.
func (t *telnet) Write(b []byte) (int, error) {
	var out []byte
	for i, c := range b {
		out = append(out, c)
		switch {
		case c == telnetIAC:
			out = append(out, c)
		case c == '\r' && (i+1 == len(b) || b[i+1] != '\n'):
			out = append(out, 0)
		}
	}
	if err := t.raw(out); err != nil {
		return 0, err
	}
	return len(b), nil
}

func (t *telnet) Read(b []byte) (int, error) {
	for {
		n, err := t.Conn.Read(t.buf[:min(len(b), len(t.buf))])
		out := b[:0]
		for _, c := range t.buf[:n] {
			if t.take(c) {
				out = append(out, c)
			}
		}
		if len(out) > 0 || err != nil {
			return len(out), err
		}
	}
}

// take reads one byte and reports whether it is data.
func (t *telnet) take(c byte) (data bool) {
	switch t.state {
	case telnetPlain:
		if c == telnetIAC {
			t.state = telnetCommand
			return false
		}
		after := t.cr
		t.cr = c == '\r'
		return c != 0 || !after
	case telnetCommand:
		t.state = telnetPlain
		switch c {
		case telnetIAC:
			return true
		case telnetSB:
			t.state, t.sub = telnetSub, t.sub[:0]
		case telnetWill, telnetWont, telnetDo, telnetDont:
			t.state, t.verb = telnetOption, c
		}
	case telnetOption:
		t.state = telnetPlain
		t.answer(t.verb, c)
	case telnetSub:
		if c == telnetIAC {
			t.state = telnetSubIAC
		} else if len(t.sub) < maxSub {
			t.sub = append(t.sub, c)
		}
	case telnetSubIAC:
		t.state = telnetSub
		if c == telnetSE {
			t.state = telnetPlain
			if len(t.sub) >= 2 && t.sub[0] == optionKind && t.sub[1] == 1 {
				_ = t.raw(append(append([]byte{telnetIAC, telnetSB, optionKind, 0}, Kind...), telnetIAC, telnetSE))
			}
		}
	}
	return false
}

// answer answers an offer or a wish. An error of writing is seen by who writes next.
func (t *telnet) answer(verb, option byte) {
	reply := byte(0)
	switch verb {
	case telnetWill:
		reply = telnetDont
		if option == optionEcho || option == optionGoAhead {
			reply = telnetDo
		}
	case telnetDo:
		reply = telnetWont
		if option == optionKind || option == optionSize || option == optionGoAhead {
			reply = telnetWill
		}
	default:
		return
	}
	if k := [2]byte{reply, option}; t.said[k] {
		return
	} else {
		t.said[k] = true
	}
	_ = t.raw([]byte{telnetIAC, reply, option})
	if option == optionSize && reply == telnetWill {
		// 511 is 1 and 255, and 255 goes twice.
		_ = t.raw([]byte{telnetIAC, telnetSB, optionSize, Columns >> 8, Columns & 255, Columns & 255, 0, Rows, telnetIAC, telnetSE})
	}
}
