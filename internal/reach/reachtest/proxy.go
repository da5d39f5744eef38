package reachtest

import (
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Fault is what a proxy does to a connection after some bytes towards the client.
type Fault string

// The faults.
const (
	Cut   Fault = "cut"   // the connection is closed
	Reset Fault = "reset" // it is reset (RST)
	Stall Fault = "stall" // nothing comes any more, and nothing is closed
	Slow  Fault = "slow"  // it comes at SlowRate from then on
)

// SlowRate is the rate of a slow connection, in bytes a second.
const SlowRate = 2 << 20

// Proxy is a TCP proxy that does something to its connections.
type Proxy struct {
	Port  int
	Taken atomic.Int64 // connections so far
	Moved atomic.Int64 // bytes towards clients

	to    int
	fault Fault
	after int64
	times atomic.Int64 // so many connections yet are faulty
}

// StartProxy puts a proxy in front of a loopback port. The first so many connections have the fault after so many bytes.
func StartProxy(t *testing.T, to int, fault Fault, after int64, times int) *Proxy {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &Proxy{Port: l.Addr().(*net.TCPAddr).Port, to: to, fault: fault, after: after}
	p.times.Store(int64(times))
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			p.Taken.Add(1)
			go p.serve(c.(*net.TCPConn))
		}
	}()
	return p
}

func (p *Proxy) serve(client *net.TCPConn) {
	server, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", p.to))
	if err != nil {
		client.Close()
		return
	}
	var once sync.Once
	end := func() { once.Do(func() { server.Close(); client.Close() }) }
	go func() {
		_, _ = io.Copy(server, client)
		end()
	}()
	faulty := p.times.Add(-1) >= 0
	buf := make([]byte, 32<<10)
	for n := int64(0); ; {
		k, err := server.Read(buf)
		if n += int64(k); faulty && n > p.after {
			switch p.fault {
			case Cut:
				end()
				return
			case Reset:
				_ = client.SetLinger(0)
				end()
				return
			case Stall:
				continue // read on, and pass nothing
			case Slow:
				time.Sleep(time.Duration(k) * time.Second / SlowRate)
			}
		}
		p.Moved.Add(int64(k))
		if _, e := client.Write(buf[:k]); err != nil || e != nil {
			end()
			return
		}
	}
}
