package submit

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync/atomic"
	"time"
)

// DefaultStall is how long nothing may move on a connection of a route before it is given up.
const DefaultStall = 60 * time.Second

// errStalled is the failure of a server that is there and says nothing more. Another try may find it awake.
func errStalled(after time.Duration) error {
	return passing{fmt.Errorf("the server was silent for %s", after)}
}

func (m *Means) stall() time.Duration {
	if m.Stall > 0 {
		return m.Stall
	}
	return DefaultStall
}

// steadyConn is a connection that ends when nothing moves on it in either direction for a while, and when its context ends.
// Whoever knows that the other side has work to do can make it wait longer for a time.
type steadyConn struct {
	net.Conn
	patience atomic.Int64 // nanoseconds
	stop     func() bool
}

func steady(ctx context.Context, conn net.Conn, stall time.Duration) *steadyConn {
	s := &steadyConn{Conn: conn}
	s.patience.Store(int64(stall))
	s.stop = context.AfterFunc(ctx, func() { conn.Close() })
	return s
}

// wait sets how long nothing may move from now on.
func (s *steadyConn) wait(d time.Duration) {
	s.patience.Store(int64(d))
	s.moved()
}

// moved begins the time anew: for both directions, since who sends a large file waits long for the answer.
func (s *steadyConn) moved() {
	_ = s.Conn.SetDeadline(time.Now().Add(time.Duration(s.patience.Load())))
}

func (s *steadyConn) Read(b []byte) (int, error) {
	s.moved()
	n, err := s.Conn.Read(b)
	return n, s.told(err)
}

func (s *steadyConn) Write(b []byte) (int, error) {
	s.moved()
	n, err := s.Conn.Write(b)
	return n, s.told(err)
}

func (s *steadyConn) told(err error) error {
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return errStalled(time.Duration(s.patience.Load()))
	}
	return err
}

// Deadlines that a protocol's client sets would cut transfers that move.
func (s *steadyConn) SetDeadline(time.Time) error      { return nil }
func (s *steadyConn) SetReadDeadline(time.Time) error  { return nil }
func (s *steadyConn) SetWriteDeadline(time.Time) error { return nil }

func (s *steadyConn) Close() error {
	s.stop()
	return s.Conn.Close()
}
