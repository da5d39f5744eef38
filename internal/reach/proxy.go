package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"envask/internal/site"
)

// jumpChain is the key under which a context holds the names of the systems that are being reached through each other.
type jumpChain struct{}

// enter notes that a system is being reached on the way to another; a chain that goes round is an error.
func enter(ctx context.Context, name string) (context.Context, error) {
	chain, _ := ctx.Value(jumpChain{}).([]string)
	if slices.Contains(chain, name) {
		return nil, fmt.Errorf("the jump hosts go round: %s", strings.Join(append(chain, name), ", "))
	}
	return context.WithValue(ctx, jumpChain{}, append(slices.Clone(chain), name)), nil
}

// through gives the name of the last of several jump hosts, each of which is reached through the one before.
func (d *Dialer) through(specs []string) (string, error) {
	via := ""
	for _, spec := range specs {
		spec = strings.TrimPrefix(strings.TrimSpace(spec), "ssh://")
		user, host, port, ok := site.SplitAddress(spec)
		if !ok {
			return "", fmt.Errorf("the client configuration names %q as a jump host, which is no address", spec)
		}
		name := spec
		if via != "" {
			name = via + "," + spec
		}
		d.mu.Lock()
		if d.hops == nil {
			d.hops = map[string]*site.System{}
		}
		if d.hops[name] == nil {
			d.hops[name] = &site.System{Name: name, Ways: []string{"ssh"}, Via: via, Stall: site.DefaultStall,
				SSH: site.SSH{User: user, Host: host, Port: port, PortGiven: strings.HasSuffix(spec, fmt.Sprintf(":%d", port))}}
		}
		d.mu.Unlock()
		via = name
	}
	return via, nil
}

// hop gives a system that is gone through: one of the systems file, or one that the client configuration names.
func (d *Dialer) hop(name string) *site.System {
	if d.Site != nil {
		if s := d.Site.System(name); s != nil {
			return s
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.hops[name]
}

// runProxy runs a command whose input and output are the connection.
func runProxy(ctx context.Context, command string) (net.Conn, error) {
	cmd := shellCommand(context.WithoutCancel(ctx), command)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.WaitDelay = StopWait
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return &commandConn{cmd: cmd, in: in, out: out}, nil
}

// commandConn is a connection through a child process. Deadlines are not kept; closing it ends every read.
type commandConn struct {
	cmd *exec.Cmd
	in  io.WriteCloser
	out io.ReadCloser

	reap sync.Once
}

func (c *commandConn) Read(b []byte) (int, error)  { return c.out.Read(b) }
func (c *commandConn) Write(b []byte) (int, error) { return c.in.Write(b) }

func (c *commandConn) Close() error {
	err := errors.Join(c.in.Close(), c.out.Close())
	if c.cmd.Process != nil {
		_ = c.cmd.Process.Kill()
	}
	c.reap.Do(func() { go func() { _ = c.cmd.Wait() }() }) // it is closed from more than one side
	return err
}

func (c *commandConn) LocalAddr() net.Addr              { return commandAddr{} }
func (c *commandConn) RemoteAddr() net.Addr             { return commandAddr{} }
func (c *commandConn) SetDeadline(time.Time) error      { return nil }
func (c *commandConn) SetReadDeadline(time.Time) error  { return nil }
func (c *commandConn) SetWriteDeadline(time.Time) error { return nil }

type commandAddr struct{}

func (commandAddr) Network() string { return "command" }
func (commandAddr) String() string  { return "127.0.0.1:22" } // the host key check wants an address; the name decides
