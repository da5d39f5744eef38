package inbox

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"strconv"
	"strings"
	"time"
)

// FTP (RFC 959, with EPSV and EPRT of RFC 2428): a device logs in and stores files, over data connections that it opens, or that we open to
// the very address it comes from and to no other, so that nobody is reached through us.

func startFTP(ctx context.Context, s *Store, address string) (string, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	accept(ctx, l, func(ctx context.Context, conn net.Conn) {
		f := &ftpSession{store: s, conn: conn, text: textproto.NewConn(conn)}
		defer f.close()
		f.serve(ctx)
	})
	return l.Addr().String(), nil
}

type ftpSession struct {
	store   *Store
	conn    net.Conn
	text    *textproto.Conn
	user    string
	account *Account
	passive *net.TCPListener
	active  string
}

// dataWait bounds how long a data connection is waited for.
const dataWait = 30 * time.Second

// mostCommands bounds what one session may say.
const mostCommands = 100_000

func (f *ftpSession) close() {
	if f.passive != nil {
		f.passive.Close()
	}
}

func (f *ftpSession) say(code int, text string) error { return f.text.PrintfLine("%d %s", code, text) }

func (f *ftpSession) serve(ctx context.Context) {
	if f.say(220, "ready") != nil {
		return
	}
	for range mostCommands {
		line, err := f.text.ReadLine()
		if err != nil || ctx.Err() != nil {
			return
		}
		word, arg, _ := strings.Cut(line, " ")
		word = strings.ToUpper(strings.TrimSpace(word))
		if word == "QUIT" {
			_ = f.say(221, "bye")
			return
		}
		if f.command(word, arg) != nil {
			return
		}
	}
}

// always are the answers to commands that change nothing here.
var always = map[string]struct {
	code int
	text string
}{
	"SYST": {215, "UNIX Type: L8"}, "NOOP": {200, "fine"}, "TYPE": {200, "fine"}, "MODE": {200, "fine"},
	"STRU": {200, "fine"}, "ALLO": {202, "fine"},
	"OPTS": {200, "fine"}, "PWD": {257, `"/" is here`}, "XPWD": {257, `"/" is here`}, "CWD": {250, "fine"}, "CDUP": {250, "fine"},
	"MKD": {257, `"/" is here`}, "XMKD": {257, `"/" is here`}, "SITE": {200, "fine"}, "AUTH": {502, "not here"},
}

// command answers one command. An error ends the session.
func (f *ftpSession) command(word, arg string) error {
	switch word {
	case "USER":
		f.user, f.account = arg, nil
		return f.say(331, "password")
	case "PASS":
		a, err := f.store.Login(f.user, arg, f.conn.RemoteAddr())
		if err != nil {
			return f.say(530, "refused")
		}
		f.account = a
		return f.say(230, "in")
	case "FEAT":
		return f.text.PrintfLine("211-features\r\n EPSV\r\n EPRT\r\n UTF8\r\n211 end")
	}
	if f.account == nil {
		return f.say(530, "log in first")
	}
	if a, ok := always[word]; ok {
		return f.say(a.code, a.text)
	}
	switch word {
	case "PASV", "EPSV":
		return f.listen(word)
	case "PORT", "EPRT":
		return f.port(word, arg)
	case "STOR", "STOU":
		return f.keep(arg)
	case "REST":
		if arg == "0" {
			return f.say(350, "fine")
		}
	case "LIST", "NLST", "MLSD", "MLST", "RETR", "SIZE", "MDTM", "STAT":
		f.store.remark("%s: it tried to list or read (%s): refused", f.account.System, word)
		return f.say(550, "nothing is listed or read back")
	}
	return f.say(502, "not here")
}

// listen opens a port for a data connection.
func (f *ftpSession) listen(word string) error {
	f.close()
	local, err := netip.ParseAddrPort(f.conn.LocalAddr().String())
	if err != nil {
		return err
	}
	address := local.Addr().Unmap()
	if f.passive, err = net.ListenTCP("tcp", net.TCPAddrFromAddrPort(netip.AddrPortFrom(address, 0))); err != nil {
		return f.say(425, "no port")
	}
	f.active = ""
	port := f.passive.Addr().(*net.TCPAddr).Port
	if word == "EPSV" {
		return f.say(229, fmt.Sprintf("here (|||%d|)", port))
	}
	if !address.Is4() {
		return f.say(522, "use EPSV")
	}
	return f.say(227, fmt.Sprintf("here (%s,%d,%d)", strings.ReplaceAll(address.String(), ".", ","), port>>8, port&255))
}

// port takes the address for a data connection: the one that the device comes from, and no other.
func (f *ftpSession) port(word, arg string) error {
	host, port := "", 0
	if word == "EPRT" {
		parts := strings.Split(arg, "|")
		if len(parts) == 5 {
			host = parts[2]
			port, _ = strconv.Atoi(parts[3])
		}
	} else if parts := strings.Split(arg, ","); len(parts) == 6 {
		high, err1 := strconv.Atoi(strings.TrimSpace(parts[4]))
		low, err2 := strconv.Atoi(strings.TrimSpace(parts[5]))
		if err1 == nil && err2 == nil && high|low < 256 && high|low >= 0 {
			host, port = strings.Join(parts[:4], "."), high<<8|low
		}
	}
	address, err := netip.ParseAddr(host)
	if err != nil || port < 1024 || port > 65535 || address.Unmap() != addressOf(f.conn.RemoteAddr()) {
		f.store.remark("%s: a data connection to another host was refused", f.account.System)
		return f.say(504, "only to the address that the command comes from")
	}
	f.close()
	f.passive, f.active = nil, net.JoinHostPort(address.String(), strconv.Itoa(port))
	return f.say(200, "fine")
}

// data opens the data connection.
func (f *ftpSession) data() (net.Conn, error) {
	if f.active != "" {
		return net.DialTimeout("tcp", f.active, dataWait)
	}
	if f.passive == nil {
		return nil, fmt.Errorf("no PASV or PORT before")
	}
	defer func() { f.close(); f.passive = nil }()
	_ = f.passive.SetDeadline(time.Now().Add(dataWait)) // an error shows in what follows
	for range 10 {
		conn, err := f.passive.Accept()
		if err != nil || addressOf(conn.RemoteAddr()) == addressOf(f.conn.RemoteAddr()) {
			return conn, err
		}
		conn.Close() // somebody else
	}
	return nil, ErrRefused
}

func (f *ftpSession) keep(name string) error {
	in, err := f.store.Begin(f.account, name, "FTP", f.conn.RemoteAddr())
	if err != nil {
		return f.say(552, err.Error())
	}
	if err := f.say(150, "go on"); err != nil {
		in.Abort("the connection broke")
		return err
	}
	conn, err := f.data()
	if err != nil {
		in.Abort("no data connection")
		return f.say(425, "no data connection")
	}
	defer conn.Close()
	if _, err = io.Copy(in, lively{conn}); err != nil {
		in.Abort(err.Error())
		return f.say(426, "not whole")
	}
	if err := in.Commit(); err != nil {
		return f.say(552, err.Error())
	}
	return f.say(226, "taken")
}
