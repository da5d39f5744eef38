package standin

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// Console is a simulated system that is reached by a program which gives a shell, as a container's exec does: Attach is that program.
type Console struct {
	Server   *Server
	Banner   string
	listener net.Listener
	life     context.Context
	end      context.CancelFunc
	mu       sync.Mutex
	waiting  map[string]chan net.Conn // for their second stream, by what we told the first
}

// Start starts it on a loopback port.
func (c *Console) Start() (err error) {
	c.waiting = map[string]chan net.Conn{}
	c.life, c.end = context.WithCancel(context.Background())
	if c.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	go func() {
		for {
			conn, err := c.listener.Accept()
			if err != nil {
				return
			}
			go c.serve(conn)
		}
	}()
	return nil
}

// Address is where it listens.
func (c *Console) Address() string { return c.listener.Addr().String() }

// Close ends it.
func (c *Console) Close() error {
	c.end()
	return c.listener.Close()
}

// serve gives a shell on a connection; a second one takes its standard error.
func (c *Console) serve(conn net.Conn) {
	stop := context.AfterFunc(c.life, func() { conn.Close() })
	defer stop()
	defer conn.Close()
	in := bufio.NewReader(conn)
	line, err := in.ReadString('\n')
	if err != nil {
		return
	}
	line = strings.TrimSpace(line)
	if line != "shell" {
		c.mu.Lock()
		to := c.waiting[line]
		c.mu.Unlock()
		if to != nil {
			to <- conn
			<-c.life.Done()
		}
		return
	}
	id, second := rand.Text(), make(chan net.Conn, 1)
	c.mu.Lock()
	c.waiting[id] = second
	c.mu.Unlock()
	fmt.Fprintln(conn, id)
	select {
	case errOut := <-second:
		defer errOut.Close()
		fmt.Fprint(conn, c.Banner)
		c.shell(in, conn, errOut)
	case <-time.After(10 * time.Second):
	case <-c.life.Done():
	}
}

// shell runs what comes in, command by command.
func (c *Console) shell(in io.Reader, out, errOut io.Writer) {
	r, err := interp.New(append(c.Server.handlers(true, func(s string) string { return s }),
		interp.Env(expand.ListEnviron("PATH=/usr/bin:/bin", "HOME=/root", "LANG=C.UTF-8", "USER=root")), interp.Dir("/"),
		interp.StdIO(strings.NewReader(""), out, errOut))...)
	if err != nil {
		return
	}
	for list, err := range syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).InteractiveSeq(in) {
		if err != nil {
			return
		}
		for _, s := range list {
			err := r.Run(c.life, s)
			var status interp.ExitStatus
			if err != nil && !errors.As(err, &status) || r.Exited() {
				return
			}
		}
	}
}

// Attach connects standard input and outputs with the shell of a console.
func Attach(ctx context.Context, address string, in io.Reader, out, errOut io.Writer) error {
	var d net.Dialer
	first, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return err
	}
	defer first.Close()
	second, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return err
	}
	defer second.Close()
	fmt.Fprintln(first, "shell")
	answers := bufio.NewReader(first)
	id, err := answers.ReadString('\n')
	if err != nil {
		return err
	}
	fmt.Fprint(second, id)
	stop := context.AfterFunc(ctx, func() { first.Close(); second.Close() })
	defer stop()
	go func() { _, _ = io.Copy(errOut, second) }()
	go func() {
		_, _ = io.Copy(first, in)
		if t, ok := first.(*net.TCPConn); ok {
			_ = t.CloseWrite()
		}
	}()
	_, err = io.Copy(out, answers)
	return err
}
