package inbox

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"path"
	"strings"
	"sync"
)

// Exchange hands what arrives to those who wait for it: the items whose commands make a device push.
type Exchange struct {
	Store *Store
	Host  string
	At    map[string]string // host and port, by protocol

	mu     sync.Mutex
	queues map[[2]string]chan Arrival
}

// mostWaiting bounds how many files of one item wait to be taken.
const mostWaiting = 10_000

// NewExchange makes one; the store's Arrived is its own.
func NewExchange(s *Store, host string) *Exchange {
	e := &Exchange{Store: s, Host: host, queues: map[[2]string]chan Arrival{}}
	s.Arrived = e.arrived
	return e
}

// Expect opens an account for an item of a system.
func (e *Exchange) Expect(system, item string, from []netip.Addr) *Account {
	a := NewAccount(system, item, from)
	e.Store.mu.Lock()
	e.Store.Accounts = append(e.Store.Accounts, a)
	e.Store.mu.Unlock()
	e.queue(system, item)
	return a
}

func (e *Exchange) queue(system, item string) chan Arrival {
	e.mu.Lock()
	defer e.mu.Unlock()
	k := [2]string{system, item}
	if e.queues[k] == nil {
		e.queues[k] = make(chan Arrival, mostWaiting)
	}
	return e.queues[k]
}

func (e *Exchange) arrived(a Arrival) {
	select {
	case e.queue(a.System, a.Item) <- a:
	default:
		e.Store.remark("%s: more files than can wait; %q is not taken", a.System, a.Name)
	}
}

// Next gives the next file that came for an item; it waits until the context ends.
func (e *Exchange) Next(ctx context.Context, system, item string) (Arrival, error) {
	select {
	case a := <-e.queue(system, item):
		return a, nil
	case <-ctx.Done():
		return Arrival{}, ctx.Err()
	}
}

// Fill gives what a placeholder of the inbox (without "inbox.") stands for; "" where that protocol is not served.
func (a *Account) Fill(name, host string, at map[string]string) string {
	switch name {
	case "host":
		return host
	case "user":
		return a.User
	case "password":
		return a.Password
	case "name":
		return a.Name
	}
	server := name
	if name == "scp" {
		server = "sftp" // one server takes both
	}
	h, port, err := net.SplitHostPort(at[server])
	if err != nil {
		return ""
	}
	to := net.JoinHostPort(h, port)
	if name == "tftp" {
		return "tftp://" + to + path.Join("/", a.Name)
	}
	return fmt.Sprintf("%s://%s:%s@%s/", name, a.User, a.Password, to)
}

// Needs lists the protocols that the placeholders of some texts need; all of them where none is named.
func Needs(texts []string) (out []string) {
	for _, p := range Protocols() {
		for _, t := range texts {
			if strings.Contains(t, "{inbox."+p+"}") || p == "sftp" && strings.Contains(t, "{inbox.scp}") {
				out = append(out, p)
				break
			}
		}
	}
	if len(out) == 0 {
		return Protocols()
	}
	return out
}
