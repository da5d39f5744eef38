package form

import (
	"encoding/binary"
	"net/netip"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// Types of what an Ethernet frame carries (IEEE 802 numbers), and protocols within IP (IANA).
const (
	etherIPv4 = 0x0800
	etherARP  = 0x0806
	etherIPv6 = 0x86dd
	etherVLAN = 0x8100
	etherQinQ = 0x88a8

	protoICMP   = 1
	protoTCP    = 6
	protoUDP    = 17
	protoICMPv6 = 58
	protoSCTP   = 132
)

// packet gives what is kept of a packet: its headers, with aliases for the addresses. What is not understood is cut behind
// the last header that is. The bytes given are changed.
func (c *capture) packet(link int, b []byte) []byte {
	switch link {
	case linkEthernet:
		return c.ethernet(b)
	case linkRaw, linkRawBSD, linkIPv4, linkIPv6:
		return b[:c.ip(b)]
	case linkNull, linkLoop:
		if len(b) < 4 {
			return nil
		}
		return b[:4+c.ip(b[4:])]
	case linkSLL:
		if len(b) < 16 {
			return nil
		}
		c.linkAddress(b[6:14], int(binary.BigEndian.Uint16(b[4:])))
		return b[:16+c.carried(binary.BigEndian.Uint16(b[14:]), b[16:])]
	case linkSLL2:
		if len(b) < 20 {
			return nil
		}
		c.linkAddress(b[12:20], int(b[11]))
		return b[:20+c.carried(binary.BigEndian.Uint16(b), b[20:])]
	}
	return nil
}

func (c *capture) linkAddress(b []byte, n int) {
	if n == 6 {
		c.mac(b[:6])
		return
	}
	clear(b)
}

func (c *capture) ethernet(b []byte) []byte {
	if len(b) < 14 {
		return nil
	}
	c.mac(b[:6])
	c.mac(b[6:12])
	at, kind := 14, binary.BigEndian.Uint16(b[12:])
	for (kind == etherVLAN || kind == etherQinQ) && len(b) >= at+4 {
		kind = binary.BigEndian.Uint16(b[at+2:])
		at += 4
	}
	return b[:at+c.carried(kind, b[at:])]
}

// carried gives how much is kept of what a frame carries.
func (c *capture) carried(kind uint16, b []byte) int {
	switch kind {
	case etherIPv4, etherIPv6:
		return c.ip(b)
	case etherARP: // RFC 826, for IPv4 on Ethernet
		if len(b) < 28 || b[4] != 6 || b[5] != 4 {
			return min(8, len(b))
		}
		c.mac(b[8:14])
		c.address(b[14:18])
		c.mac(b[18:24])
		c.address(b[24:28])
		return 28
	}
	return 0
}

// ip gives how much is kept of an IP packet (RFC 791, RFC 8200).
func (c *capture) ip(b []byte) int {
	if len(b) < 1 {
		return 0
	}
	if b[0]>>4 == 6 {
		return c.ipv6(b)
	}
	if b[0]>>4 != 4 || len(b) < 20 {
		return 0
	}
	size := int(b[0]&0x0f) * 4
	if size < 20 || size > len(b) {
		return 0
	}
	c.address(b[12:16])
	c.address(b[16:20])
	for i := 20; i < size; i++ {
		b[i] = 1 // options may hold addresses; this one says nothing (RFC 791, no operation)
	}
	b[10], b[11] = 0, 0
	binary.BigEndian.PutUint16(b[10:], checksum(b[:size]))
	if binary.BigEndian.Uint16(b[6:])&0x1fff != 0 {
		return size // a later fragment has no transport header
	}
	return size + transportLen(b[9], b[size:])
}

func (c *capture) ipv6(b []byte) int {
	if len(b) < 40 {
		return 0
	}
	c.address(b[8:24])
	c.address(b[24:40])
	next, at := b[6], 40
	for {
		switch next {
		case 0, 43, 60: // extension headers, of which the length is kept
			if len(b) < at+8 {
				return at
			}
			size := 8 + int(b[at+1])*8
			if len(b) < at+size {
				return at
			}
			clear(b[at+2 : at+size])
			next, at = b[at], at+size
		case 44: // fragment
			if len(b) < at+8 {
				return at
			}
			if binary.BigEndian.Uint16(b[at+2:])&0xfff8 != 0 {
				return at + 8
			}
			next, at = b[at], at+8
		default:
			return at + transportLen(next, b[at:])
		}
	}
}

// transportLen gives the length of the transport header.
func transportLen(proto byte, b []byte) int {
	size := 0
	switch proto {
	case protoTCP:
		if len(b) < 20 {
			return len(b)
		}
		size = max(20, int(b[12]>>4)*4)
	case protoUDP, protoICMP, protoICMPv6:
		size = 8
	case protoSCTP:
		size = 12
	}
	return min(size, len(b))
}

// checksum of a header (RFC 1071).
func checksum(b []byte) uint16 {
	sum := uint32(0)
	for i := 0; i+1 < len(b); i += 2 {
		sum += uint32(binary.BigEndian.Uint16(b[i:]))
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return ^uint16(sum)
}

// address puts what stands for an address in its place.
func (c *capture) address(b []byte) {
	a, _ := netip.AddrFromSlice(b)
	class, rule := alias.IPv4, "ipv4"
	if a.Is6() {
		class, rule = alias.IPv6, "ipv6"
	}
	if class == alias.IPv4 && (find.StaysIPv4(a) || a.As4()[0] >= 240) || class == alias.IPv6 && (a.IsLoopback() ||
		a.IsUnspecified() || a.IsMulticast() || alias.AliasV6.Contains(a)) {
		return
	}
	instead, ok := c.known[a]
	if !ok {
		instead = a
		if text, replaced := c.o.worker.Identity(class, rule, a.String()); replaced {
			if t, err := netip.ParseAddr(text); err == nil && t.Is4() == a.Is4() {
				instead = t
			}
		}
		c.known[a] = instead
	}
	if instead != a {
		c.counts[rule]++
		copy(b, instead.AsSlice())
	}
}

// mac puts the instead of a hardware address in its place. Those of groups stay.
func (c *capture) mac(b []byte) {
	if b[0]&1 == 1 || string(b[:3]) == "\x02\xea\x5c" || string(b[:6]) == "\x00\x00\x00\x00\x00\x00" {
		return
	}
	was := [6]byte(b)
	instead, ok := c.macs[was]
	if !ok {
		instead = was
		if text, replaced := c.o.worker.Identity(alias.MAC, "mac", macText(was)); replaced {
			for i := range instead {
				instead[i] = chars.Unhex(text[3*i])<<4 | chars.Unhex(text[3*i+1])
			}
		}
		c.macs[was] = instead
	}
	if instead != was {
		c.counts["mac"]++
		copy(b, instead[:])
	}
}

func macText(m [6]byte) string {
	const digits = "0123456789abcdef"
	out := make([]byte, 0, 17)
	for i, c := range m {
		if i > 0 {
			out = append(out, ':')
		}
		out = append(out, digits[c>>4], digits[c&15])
	}
	return string(out)
}

// capture redacts the packets of one file.
type capture struct {
	o      *Opener
	in     Source
	counts Counts
	out    int // packets left out, since they are of another time
	known  map[netip.Addr]netip.Addr
	macs   map[[6]byte][6]byte
}
