package find

import (
	"bytes"
	"strings"

	"envask/internal/redact/chars"
)

// PrivateDomains are endings of names that exist only within a network: .internal (ICANN), .local (RFC 6762), .home.arpa
// (RFC 8375), those of addresses looked up backwards (RFC 3596), and those in wide use without being reserved.
var PrivateDomains = []string{"internal", "intranet", "local", "localdomain", "lan", "corp", "home.arpa", "ip6.arpa"}

var privateFirst = func() (set [256]bool) {
	for _, d := range PrivateDomains {
		set[d[0]], set[d[0]-0x20] = true, true
	}
	return set
}()

// notHosts are words before .local and the like that are no host.
var notHosts = chars.WordSet("jail fonts man mdoc hosts this self rc threading thread js conf window java jdk sun settings " +
	"kadmin config env usr var etc params file data test")

// Host finds host names under private domains, around the dot before the domain.
func Host(b []byte, at, free int) (int, int, bool) {
	if at == 0 || at+3 >= len(b) || !privateFirst[b[at+1]] || !isDomainByte(b[at-1]) {
		return 0, 0, false
	}
	for _, d := range PrivateDomains {
		if end := at + 1 + len(d); end <= len(b) && chars.EqualFold(b[at+1:end], d) {
			return hostAround(b, at, end, free)
		}
	}
	return 0, 0, false
}

// hostAround gives the host name whose domain stands from a dot to an end, if it is one: labels before, nothing behind.
func hostAround(b []byte, dot, end, free int) (int, int, bool) {
	if end < len(b) && (chars.IsWord(b[end]) || b[end] == '-' || b[end] == '(' || b[end] == '[' || b[end] == '=' || b[end] == '.' &&
		end+1 < len(b) && chars.IsWord(b[end+1])) {
		return 0, 0, false
	}
	start := dot
	for start > free && dot-start < 200 && isDomainByte(b[start-1]) {
		start--
	}
	for start < dot && (b[start] == '.' || b[start] == '-') {
		start++
	}
	if start == dot || chars.HasWord(notHosts, b[start:dot]) {
		return 0, 0, false
	}
	if isPackage(b[start:dot]) || start > 0 && (b[start-1] == '_' || b[start-1] == '$') || isFilePath(b, start) {
		return 0, 0, false
	}
	return start, end, true
}

// isPackage says whether labels are those of a package of a program: com.example.gate.internal.
func isPackage(labels []byte) bool {
	for label := range bytes.SplitSeq(labels, []byte(".")) {
		if chars.IsOneOf(label, "com", "org", "java", "javax", "jakarta", "sun", "jdk") {
			return true
		}
	}
	return false
}

// isFilePath says whether a name stands behind the slash of a path rather than of an address.
func isFilePath(b []byte, start int) bool {
	return start > 0 && b[start-1] == '/' && !(start > 1 && (b[start-2] == '/' || b[start-2] == ':'))
}

// DomainFinder gives a rule's Find for host names under given domains, such as those of the site.
func DomainFinder(domains []string) func(b []byte, at, free int) (int, int, bool) {
	var first [256]bool
	var low []string
	for _, d := range domains {
		d = strings.ToLower(strings.Trim(d, "."))
		if d == "" {
			continue
		}
		low = append(low, d)
		first[d[0]], first[strings.ToUpper(d)[0]] = true, true
	}
	return func(b []byte, at, free int) (int, int, bool) {
		if at == 0 || at+2 >= len(b) || !first[b[at+1]] || !isDomainByte(b[at-1]) {
			return 0, 0, false
		}
		for _, d := range low {
			if end := at + 1 + len(d); end <= len(b) && chars.EqualFold(b[at+1:end], d) && !bytes.HasPrefix(b[end:], []byte("@")) {
				if s, e, ok := hostAround(b, at, end, free); ok {
					return s, e, true
				}
			}
		}
		return 0, 0, false
	}
}
