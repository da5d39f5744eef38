package submit

import (
	"context"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"strings"
	"time"
)

// The commands for digests go over a control connection of their own, so that one that takes long disturbs nothing.

// Digest asks by HASH, or else by XSHA256, XMD5 and the like, whichever the server says it knows (FEAT, RFC 2389). A server
// that does not answer as it should is taken for one that computes none: then the file is read back.
func (r *ftpRoute) Digest(ctx context.Context, path string, size int64) (kind digestKind, sum string, err error) {
	if strings.ContainsAny(path, "\r\n") {
		return kind, "", errors.New("the path holds a line end")
	}
	c, err := r.control(ctx, digestWait(size))
	if c != nil {
		defer c.Close()
		stop := context.AfterFunc(ctx, func() { c.Close() })
		defer stop()
	}
	if err != nil {
		return kind, "", ctx.Err()
	}
	kind, command := best(c)
	if command == "" {
		return kind, "", nil
	}
	if strings.HasPrefix(command, "HASH") {
		if _, err := ask(c, 200, "OPTS HASH %s", kind.FTP); err != nil {
			return kind, "", ctx.Err()
		}
	}
	if _, err := ask(c, 200, "TYPE I"); err != nil {
		return kind, "", ctx.Err()
	}
	said, err := ask(c, 2, command+" %s", path)
	if err != nil {
		return kind, "", ctx.Err()
	}
	for _, word := range strings.Fields(said) {
		if raw, err := hex.DecodeString(word); err == nil && len(raw) == kind.Hash.Size() {
			return kind, word, nil
		}
	}
	return kind, "", nil
}

// control opens a control connection, which lasts so long at most, and logs in.
func (r *ftpRoute) control(ctx context.Context, most time.Duration) (*textproto.Conn, error) {
	d := net.Dialer{Timeout: 30 * time.Second}
	raw, err := d.DialContext(ctx, "tcp", r.host)
	if err != nil {
		return nil, err
	}
	if err := raw.SetDeadline(time.Now().Add(most)); err != nil {
		raw.Close()
		return nil, err
	}
	c := textproto.NewConn(raw)
	if _, _, err := c.ReadResponse(220); err != nil {
		return c, err
	}
	if r.secure != nil {
		if _, err := ask(c, 234, "AUTH TLS"); err != nil {
			return c, err
		}
		conf := r.secure.Clone()
		conf.ClientSessionCache = nil // data connections have to use the session of the other one
		c = textproto.NewConn(tls.Client(raw, conf))
	}
	said, err := ask(c, 0, "USER %s", r.user)
	if err == nil && strings.HasPrefix(said, "331") {
		_, err = ask(c, 2, "PASS %s", r.password)
	}
	return c, err
}

// ask sends a command and gives code and text of the answer; want is a code, or the first digits of one, or 0.
func ask(c *textproto.Conn, want int, format string, args ...any) (string, error) {
	if err := c.PrintfLine(format, args...); err != nil {
		return "", err
	}
	code, text, err := c.ReadResponse(want)
	if err != nil {
		return "", err
	}
	return textproto.TrimString(fmt.Sprintf("%d %s", code, text)), nil
}

// best chooses a command for digests among those that the server names.
func best(c *textproto.Conn) (digestKind, string) {
	features, err := ask(c, 211, "FEAT")
	if err != nil {
		return digestKind{}, ""
	}
	known := map[string]bool{}
	for _, line := range strings.Split(strings.ToUpper(features), "\n") {
		words := strings.FieldsFunc(line, func(r rune) bool { return r == ' ' || r == ';' || r == '*' || r == '\r' })
		if len(words) > 0 && words[0] == "HASH" {
			for _, w := range words[1:] {
				known["HASH "+w] = true
			}
		}
		for _, w := range words {
			known[w] = true
		}
	}
	for _, k := range digestKinds {
		switch {
		case known["HASH "+k.FTP]:
			return k, "HASH"
		case known[k.FTPOwn]:
			return k, k.FTPOwn
		}
	}
	return digestKind{}, ""
}
