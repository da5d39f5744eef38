package standin

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"
	"golang.org/x/crypto/ssh"
)

// pushTo sends the dump, or the log to an address that ends with log. Nobody is told what became of it, as devices do.
func pushTo(u *url.URL) {
	password, _ := u.User.Password()
	name, text := path.Base(u.Path), dumpText()
	if name == "log" {
		text = deviceLog("pier-switch")
	}
	switch u.Scheme {
	case "ftp":
		c, err := ftp.Dial(u.Host)
		if err != nil {
			return
		}
		if err = c.Login(u.User.Username(), password); err == nil {
			_ = c.Stor(name, strings.NewReader(text))
		}
		_ = c.Quit()
	case "scp":
		_ = pushSCP(u.Host, u.User.Username(), password, name, text)
	case "tftp":
		_ = PushTFTP(u.Host, name, []byte(text), "", false)
	case "http":
		req, err := http.NewRequest(http.MethodPut, u.String(), strings.NewReader(text))
		if err != nil {
			return
		}
		if res, err := http.DefaultClient.Do(req); err == nil {
			res.Body.Close()
		}
	}
}

// pushSCP sends a file by the protocol of scp: a line with mode, size and name, the bytes, and a zero, each answered by a zero.
func pushSCP(at, user, password, name, text string) error {
	c, err := ssh.Dial("tcp", at, &ssh.ClientConfig{User: user, Auth: []ssh.AuthMethod{ssh.Password(password)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 5 * time.Second}) // as such devices do: they know nobody
	if err != nil {
		return err
	}
	defer c.Close()
	run, err := c.NewSession()
	if err != nil {
		return err
	}
	defer run.Close()
	in, err := run.StdinPipe()
	if err != nil {
		return err
	}
	out, err := run.StdoutPipe()
	if err != nil {
		return err
	}
	if err := run.Start("scp -t " + name); err != nil {
		return err
	}
	answer := make([]byte, 1)
	for _, part := range []string{"", fmt.Sprintf("C0600 %d %s\n", len(text), name), text + "\x00"} {
		if _, err := io.WriteString(in, part); err != nil {
			return err
		}
		if _, err := io.ReadFull(out, answer); err != nil || answer[0] != 0 {
			return fmt.Errorf("refused: %w", err)
		}
	}
	in.Close()
	return run.Wait()
}

// PushTFTP writes a file by TFTP: block numbers roll over, and lost answers go again. twice sends some blocks two times. options are
// as in the request (RFC 2347): names and values that end with NUL.
func PushTFTP(at, name string, data []byte, options string, twice bool) error {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer conn.Close()
	to, err := net.ResolveUDPAddr("udp", at)
	if err != nil {
		return err
	}
	packet := append([]byte{0, 2}, name+"\x00octet\x00"+options...)
	if _, err := conn.WriteTo(packet, to); err != nil {
		return err
	}
	block := 512
	if i := strings.Index(options, "blksize\x00"); i >= 0 {
		_, _ = fmt.Sscanf(options[i+8:], "%d", &block)
	}
	buf := make([]byte, 70_000)
	for n := uint16(0); ; n++ {
		_ = conn.SetReadDeadline(time.Now().Add(5 * time.Second))
		k, peer, err := conn.ReadFrom(buf)
		if err != nil {
			return err
		}
		op := binary.BigEndian.Uint16(buf)
		if op == 5 {
			return fmt.Errorf("refused: %s", buf[4:k-1])
		}
		if op == 4 && binary.BigEndian.Uint16(buf[2:]) != n {
			n-- // an answer to a block that went twice
			continue
		}
		piece := data[:min(block, len(data))]
		data = data[len(piece):]
		out := append(binary.BigEndian.AppendUint16([]byte{0, 3}, n+1), piece...)
		if _, err := conn.WriteTo(out, peer); err != nil {
			return err
		}
		if twice && n%5 == 0 {
			_, _ = conn.WriteTo(out, peer)
		}
		if len(piece) < block {
			_, _, err := conn.ReadFrom(buf)
			return err
		}
	}
}
