package find

import (
	"bytes"
	"net/netip"
	"strings"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

func isLocalPart(c byte) bool {
	return chars.IsWord(c) || c == '.' || c == '-' || c == '+' || c == '%' || c == '\'' || c >= 0x80
}

// domainBehind gives the end of the domain behind an @ and the place of its last dot; one that is longer than a domain can be (RFC 5321)
// has none.
func domainBehind(b []byte, at int) (dot, end int) {
	dot, end = -1, at+1
	for end < len(b) && isDomainByte(b[end]) {
		if end-at > 254 {
			return -1, end
		}
		if b[end] == '.' {
			dot = end
		}
		end++
	}
	for end > at+1 && (b[end-1] == '.' || b[end-1] == '-') {
		end--
	}
	if dot >= end-1 {
		if dot = bytes.LastIndexByte(b[at:end], '.'); dot > 0 {
			dot += at
		}
	}
	return dot, end
}

// isPrincipal reports whether what stands before and behind an @ is the principal of a realm or a host (RFC 4120): krbtgt/REALM@REALM,
// host/gate1.pier.example@PIER.EXAMPLE.
func isPrincipal(b []byte, start, at, sign, end int) bool {
	local := b[start:max(start, at+1-sign)]
	return bytes.Equal(local, b[at+1:max(end, at+1)]) ||
		bytes.IndexByte(local, '.') > 0 && servicesOfHosts.HasBytes(bytes.ToLower(b[chars.NameBefore(b, start-1):start-1]))
}

// servicesOfHosts begin the principals of hosts (RFC 4120).
var servicesOfHosts = chars.WordSet("host http nfs cifs ldap imap smtp ftp postgres mssqlsvc")

// Mail finds an address around its @ (the common part of RFC 5321).
func Mail(b []byte, at, free int) (int, int, bool) {
	sign := 1
	if b[at] != '@' {
		if sign = escapedSign(b, at); sign == 0 {
			return 0, 0, false
		}
	}
	start := at
	for start > free && isLocalPart(b[start-1]) {
		if start--; at-start > 254 {
			return 0, 0, false // longer than an address can be
		}
	}
	start = behindEscape(b, start, at)
	if start > 0 && start == free && chars.IsWord(b[start-1]) {
		start++ // it touches another address; what is between them keeps them apart
	}
	for start < at && (b[start] == '.' || b[start] == '\'' || b[start] == '-' || b[start] == '%') {
		start++
	}
	at += sign - 1
	dot, end := domainBehind(b, at)
	if start > 0 && b[start-1] == '/' && isPrincipal(b, start, at, sign, end) {
		return 0, 0, false
	}
	if n := bytes.IndexByte(b[dot+1:max(dot+1, end)], '-'); n > 1 { // x@pier.example-The password is wrong
		end = dot + 1 + n
	}
	if start > at-sign || dot <= at+1 || end-dot < 3 || !isTopDomain(b[dot+1:end]) || isUnit(b[dot+1:end]) &&
		bytes.IndexByte(b[at:dot], '.') < 0 {
		return 0, 0, false
	}
	return start, end, true
}

// isUnit says whether an ending is one of systemd's units, whose instances stand behind the same sign: getty@tty1.service.
func isUnit(ending []byte) bool {
	switch string(ending) {
	case "service", "socket", "timer", "target", "mount", "automount", "slice", "scope", "device", "swap":
		return true
	}
	return false
}

// escapedSigns are written for an @ where a text stands within another.
var escapedSigns = [][]byte{[]byte("%40"), []byte("\\u0040"), []byte("&#64;"), []byte("&#x40;"), []byte("&commat;")}

// escapedSign gives the length of the written @ at a place, or 0.
func escapedSign(b []byte, at int) int {
	if at+2 >= len(b) || b[at+1] != '4' && b[at+1] != 'u' && b[at+1] != '#' && b[at+1] != 'c' {
		return 0
	}
	for _, s := range escapedSigns {
		if bytes.HasPrefix(b[at:], s) {
			return len(s)
		}
	}
	return 0
}

// behindEscape skips what belongs to an escape of JSON before an address: the n of \n, the u003c of \u003c.
func behindEscape(b []byte, start, at int) int {
	if start == 0 || b[start-1] != '\\' || start >= at {
		return start
	}
	if b[start] == 'u' && start+5 <= at {
		return start + 5
	}
	if bytes.IndexByte([]byte("nrtbf"), b[start]) >= 0 {
		return start + 1
	}
	return start
}

func isDomainByte(c byte) bool {
	return chars.IsWord(c) && c != '_' || c == '-' || c == '.' || c >= 0x80
}

// isTopDomain says whether a label can be the last one of a domain: letters, also those beyond ASCII.
func isTopDomain(b []byte) bool {
	for _, c := range b {
		if (c|0x20 < 'a' || c|0x20 > 'z') && c < 0x80 {
			return false
		}
	}
	return true
}

// versionWords say that four numbers with dots are a version.
var versionWords = chars.NewWordList(chars.WordSet("version ver v release rel build firmware rev revision schema kernel bios " +
	"uefi bootloader patch patchlevel hotfix sdk runtime framework driver baseline"))

// goesOnBefore says whether what looks like an address belongs to what stands before it.
func goesOnBefore(b []byte, start, at int) bool {
	switch p := b[start-1]; {
	case p == '_':
		return !namesAFile(b[at:])
	case p == '.': // behind more dots the end of a range begins
		return start < 2 || b[start-2] != '.' || chars.WordBefore(b, start)
	case p == '-' && start > 1 && chars.IsWord(b[start-2]):
		// The second of a range is one, and so is what a log file is named after.
		return chars.WordBefore(b, start) || !endsInIPv4(b[:start-1]) && !namesAFile(b[at:])
	}
	return chars.WordBefore(b, start)
}

// addressAndPort finds an address as programs that watch the network write it, with its port: 192.0.2.7.443 >.
func addressAndPort(b []byte, start, at, end int) (int, int, bool) {
	last := bytes.LastIndexByte(b[start:end], '.') + start
	if string(b[max(0, start-2):start]) != "> " && !bytes.HasSuffix(b[:start], []byte("IP ")) && !(end+3 < len(b) &&
		string(b[end:end+3]) == " > " && chars.IsDigit(b[end+3])) {
		return 0, 0, false
	}
	if last < at || end > last+6 {
		return 0, 0, false
	}
	a, err := netip.ParseAddr(string(b[start:last]))
	return start, last, err == nil && !StaysIPv4(a)
}

// dotted gives the end of digits and up to four dots, and how many dots there are; those that end a sentence do not count.
func dotted(b []byte, at int) (end, dots int) {
	end = at
	for end < len(b) && (chars.IsDigit(b[end]) || b[end] == '.' && dots < 4) {
		if b[end] == '.' {
			dots++
		}
		end++
	}
	for end > at && b[end-1] == '.' {
		end, dots = end-1, dots-1
	}
	return end, dots
}

// IPv4 finds four numbers around the first of three dots. A version of four numbers is told by what stands around it.
func IPv4(b []byte, at, free int) (int, int, bool) {
	if b[at] == '-' {
		return findDashedIPv4(b, at, free)
	}
	start := at
	for start > free && at-start < 8 && chars.IsDigit(b[start-1]) {
		start--
	}
	start = pastEscape(b, start, at)
	if start == at || at-start > 3 {
		return 0, 0, false
	}
	if start > 0 && goesOnBefore(b, start, at) {
		return 0, 0, false
	}
	if a, end, ok := plainIPv4(b, start); ok { // most are
		return start, end, !StaysIPv4(a) && !saysVersion(b, start, end)
	}
	end, dots := dotted(b, at)
	if dots == 4 {
		return addressAndPort(b, start, at, end)
	}
	if dots != 3 || end < len(b) && versionGoesOn(b[end:]) {
		return 0, 0, false
	}
	a, ok := parseIPv4(b[start:end])
	if !ok && hasZeros(b[start:end]) && !bytes.Contains(b[start:end], []byte("..")) { // 192.000.002.007
		a, ok = parseIPv4([]byte(alias.WithoutZeros(string(b[start:end]))))
	}
	if !ok || StaysIPv4(a) || saysVersion(b, start, end) {
		return 0, 0, false
	}
	return start, end, true
}

// behindPlain are bytes that end an address whatever stands behind them.
var behindPlain = *chars.BytesOf(" \t\r\n,;:)]}\"'/&|<>=")

// plainIPv4 reads an address at a place that is as most are: without leading zeros, and clearly at its end.
func plainIPv4(b []byte, at int) (a netip.Addr, end int, ok bool) {
	var parts [4]byte
	for i := range parts {
		if at >= len(b) || !chars.IsDigit(b[at]) {
			return a, 0, false
		}
		n := uint(b[at] - '0')
		if at++; n != 0 && at+1 < len(b) && chars.IsDigit(b[at]) {
			n = n*10 + uint(b[at]-'0')
			if at++; chars.IsDigit(b[at]) {
				n = n*10 + uint(b[at]-'0')
				at++
			}
		}
		if n > 255 || at >= len(b) || i < 3 && b[at] != '.' {
			return a, 0, false
		}
		parts[i] = byte(n)
		at++
	}
	at--
	return netip.AddrFrom4(parts), at, behindPlain[b[at]]
}

// parseIPv4 reads an address of four numbers without leading zeros, as netip does, which would copy the text first.
func parseIPv4(text []byte) (netip.Addr, bool) {
	var a [4]byte
	part, n, digits := 0, 0, 0
	for _, c := range text {
		switch {
		case chars.IsDigit(c) && (digits == 0 || n > 0):
			if n = n*10 + int(c-'0'); n > 255 {
				return netip.Addr{}, false
			}
			digits++
		case c == '.' && digits > 0 && part < 3:
			a[part], n, digits = byte(n), 0, 0
			part++
		default:
			return netip.Addr{}, false
		}
	}
	a[3] = byte(n)
	return netip.AddrFrom4(a), part == 3 && digits > 0
}

// findDashedIPv4 finds an address within a host name: ip-192-0-2-7.
func findDashedIPv4(b []byte, at, free int) (int, int, bool) {
	if at < 2 || b[at-1] != 'p' || b[at-2] != 'i' || at > 2 && chars.IsWord(b[at-3]) {
		return 0, 0, false
	}
	end, dashes := at+1, 0
	for end < len(b) && (chars.IsDigit(b[end]) || b[end] == '-' && dashes < 3) {
		if b[end] == '-' {
			dashes++
		}
		end++
	}
	if dashes != 3 || at+1 < free {
		return 0, 0, false
	}
	a, err := netip.ParseAddr(strings.ReplaceAll(string(b[at+1:end]), "-", "."))
	return at + 1, end, err == nil && !StaysIPv4(a)
}

// hasZeros says whether one of the parts of an address is filled up with zeros to three digits, and none has more.
func hasZeros(address []byte) bool {
	filled := false
	for part := range bytes.SplitSeq(address, []byte(".")) {
		if len(part) > 3 {
			return false
		}
		filled = filled || len(part) == 3 && part[0] == '0'
	}
	return filled
}

// namesAFile says whether numbers with dots end in the ending of a file that is written for an address, as in
// gate-192.0.2.7.log. Programs and packages have other endings, and are named after versions.
func namesAFile(rest []byte) bool {
	end := 0
	for end < len(rest) && (chars.IsDigit(rest[end]) || rest[end] == '.') {
		end++
	}
	if end == 0 || rest[end-1] != '.' {
		return false
	}
	for _, ending := range []string{"log", "txt", "json", "csv", "xml", "pcap", "out", "conf", "cfg", "yaml", "yml"} {
		if tail := rest[end:]; bytes.HasPrefix(tail, []byte(ending)) && (len(tail) == len(ending) || !chars.IsWord(tail[len(ending)])) {
			return true
		}
	}
	return false
}

// endsInIPv4 says whether text ends in four numbers with dots.
func endsInIPv4(text []byte) bool {
	start := len(text)
	for start > 0 && len(text)-start < 15 && (chars.IsDigit(text[start-1]) || text[start-1] == '.') {
		start--
	}
	_, err := netip.ParseAddr(string(text[start:]))
	return err == nil && (start == 0 || !chars.IsWord(text[start-1]) && text[start-1] != '.')
}

// versionGoesOn says whether what stands behind four numbers makes them a version, as in 1.2.3.4-5+deb12. A range of
// addresses goes on with another address.
func versionGoesOn(rest []byte) bool {
	if chars.IsWord(rest[0]) || len(rest) > 1 && (rest[0] == '+' || rest[0] == '~') && chars.IsWord(rest[1]) {
		return true
	}
	if rest[0] != '-' || len(rest) < 2 || !chars.IsWord(rest[1]) {
		return false
	}
	next := 1
	for next < len(rest) && chars.IsDigit(rest[next]) {
		next++
	}
	return next == 1 || next+1 >= len(rest) || rest[next] != '.' || !chars.IsDigit(rest[next+1]) ||
		bytes.Count(rest[:min(len(rest), 16)], []byte(".")) < 3
}

// StaysIPv4 reports whether an address is left as it is: loopback, unspecified and multicast. Aliases come from what is above.
func StaysIPv4(a netip.Addr) bool {
	o := a.As4()
	return o[0] == 0 || o[0] == 127 || o[0] >= 224 && o[0] < 240
}

var beforeVersion = *chars.BytesOf(" \t:=\"'>")

// products are names that stand with their version, and a slash between, in what programs say of themselves (RFC 9110, section 10.1.5).
var products = chars.NewWordList(chars.WordSet(`chrome chromium headlesschrome edg edge edga edgios opr opera firefox fxios safari
	mobilesafari version crios electron vivaldi yabrowser
	samsungbrowser trident applewebkit webkit gecko curl wget okhttp java python go node php postmanruntime windowspowershell apache
	nginx openssl openssh kernel firmware agent browser`))

// isProduct says whether four numbers at a place stand behind a slash and the name of a product: Chrome/120.0.0.0.
func isProduct(b []byte, from int) bool {
	if from < 2 || b[from-1] != '/' || !chars.IsWord(b[from-2]) {
		return false
	}
	start := from - 1
	for start > 0 && from-start < 32 && chars.IsKeyByte(b[start-1]) {
		start--
	}
	name := b[start : from-1]
	if products.Has(name) || products.Has([]byte(chars.LastWord(name))) {
		return true
	}
	line := b[chars.LineStart(b, start):start]
	return bytes.Contains(line, []byte("Mozilla/")) || bytes.HasSuffix(bytes.ToLower(bytes.TrimRight(line, " \t:=\"'")), []byte("agent"))
}

// firstOfRange gives the place of the first address of a range of which the second begins at a place; else that place.
func firstOfRange(b []byte, from int) int {
	if from > 8 && b[from-1] == '-' && endsInIPv4(b[:from-1]) {
		for from--; from > 0 && (chars.IsDigit(b[from-1]) || b[from-1] == '.'); {
			from--
		}
	}
	return from
}

// saysVersion says whether the text before four numbers names a version, or what is around them an upgrade.
func saysVersion(b []byte, from, to int) bool {
	if from > 0 && b[from-1] == '/' {
		return isProduct(b, from)
	}
	from = firstOfRange(b, from)
	end := from
	for end > 0 && beforeVersion[b[end-1]] {
		end--
	}
	start := end
	for start > 0 && end-start < 16 && (b[start-1]|0x20 >= 'a' && b[start-1]|0x20 <= 'z') {
		start--
	}
	word := b[start:end]
	if len(word) == 0 && end > 3 && chars.IsDigit(b[end-1]) && b[from-1] != ' ' { // testoid1=1.2.3.4
		for end > 0 && chars.IsDigit(b[end-1]) {
			end--
		}
		return end > 2 && (string(b[end-3:end]) == "oid" || string(b[end-3:end]) == "ver")
	}
	switch {
	case len(word) == 0, chars.IsOneOf(word, "to", "from", "update", "updated", "updating"), len(word) > 6 &&
		chars.IsOneOf(word[1:6], "pgrad", "owngr"):
		return isUpgrade(b, start, to)
	}
	return versionWords.Has(word) || bytes.HasSuffix(word, []byte("oid")) || len(word) > 7 && chars.IsOneOf(word[len(word)-7:], "version")
}

// isUpgrade says whether four numbers, or the word before them, stand in upgrade 10.2.14.1 -> 10.2.15.0 or upgraded from … to ….
func isUpgrade(b []byte, at, end int) bool {
	n := at
	for n > 0 && (b[n-1] == ' ' || b[n-1] == '-' || b[n-1] == '>') {
		n--
	}
	second := n < at && n > 0 && chars.IsDigit(b[n-1])
	if !second {
		behind := b[end:min(len(b), end+5)]
		if len(behind) < 5 || !chars.IsDigit(behind[4]) || string(behind[:4]) != " -> " && string(behind[:4]) != " to " {
			return false
		}
	}
	low := bytes.ToLower(b[max(chars.LineStart(b, at), at-64):end])
	return bytes.Contains(low, []byte("upgrad")) || bytes.Contains(low, []byte("downgrad")) ||
		bytes.Contains(low, []byte("updat")) && (bytes.Contains(low, []byte("version")) || bytes.Contains(low, []byte("firmware")) ||
			bytes.Contains(low, []byte("package")) || bytes.Contains(low, []byte("software")))
}

func isIPv6Byte(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f' || c == ':'
}

// isKeyBefore says whether a colon ends a word that is no part of an address, as in IPv6:2001:db8::1.
func isKeyBefore(b []byte, colon int) bool {
	for i := colon; i > 0 && colon-i < 16 && chars.IsWord(b[i-1]); i-- {
		if !chars.IsHex(b[i-1]) {
			return colon > 1 && chars.IsWord(b[colon-2]) // one letter is a field of its own, as in NAME:x:1002:1002::
		}
	}
	return false
}

// isSerial says whether eight pairs of hexadecimal digits stand behind the word serial, as those of certificates do.
func isSerial(b []byte, start, end int) bool {
	return end-start == 23 && bytes.Count(b[start:end], []byte(":")) == 7 &&
		bytes.Contains(bytes.ToLower(b[max(chars.LineStart(b, start), start-32):start]), []byte("serial"))
}

// findWrittenIPv6 finds an address around its first colon, which is written as an escape: 2001%3Adb8%3A%3A1.
func findWrittenIPv6(b []byte, at, free int) (int, int, bool) {
	isColon := func(i int) bool { return i+2 < len(b) && b[i] == '%' && b[i+1] == '3' && b[i+2]|0x20 == 'a' }
	start, end := at, at
	for start > free && at-start < 8 && chars.IsHex(b[start-1]) {
		start--
	}
	start = pastEscape(b, start, at)
	if !isColon(at) || at-start > 4 || chars.WordBefore(b, start) {
		return 0, 0, false
	}
	colons := 0
	for end < len(b) && end-start < 64 && (chars.IsHex(b[end]) || isColon(end)) {
		if end++; b[end-1] == '%' {
			end += 2
			colons++
		}
	}
	a, err := netip.ParseAddr(alias.WrittenColons.Replace(string(b[start:end])))
	return start, end, colons >= 2 && err == nil && (end == len(b) || !chars.IsWord(b[end])) && !staysIPv6(a)
}

func staysIPv6(a netip.Addr) bool {
	return !a.Is6() || a.IsLoopback() || a.IsUnspecified() || a.IsMulticast()
}

// spanOfIPv6 gives the end of what may be an address, the colons in it, and whether it holds a digit.
func spanOfIPv6(b []byte, start, at int) (end, colons int, digit bool) {
	end = start
	for end < len(b) && end-start < 46 && (end < at || isIPv6Byte(b[end]) || b[end] == '.') {
		if b[end] == ':' {
			colons++
		}
		digit = digit || chars.IsDigit(b[end])
		end++
	}
	return end, colons, digit
}

// withoutPort reads an address, behind which a port may stand after a full stop or an eighth colon.
func withoutPort(b []byte, start, end, colons int) (a netip.Addr, to int, err error) {
	a, err = netip.ParseAddr(string(b[start:end]))
	if n := bytes.LastIndexByte(b[start:end], '.'); err != nil && n > 0 {
		end = start + n
		a, err = netip.ParseAddr(string(b[start:end]))
	}
	if n := bytes.LastIndexByte(b[start:end], ':'); err != nil && colons == 8 && end-start-n < 7 && chars.IsAllDigits(b[start+n+1:end]) {
		end = start + n
		a, err = netip.ParseAddr(string(b[start:end]))
	}
	return a, end, err
}

// isAccountNumbers says whether the numbers of an account and its group stand there, as in lists of accounts:
// NAME:…:5000:5000::/home/NAME.
func isAccountNumbers(b []byte, start, end int) bool {
	v := b[start:end]
	return bytes.HasSuffix(v, []byte("::")) && bytes.Count(v, []byte(":")) == 3 &&
		end+1 < len(b) && b[end] == '/' && !chars.IsDigit(b[end+1]) && len(bytes.Trim(v, "0123456789:")) == 0
}

// IPv6 finds an address around its first colon (RFC 4291 text forms, also with an IPv4 end).
func IPv6(b []byte, at, free int) (int, int, bool) {
	if b[at] == '%' {
		return findWrittenIPv6(b, at, free)
	}
	start := at
	for start > free && at-start < 9 && chars.IsHex(b[start-1]) {
		start--
	}
	start = pastEscape(b, start, at)
	if at-start > 4 || chars.WordBefore(b, start) || start > 0 && (b[start-1] == '.' || b[start-1] == ':' && !isKeyBefore(b, start-1)) {
		return 0, 0, false
	}
	end, colons, digit := spanOfIPv6(b, start, at)
	if colons < 2 || !digit || end < len(b) && chars.IsWord(b[end]) {
		return 0, 0, false
	}
	for end > at && (b[end-1] == '.' || b[end-1] == ':' && !bytes.HasSuffix(b[start:end], []byte("::"))) {
		end--
	}
	if isAccountNumbers(b, start, end) {
		return 0, 0, false
	}
	a, end, err := withoutPort(b, start, end, colons)
	if err == nil && a.Is4In6() && bytes.IndexByte(b[start:end], '.') > 0 {
		return 0, 0, false // the address of version 4 in it is found as one, and has its alias
	}
	return start, end, err == nil && !staysIPv6(a) && !isSerial(b, start, end)
}
