package alias

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// Addresses are written as their originals are, so that what reads the log still reads it, and each can be turned back into what stood
// there.

// WithoutZeros takes the zeros out of the beginnings of the parts of an address.
func WithoutZeros(address string) string {
	parts := strings.Split(address, ".")
	for i, p := range parts {
		if p = strings.TrimLeft(p, "0"); p == "" {
			p = "0"
		}
		parts[i] = p
	}
	return strings.Join(parts, ".")
}

// WrittenColons are the colons of an address within the address of a page.
var WrittenColons = strings.NewReplacer("%3A", ":", "%3a", ":")

// NumberAddress reads an address that is written as one number, of ten digits at most or hexadecimal with all its eight.
func NumberAddress(text string) (a netip.Addr, ok bool) {
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

// AsNumber writes an address as the original is written.
func AsNumber(address, original string) string {
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

// AsIPv4 writes an address as the original is written: as one number, with zeros before its parts, with other signs between them.
func AsIPv4(address, original string) string {
	if _, ok := NumberAddress(original); ok {
		return AsNumber(address, original)
	}
	if strings.IndexByte(original, '-') >= 0 {
		return strings.ReplaceAll(address, ".", "-")
	}
	if isPadded(original) {
		parts := strings.Split(address, ".")
		for i, p := range parts {
			parts[i] = strings.Repeat("0", 3-len(p)) + p
		}
		return strings.Join(parts, ".")
	}
	return address
}

// isPadded reports whether an address is written with three digits for each part.
func isPadded(address string) bool {
	return len(address) == 15 && (address[0] == '0' || address[4] == '0' || address[8] == '0' || address[12] == '0')
}

// AsIPv6 writes an address as the original is written: in capitals, with all its parts, with all their zeros, within the address of a page.
func AsIPv6(address, original string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	plain := WrittenColons.Replace(original)
	plain, _, _ = strings.Cut(plain, "%")
	switch {
	case strings.Contains(plain, "::") || strings.Count(plain, ":") != 7:
	case len(plain) == 39:
		address = a.StringExpanded()
	default:
		parts := strings.Split(a.StringExpanded(), ":")
		for i, p := range parts {
			if parts[i] = strings.TrimLeft(p, "0"); parts[i] == "" {
				parts[i] = "0"
			}
		}
		address = strings.Join(parts, ":")
	}
	if strings.ContainsAny(plain, "ABCDEF") {
		address = strings.ToUpper(address)
	}
	if n := strings.Index(original, "%3"); n >= 0 && n+3 <= len(original) {
		address = strings.ReplaceAll(address, ":", original[n:n+3])
	}
	return address
}

// macHead is the first half of every alias of a hardware address: locally administered, so that no maker has it (IEEE 802c).
const macHead = "02:ea:5c"

var macSigns = strings.NewReplacer(":", "", "-", "", ".", "")

// HexDigits gives the digits of a hardware address as they are written.
func HexDigits(address string) string { return macSigns.Replace(address) }

// plainMAC gives a hardware address in one notation.
func plainMAC(text string) string {
	if parts := strings.Split(text, ":"); len(parts) == 6 && len(text) < 17 {
		for i, p := range parts {
			parts[i] = strings.Repeat("0", max(0, 2-len(p))) + p
		}
		text = strings.Join(parts, ":")
	}
	digits := HexDigits(strings.ToLower(text))
	var parts []string
	for i := 0; i+2 <= len(digits); i += 2 {
		parts = append(parts, digits[i:i+2])
	}
	return strings.Join(parts, ":")
}

// AsMAC writes an alias in the notation of the original, so that what reads the log still reads it.
func AsMAC(alias, original string) string {
	switch digits := strings.ReplaceAll(alias, ":", ""); {
	case len(original) == 12:
		alias = digits
	case original[4] == '.' || len(original) == 14 && original[4] == '-':
		sign := original[4:5]
		alias = digits[:4] + sign + digits[4:8] + sign + digits[8:]
	case len(original) < 17: // its parts are without zeros
		parts := strings.Split(alias, ":")
		for i, p := range parts {
			if p[0] == '0' {
				parts[i] = p[1:]
			}
		}
		alias = strings.Join(parts, ":")
	default:
		alias = strings.ReplaceAll(alias, ":", original[2:3])
	}
	if strings.ContainsAny(original, "ABCDEF") {
		alias = strings.ToUpper(alias)
	}
	return alias
}
