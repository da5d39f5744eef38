package form

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"
)

// Packet captures keep what tells how systems talked (times, sizes, addresses, ports, flags) and lose what they said: each
// packet is cut behind its transport header, its original length stays. Addresses get the aliases that they have in the logs.
// Forms: the libpcap file format and pcapng (IETF drafts draft-ietf-opsawg-pcap and draft-ietf-opsawg-pcapng).

// maxPacket bounds one packet or block, in bytes.
const maxPacket = 1 << 20

// errCapture means that a capture cannot be followed any further.
var errCapture = errors.New("broken")

// Link types (draft-ietf-opsawg-pcaplinktype).
const (
	linkNull     = 0
	linkEthernet = 1
	linkRaw      = 101
	linkRawBSD   = 12
	linkLoop     = 108
	linkSLL      = 113
	linkIPv4     = 228
	linkIPv6     = 229
	linkSLL2     = 276
)

func newCapture(o *Opener, in Source) *capture {
	return &capture{o: o, in: in, counts: Counts{}, known: map[netip.Addr]netip.Addr{}, macs: map[[6]byte][6]byte{}}
}

func (c *capture) result(err error) (Result, error) {
	res := Result{Counts: c.counts}
	if c.out > 0 {
		res.Note = fmt.Sprintf("%d packets of other times were left out", c.out)
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, errCapture) {
		res.Note, err = "the capture is broken at its end; what is whole was kept", nil
	}
	if err == io.EOF {
		err = nil
	}
	return res, err
}

// applyPcap redacts a capture in the libpcap format.
func applyPcap(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	if w == nil {
		w = io.Discard
	}
	c := newCapture(o, in)
	var head [24]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return c.result(err)
	}
	order, nano := pcapOrder(head[:4])
	link := order.Uint32(head[20:]) & 0x0fffffff
	if _, err := w.Write(head[:]); err != nil {
		return c.result(err)
	}
	buf := make([]byte, maxPacket)
	for {
		var rec [16]byte
		if _, err := io.ReadFull(r, rec[:]); err != nil {
			return c.result(err)
		}
		n := order.Uint32(rec[8:])
		if n > maxPacket {
			return c.result(errCapture)
		}
		if _, err := io.ReadFull(r, buf[:n]); err != nil {
			return c.result(io.ErrUnexpectedEOF)
		}
		frac := int64(order.Uint32(rec[4:]))
		if !nano {
			frac *= 1000
		}
		if !c.wanted(time.Unix(int64(order.Uint32(rec[:])), frac)) {
			continue
		}
		packet := c.packet(int(link), buf[:n])
		order.PutUint32(rec[8:], uint32(len(packet)))
		if _, err := w.Write(rec[:]); err != nil {
			return c.result(err)
		}
		if _, err := w.Write(packet); err != nil {
			return c.result(err)
		}
	}
}

func pcapOrder(magic []byte) (order binary.ByteOrder, nano bool) {
	switch string(magic) {
	case "\xd4\xc3\xb2\xa1":
		return binary.LittleEndian, false
	case "\x4d\x3c\xb2\xa1":
		return binary.LittleEndian, true
	case "\xa1\xb2\x3c\x4d":
		return binary.BigEndian, true
	}
	return binary.BigEndian, false
}

func (c *capture) wanted(t time.Time) bool {
	if c.in.Within == nil || c.in.Within(t) {
		return true
	}
	c.out++
	return false
}

// Block types and options of pcapng.
const (
	blockSection    = 0x0a0d0d0a
	blockInterface  = 1
	blockSimple     = 3
	blockStatistics = 5
	blockEnhanced   = 6
	optionTsResol   = 9
	optionTsOffset  = 14
)

// ngInterface is what a block about an interface says.
type ngInterface struct {
	link  int
	units float64 // timestamp units a second
	base  int64   // seconds to be added
}

// applyPcapng redacts a capture in the pcapng format. Names that were resolved, keys, comments and the descriptions of
// machines and interfaces are left out.
func applyPcapng(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	if w == nil {
		w = io.Discard
	}
	c := newCapture(o, in)
	var order binary.ByteOrder = binary.LittleEndian
	var interfaces []ngInterface
	buf := make([]byte, maxPacket)
	for {
		var head [8]byte
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return c.result(err)
		}
		section := binary.BigEndian.Uint32(head[:]) == blockSection
		if section {
			if _, err := io.ReadFull(r, buf[:4]); err != nil {
				return c.result(io.ErrUnexpectedEOF)
			}
			order = binary.LittleEndian
			if string(buf[:4]) == "\x1a\x2b\x3c\x4d" {
				order = binary.BigEndian
			}
			interfaces = interfaces[:0]
		}
		size := int(order.Uint32(head[4:]))
		body := size - 12
		if section {
			body -= 4
		}
		if size%4 != 0 || body < 0 || body > maxPacket {
			return c.result(errCapture)
		}
		if _, err := io.ReadFull(r, buf[:body]); err != nil {
			return c.result(io.ErrUnexpectedEOF)
		}
		var tail [4]byte
		if _, err := io.ReadFull(r, tail[:]); err != nil {
			return c.result(io.ErrUnexpectedEOF)
		}
		kind := order.Uint32(head[:])
		if section {
			kind = blockSection
		}
		block, err := c.block(order, kind, buf[:body], &interfaces)
		if err != nil {
			return c.result(err)
		}
		if block == nil {
			continue
		}
		if kind == blockSimple { // it cannot say that it was cut
			kind = blockEnhanced
		}
		if err := writeBlock(w, order, kind, block); err != nil {
			return c.result(err)
		}
	}
}

