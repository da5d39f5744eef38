package standin

import (
	"context"
	"fmt"
	"net/url"
	"path"
	"sort"
	"strings"
	"time"
)

// deviceCommand is one that needs more than an answer.
type deviceCommand struct {
	Begin      string // of the command line
	Privileged bool
	Do         func(s *deviceSession, ctx context.Context, rest string) error
}

var deviceCommands = []deviceCommand{
	{"privilege", false, (*deviceSession).privilege},
	{"terminal pages 0", false, func(s *deviceSession, _ context.Context, _ string) error {
		if s.d.Stubborn {
			s.print("% Unknown command\r\n")
			return nil
		}
		s.paging = false
		return nil
	}},
	{"account list", true, (*deviceSession).accounts},
	{"account open ", true, (*deviceSession).openAccount},
	{"account close ", true, (*deviceSession).closeAccount},
	{"show state", true, (*deviceSession).dump},
	{"dump write ", true, (*deviceSession).writeDump},
	{"dump send ", true, (*deviceSession).send},
	{"dir flash", true, (*deviceSession).dir},
	{"delete ", true, (*deviceSession).remove},
	{"engine", true, func(s *deviceSession, _ context.Context, _ string) error { s.engine = true; return nil }},
	{"exit", false, func(s *deviceSession, _ context.Context, _ string) error {
		if s.engine {
			s.engine = false
			return nil
		}
		return errDropped
	}},
}

// command answers a command line.
func (s *deviceSession) command(ctx context.Context, line string) error {
	if s.engine && line != "exit" {
		if line == "stat" {
			return s.page(ctx, "engine 0: 1841 frames, 3 dropped\nengine 1: 912 frames, 0 dropped\n")
		}
		s.print("engine: " + line + ": unknown command\r\n")
		return nil
	}
	for _, c := range deviceCommands {
		rest, ok := strings.CutPrefix(line, c.Begin)
		if !ok || rest != "" && !strings.HasSuffix(c.Begin, " ") {
			continue
		}
		if c.Privileged && !s.privileged {
			s.print("% Permission denied\r\n")
			return nil
		}
		return c.Do(s, ctx, rest)
	}
	text, ok := s.d.usual(line)
	if !ok {
		s.print("% Unknown command: " + line + "\r\n")
		return nil
	}
	return s.page(ctx, text)
}

func (s *deviceSession) privilege(ctx context.Context, _ string) error {
	if s.d.Privilege == "" {
		s.privileged = true
		return nil
	}
	for range 3 {
		s.print("Password: ")
		text, ok := s.readLine(context.WithoutCancel(ctx), false)
		switch {
		case !ok:
			return errDropped
		case text == s.d.Privilege:
			s.privileged = true
			return nil
		case ctx.Err() != nil:
			return nil
		}
	}
	s.print("% Bad passwords\r\n")
	return nil
}

func (s *deviceSession) accounts(ctx context.Context, _ string) error {
	var b strings.Builder
	b.WriteString("Account    State\n")
	for _, name := range sortedNames(s.d.Accounts) {
		fmt.Fprintf(&b, "%-10s %s\n", name, map[bool]string{true: "open", false: "closed"}[s.d.Open(name)])
	}
	return s.page(ctx, b.String())
}

