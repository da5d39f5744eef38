package inbox

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"
)

// TFTP (RFC 1350, with the options of RFC 2347, 2348 and 2349): writing alone. It has no logins, so each device gets a name that only it
// knows, and its address is looked at where it is known. Block numbers roll over.

const (
	tftpRead  = 1
	tftpWrite = 2
	tftpData  = 3
	tftpAck   = 4
	tftpError = 5
	tftpOack  = 6

	tftpBlock    = 512
	tftpMaxBlock = 65464
	tftpRequest  = 2048 // bytes of a request
	tftpTries    = 6
)

// tftpWait is how long a block is waited for before the last answer goes again.
var tftpWait = 2 * time.Second

// mostTFTP bounds how many files come at a time.
const mostTFTP = 64

func startTFTP(ctx context.Context, s *Store, address string) (string, error) {
	conn, err := net.ListenPacket("udp", address)
	if err != nil {
		return "", err
	}
	context.AfterFunc(ctx, func() { conn.Close() })
	go func() {
		room := make(chan struct{}, mostTFTP)
		buf := make([]byte, tftpRequest)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			packet := bytes.Clone(buf[:n])
			select {
			case room <- struct{}{}:
				go func() { defer func() { <-room }(); s.overTFTP(ctx, conn, from, packet) }()
			default: // a flood
			}
		}
	}()
	return conn.LocalAddr().String(), nil
}

func tftpFail(conn net.PacketConn, to net.Addr, code uint16, text string) {
	b := binary.BigEndian.AppendUint16(nil, tftpError)
	b = binary.BigEndian.AppendUint16(b, code)
	_, _ = conn.WriteTo(append(append(b, text...), 0), to) // whoever does not hear it asks again
}

// tftpWish is what a request wants.
type tftpWish struct {
	name    string
	block   int
	wait    time.Duration
	size    int64 // -1 where it is not told
	options []byte
	ascii   bool
}

func readTFTP(packet []byte) (w tftpWish, err error) {
	fields := strings.Split(string(packet[2:]), "\x00")
	if len(fields) < 3 || fields[0] == "" || fields[len(fields)-1] != "" {
		return w, errors.New("not understood")
	}
	w = tftpWish{name: fields[0], block: tftpBlock, wait: tftpWait, size: -1}
	switch strings.ToLower(fields[1]) {
	case "octet":
	case "netascii":
		w.ascii = true
	default:
		return w, errors.New("only octet and netascii")
	}
	for i := 2; i+1 < len(fields); i += 2 {
		key, text := strings.ToLower(fields[i]), fields[i+1]
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 {
			continue
		}
		switch {
		case key == "blksize" && n >= 8:
			w.block = int(min(n, tftpMaxBlock))
			text = strconv.Itoa(w.block)
		case key == "timeout" && n >= 1 && n <= 255:
			w.wait = time.Duration(n) * time.Second
		case key == "tsize":
			w.size = n
		default:
			continue
		}
		w.options = append(append(append(append(w.options, key...), 0), text...), 0)
	}
	return w, nil
}