// block gives what is written instead of a block, or nil for nothing.
func (c *capture) block(order binary.ByteOrder, kind uint32, body []byte, interfaces *[]ngInterface) ([]byte, error) {
	switch kind {
	case blockSection: // versions; the length of the section is not known any more
		if len(body) < 12 {
			return nil, errCapture
		}
		out := make([]byte, 16)
		order.PutUint32(out, 0x1a2b3c4d)
		copy(out[4:8], body[:4])
		order.PutUint64(out[8:], ^uint64(0))
		return out, nil
	case blockInterface:
		if len(body) < 8 {
			return nil, errCapture
		}
		i, options := ngOptions(order, body)
		*interfaces = append(*interfaces, i)
		return append(append([]byte{}, body[:8]...), options...), nil
	case blockEnhanced:
		if len(body) < 20 {
			return nil, errCapture
		}
		id, n := order.Uint32(body), order.Uint32(body[12:])
		if int(id) >= len(*interfaces) || int(n) > len(body)-20 {
			return nil, errCapture
		}
		i := (*interfaces)[id]
		ticks := uint64(order.Uint32(body[4:]))<<32 | uint64(order.Uint32(body[8:]))
		whole := ticks / uint64(i.units)
		nanos := float64(ticks%uint64(i.units)) / i.units * 1e9
		if !c.wanted(time.Unix(i.base+int64(whole), int64(nanos))) {
			return nil, nil
		}
		packet := c.packet(i.link, body[20:20+n])
		out := append(append([]byte{}, body[:20]...), packet...)
		order.PutUint32(out[12:], uint32(len(packet)))
		return out, nil
	case blockSimple:
		if len(body) < 4 || len(*interfaces) == 0 {
			return nil, errCapture
		}
		i := (*interfaces)[0]
		n := min(int(order.Uint32(body)), len(body)-4)
		packet := c.packet(i.link, body[4:4+n])
		out := make([]byte, 20, 20+len(packet)) // of the first interface, without a time
		order.PutUint32(out[12:], uint32(len(packet)))
		copy(out[16:], body[:4])
		return append(out, packet...), nil
	case blockStatistics:
		if len(body) < 12 {
			return nil, errCapture
		}
		return body[:12], nil
	}
	return nil, nil
}

// ngOptions reads what the options of an interface say of time, and gives these options alone.
func ngOptions(order binary.ByteOrder, body []byte) (ngInterface, []byte) {
	i := ngInterface{link: int(order.Uint16(body)), units: 1e6}
	var keep []byte
	for at := 8; at+4 <= len(body); {
		code, n := order.Uint16(body[at:]), int(order.Uint16(body[at+2:]))
		end := at + 4 + n
		if code == 0 || end > len(body) {
			break
		}
		value := body[at+4 : end]
		switch {
		case code == optionTsResol && n == 1:
			base, most := 10.0, 18 // a nanosecond is 9; what is finer than an attosecond no clock tells
			if value[0]&0x80 != 0 {
				base, most = 2, 60
			}
			units := 1.0
			for range min(int(value[0]&0x7f), most) {
				units *= base
			}
			i.units = units
		case code == optionTsOffset && n == 8:
			i.base = int64(order.Uint64(value))
		default:
			at = end + (4-n%4)%4
			continue
		}
		next := min(len(body), end+(4-n%4)%4)
		keep = append(keep, body[at:next]...)
		at = next
	}
	if keep != nil {
		keep = append(keep, 0, 0, 0, 0)
	}
	return i, keep
}

func writeBlock(w io.Writer, order binary.ByteOrder, kind uint32, body []byte) error {
	pad := (4 - len(body)%4) % 4
	out := make([]byte, 8, 12+len(body)+pad)
	if kind == blockSection {
		binary.BigEndian.PutUint32(out, kind)
	} else {
		order.PutUint32(out, kind)
	}
	size := uint32(12 + len(body) + pad)
	order.PutUint32(out[4:], size)
	out = append(out, body...)
	out = append(out, make([]byte, pad)...)
	var tail [4]byte
	order.PutUint32(tail[:], size)
	_, err := w.Write(append(out, tail[:]...))
	return err
}