func sortedNames(m map[string]string) []string {
	var names []string
	for n := range m {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

func (s *deviceSession) openAccount(ctx context.Context, name string) error {
	want, known := s.d.Accounts[name]
	if !known {
		s.print("% No such account\r\n")
		return nil
	}
	for _, ask := range []string{"New password: ", "Again: "} {
		s.print(ask)
		text, ok := s.readLine(context.WithoutCancel(ctx), false)
		if !ok {
			return errDropped
		}
		if text != want {
			s.print("% Password does not fit\r\n")
			return nil
		}
	}
	s.d.Change(func(d *Device) {
		if d.opened == nil {
			d.opened = map[string]bool{}
		}
		d.opened[name] = true
	})
	s.print("Account " + name + " is open\r\n")
	return nil
}

func (s *deviceSession) closeAccount(_ context.Context, name string) error {
	if s.d.Stuck {
		s.print("Account " + name + " is in use\r\n")
		return nil
	}
	s.d.Change(func(d *Device) { delete(d.opened, name) })
	s.print("Account " + name + " is closed\r\n")
	return nil
}

// StateLines is how many lines a state dump has.
const StateLines = 4000

// dump prints the whole state: thousands of lines, with a prompt in the middle of them, where the switch repeats what was typed at its
// other console.
func (s *deviceSession) dump(ctx context.Context, _ string) error {
	s.print("This takes a while. Continue? [y/n] ")
	c, ok := s.key(ctx)
	if !ok {
		return errDropped
	}
	s.print(string(c) + "\r\n")
	if c != 'y' {
		return nil
	}
	for i := 1; i <= StateLines; i++ {
		switch {
		case ctx.Err() != nil:
			s.print("^C\r\n")
			return nil
		case i == StateLines/2:
			s.print("-- console 2 --\r\n" + s.prompt())
			s.pause(ctx, 150*time.Millisecond)
			s.print("show release\r\n" + s.prompt() + "\r\n-- end of console 2 --\r\n")
			s.pause(ctx, s.d.Silence)
		case s.reboots(i):
			s.print("\r\n*** restarting ***\r\n")
			return errDropped
		case i%400 == 0:
			s.pause(ctx, 20*time.Millisecond)
		}
		s.print(fmt.Sprintf("%05d port %02d queue %d depth %4d drops %d peer 192.0.2.%d\r\n", i, i%48+1, i%8, i*7%1000, i%3, i%200+1))
	}
	return nil
}

// reboots reports whether the device restarts at this line: once.
func (s *deviceSession) reboots(line int) bool {
	s.d.mu.Lock()
	defer s.d.mu.Unlock()
	if s.d.RebootAfter == 0 || line < s.d.RebootAfter || s.d.drops > 0 {
		return false
	}
	s.d.drops++
	return true
}

func (s *deviceSession) pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func (s *deviceSession) writeDump(ctx context.Context, to string) error {
	s.print("Writing")
	for range 5 {
		s.pause(ctx, 20*time.Millisecond)
		s.print(".")
	}
	name := "/flash/" + path.Base(to)
	s.d.Change(func(d *Device) { d.Flash.File(name, []byte(dumpText()), FaultAt.Add(2*time.Hour)) })
	s.print(" done: " + name + "\r\n")
	return nil
}

// dumpText is what a dump holds.
func dumpText() string {
	var b strings.Builder
	for i := range 2000 {
		fmt.Fprintf(&b, "%06d 7f 45 00 %02x %02x table entry\n", i, i%256, i%97)
	}
	return b.String()
}

// send pushes a dump to where it is told, by FTP or HTTP, in the background as devices do.
func (s *deviceSession) send(_ context.Context, to string) error {
	u, err := url.Parse(to)
	if err != nil {
		s.print("% No such address\r\n")
		return nil
	}
	s.print("Sending in the background\r\n")
	go pushTo(u)
	return nil
}

func (s *deviceSession) dir(ctx context.Context, _ string) error {
	var b strings.Builder
	b.WriteString("Directory of flash\n      Size  Name\n")
	for _, name := range s.d.Flash.Names("/flash/") {
		if _, n, err := s.d.Flash.real(name); err == nil {
			fmt.Fprintf(&b, "%10d  %s\n", len(n.Data)+map[bool]int{true: 1}[s.d.Lies], name)
		}
	}
	return s.page(ctx, b.String())
}

func (s *deviceSession) remove(_ context.Context, name string) error {
	s.print("Delete " + name + "? [confirm] ")
	c, ok := <-s.in
	if !ok {
		return errDropped
	}
	if c == '\r' || c == 'y' {
		if !s.d.Keeps {
			s.d.Flash.Remove(name)
		}
		s.print("\r\nDeleted\r\n")
	}
	return nil
}

func portTable(name string) string {
	var b strings.Builder
	b.WriteString("Port  State  Speed   Errors  Peer\n")
	for i := 1; i <= 48; i++ {
		state, peer := "up", fmt.Sprintf("gate-%d", i%2+1)
		if i%7 == 0 {
			state, peer = "down", "-"
		}
		fmt.Fprintf(&b, "%4d  %-5s  %5d  %7d  %s\n", i, state, 1000, i*i%17, peer)
	}
	return b.String() + "48 ports of " + name + "\n"
}

func deviceLog(name string) string {
	var b strings.Builder
	for i := range 400 {
		at := FaultAt.Add(time.Duration(i-200) * time.Minute)
		text := "port 4: link is up"
		switch {
		case i == 200:
			text = "ERROR port 4: link lost, peer 192.0.2.11 does not answer"
		case i%9 == 0:
			text = "user admin logged in from 192.0.2.61"
		}
		fmt.Fprintf(&b, "%s %s %s\n", at.UTC().Format("2006-01-02T15:04:05Z"), name, text)
	}
	return b.String()
}