func (s *Store) overTFTP(ctx context.Context, main net.PacketConn, from net.Addr, packet []byte) {
	if len(packet) < 4 {
		return
	}
	switch binary.BigEndian.Uint16(packet) {
	case tftpRead:
		s.remark("a reading by TFTP from %s was refused", addressOf(from))
		tftpFail(main, from, 2, "nothing is read back")
		return
	case tftpWrite:
	default:
		return
	}
	w, err := readTFTP(packet)
	if err != nil {
		tftpFail(main, from, 4, err.Error())
		return
	}
	account, err := s.byName(strings.TrimPrefix(w.name, "/"), from)
	if err != nil {
		tftpFail(main, from, 2, "refused")
		return
	}
	if w.size > s.Limits.Bytes {
		s.remark("%s: a file by TFTP is larger than allowed: refused", account.System)
		tftpFail(main, from, 3, "larger than allowed")
		return
	}
	local, _, err := net.SplitHostPort(main.LocalAddr().String())
	if err != nil {
		return
	}
	conn, err := net.ListenPacket("udp", net.JoinHostPort(local, "0"))
	if err != nil {
		tftpFail(main, from, 0, "no port")
		return
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	in, err := s.Begin(account, account.System+".bin", byTFTP, from)
	if err != nil {
		tftpFail(conn, from, 3, err.Error())
		return
	}
	if err := receiveTFTP(conn, from, w, in); err != nil {
		tftpFail(conn, from, 3, err.Error())
		in.Abort(err.Error())
	}
}

// receiveTFTP takes the blocks, each acknowledged by its number.
func receiveTFTP(conn net.PacketConn, from net.Addr, w tftpWish, in *Incoming) error {
	answer := binary.BigEndian.AppendUint16(nil, tftpAck)
	answer = binary.BigEndian.AppendUint16(answer, 0)
	if len(w.options) > 0 {
		answer = append(binary.BigEndian.AppendUint16(nil, tftpOack), w.options...)
	}
	buf := make([]byte, w.block+4)
	var at int64
	text := &fromNetASCII{}
	for want := uint16(1); ; want++ {
		data, err := nextBlock(conn, from, answer, want, w.wait, buf)
		if err != nil {
			return err
		}
		out := data
		if w.ascii {
			out = text.plain(data)
		}
		if _, err := in.WriteAt(out, at); err != nil {
			return err
		}
		at += int64(len(out))
		answer = binary.BigEndian.AppendUint16(nil, tftpAck)
		answer = binary.BigEndian.AppendUint16(answer, want)
		if len(data) < w.block {
			if w.size >= 0 && !w.ascii && at != w.size {
				return fmt.Errorf("%d of %d bytes", at, w.size)
			}
			if err := in.Commit(); err != nil {
				return err
			}
			return lastAck(conn, from, answer, want, buf)
		}
	}
}

// nextBlock sends an answer until the wanted block comes.
func nextBlock(conn net.PacketConn, from net.Addr, answer []byte, want uint16, wait time.Duration, buf []byte) ([]byte, error) {
	for range tftpTries {
		if _, err := conn.WriteTo(answer, from); err != nil {
			return nil, err
		}
		end := time.Now().Add(wait)
		for {
			_ = conn.SetReadDeadline(end) // an error shows in what follows
			n, peer, err := conn.ReadFrom(buf)
			if err != nil {
				var slow net.Error
				if errors.As(err, &slow) && slow.Timeout() {
					break
				}
				return nil, err
			}
			if peer.String() != from.String() {
				tftpFail(conn, peer, 5, "unknown")
				continue
			}
			switch {
			case n >= 4 && binary.BigEndian.Uint16(buf) == tftpData && binary.BigEndian.Uint16(buf[2:]) == want:
				return buf[4:n], nil
			case n >= 2 && binary.BigEndian.Uint16(buf) == tftpError:
				return nil, errors.New("the device gave up")
			} // an older block: its answer was lost, and goes again when the time is over
		}
	}
	return nil, errors.New("the device went silent")
}

// lastAck answers the last block, once more if it comes again since the answer was lost.
func lastAck(conn net.PacketConn, from net.Addr, answer []byte, last uint16, buf []byte) error {
	for range 3 {
		if _, err := conn.WriteTo(answer, from); err != nil {
			return nil // all of it is here
		}
		_ = conn.SetReadDeadline(time.Now().Add(time.Second)) // an error shows in what follows
		n, peer, err := conn.ReadFrom(buf)
		if err != nil || n < 4 || peer.String() != from.String() || binary.BigEndian.Uint16(buf[2:]) != last {
			return nil
		}
	}
	return nil
}

// fromNetASCII turns CR LF into LF and CR NUL into CR (RFC 764), also over the border of two blocks.
type fromNetASCII struct{ cr bool }

func (f *fromNetASCII) plain(b []byte) []byte {
	out := make([]byte, 0, len(b)+1)
	for _, c := range b {
		if f.cr {
			f.cr = false
			switch c {
			case '\n':
				out = append(out, '\n')
				continue
			case 0:
				out = append(out, '\r')
				continue
			}
			out = append(out, '\r')
		}
		if c == '\r' {
			f.cr = true
			continue
		}
		out = append(out, c)
	}
	return out
}
