package redact

import (
	"bytes"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"envask/internal/redact/chars"
)

// addressKeys are those behind which an IPv4 address may stand as one number.
var addressKeys = chars.WordSet(`ip ipaddr ipaddress ipv ipvaddress ipnum ipnumber iplong srcip sourceip srcipaddr dstip destip destinationip dstipaddr clientip remoteip serverip
	peerip hostip localip natip gatewayip deviceip userip ipsrc ipdst ipfrom ipto startip endip framedipaddress nasipaddress inetaddr`)

// findNumberIPv4 finds an address that is written as one number next to a telling key: "ip": 3221225991, src_ip=0xc0000207.
func findNumberIPv4(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free || k.end-k.start > len("0xffffffff") {
		return 0, 0, false
	}
	a, ok := numberAddress(string(b[k.start:k.end]))
	if !ok || staysIPv4(a) || a.As4()[0] == 255 {
		return 0, 0, false
	}
	if start, end, _ := keySpan(b, at); end-start == 2 && b[k.start+1]|0x20 == 'x' {
		line := bytes.ToLower(b[chars.LineStart(b, start):min(len(b), k.end+chars.MaxKey)])
		for _, register := range []string{"sp", "pc", "lr", "fp", "bp"} {
			if bytes.Contains(line, []byte(register)) {
				return 0, 0, false // it is a register, too
			}
		}
	}
	return k.start, k.end, true
}

// numberAddress reads an address that is written as one number, of ten digits at most or hexadecimal with all its eight.
func numberAddress(text string) (a netip.Addr, ok bool) {
	digits, base := text, 10
	if hex, found := strings.CutPrefix(strings.ToLower(text), "0x"); found {
		if digits, base = hex, 16; len(digits) != 8 {
			return a, false
		}
	} else if len(text) < 8 || len(text) > 10 || text[0] < '1' {
		return a, false
	}
	n, err := strconv.ParseUint(digits, base, 32)
	return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}), err == nil && n >= 1<<24
}

// asNumber writes an address as the original is written.
func asNumber(address, original string) string {
	a := netip.MustParseAddr(address).As4()
	n := uint32(a[0])<<24 | uint32(a[1])<<16 | uint32(a[2])<<8 | uint32(a[3])
	switch {
	case !strings.HasPrefix(strings.ToLower(original), "0x"):
		return strconv.FormatUint(uint64(n), 10)
	case strings.ContainsAny(original[2:], "ABCDEF"):
		return original[:2] + fmt.Sprintf("%08X", n)
	}
	return original[:2] + fmt.Sprintf("%08x", n)
}
