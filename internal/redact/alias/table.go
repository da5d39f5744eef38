package alias

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"sync"
)

// Table is a case's table of aliases: once given, an alias never changes, and no two originals share one, but for
// spellings of one of which there are many. Spellings of one name, account, address of mail or host have aliases that begin alike (user-2a,
// user-2ab), so that the reader sees that they are one and each can be turned back into what stood there.
//
// The forms are reserved ones, so that an alias is never mistaken for an original: IPv4 in 240.0.0.0/4 (reserved by
// RFC 1112), IPv6 in 3fff::/20 (documentation, RFC 9637), hardware addresses locally administered with one
// first half, names under .example (RFC 2606). Addresses keep the relations of
// /16 and /24, and of /48 and /64.
type Table struct {
	mu       sync.Mutex
	given    []Alias // in the order in which they were given
	byOrigin map[origin]string
	counts   map[group]int // how many were given below a network or of a class
	networks map[group]int // their numbers among their siblings
	changed  bool
	apart    bool // the address of mail that is read was given its alias before that of its account was known
	asBefore bool // what is read was given its alias when spellings had aliases of their own

	bases  map[origin]string // the first alias of what has several spellings, by the form under which they are one
	shorts map[string]string // aliases of hosts by the first parts of their names; "" where several hosts have the same
	mails  map[string]bool   // the aliases of mail

	derived map[string]string // the aliases of accounts that are made of the names of people; "" where several may have the same
}

type origin struct {
	class Class
	text  string
}

// group is what is counted: a class, or what lies in a network.
type group struct {
	of string
	in uint64
}

// Alias is one line of the table.
type Alias struct {
	Class    Class  `json:"class"`
	Original string `json:"original"`
	Alias    string `json:"alias"`
}

// NewTable makes an empty table.
func NewTable() *Table { return newTable(0) }

func newTable(size int) *Table {
	return &Table{given: make([]Alias, 0, size), byOrigin: make(map[origin]string, size), counts: map[group]int{},
		networks: map[group]int{}, bases: map[origin]string{}, shorts: map[string]string{}, mails: map[string]bool{},
		derived: map[string]string{}}
}

// Changed says whether aliases were given since the table was loaded.
func (t *Table) Changed() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.changed
}

// All gives the table, sorted by alias.
func (t *Table) All() []Alias {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := slices.Clone(t.given)
	sort.Slice(out, func(i, j int) bool { return out[i].Alias < out[j].Alias })
	return out
}

// minPlainNumber is how many digits a phone number has at least for its digits alone to be taken for it.
const minPlainNumber = 10

// Identities gives the originals of the table as values, each with the rule that is named for its class; which one found it is not known
// any more. Classes without a rule are left out, and so are hosts that are there for the sake of an address of mail: they may be a
// provider's, or the vendor's.
func (t *Table) Identities(rules map[Class]string) []Value {
	t.mu.Lock()
	defer t.mu.Unlock()
	ofMail := map[string]bool{}
	for _, a := range t.given {
		if _, host, ok := strings.Cut(a.Original, "@"); ok && a.Class == Mail {
			ofMail[host] = true
		}
	}
	values := make([]Value, 0, len(t.given))
	for _, a := range t.given {
		if rule := rules[a.Class]; rule != "" && (a.Class != Phone || len(a.Original) >= minPlainNumber) && (a.Class != Host ||
			!ofMail[a.Original]) {
			values = append(values, Value{a.Original, a.Class, rule})
		}
	}
	return values
}

// Give makes sure that all identities among the values have an alias; new ones are given in sorted order, so that they
// do not depend on which file was read first.
func (t *Table) Give(identities []Value) {
	sorted := make([]origin, 0, len(identities))
	for _, v := range identities {
		if v.Class != Secret {
			sorted = append(sorted, origin{v.Class, canonical(v.Class, v.Text)})
		}
	}
	slices.SortFunc(sorted, func(a, b origin) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), strings.Compare(string(a.class), string(b.class)),
			strings.Compare(a.text, b.text))
	})
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, o := range sorted {
		t.give(o.class, o.text)
	}
}

// rank puts what has an alias of its own before what shares it: names of people, their accounts, addresses of mail; whole names of hosts,
// short ones.
func rank(o origin) int {
	switch {
	case o.class == User && strings.IndexByte(o.text, ' ') > 0:
		return -1
	case o.class == User:
		return 0
	case o.class == Host && strings.IndexByte(o.text, '.') < 0:
		return 2
	}
	return 1
}

// Alias gives the alias of an original, a new one if need be.
func (t *Table) Alias(class Class, original string) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.give(class, canonical(class, original))
}

func (t *Table) give(class Class, original string) string {
	o := origin{class, original}
	if a, ok := t.byOrigin[o]; ok {
		return a
	}
	var a string
	switch class {
	case IPv4:
		a = t.giveIPv4(original)
	case IPv6:
		a = t.giveIPv6(original)
	case MAC:
		a = t.giveMAC()
	case Phone:
		a = t.givePhone()
	case Card:
		a = t.giveCard()
	case IBAN:
		a = t.giveIBAN()
	case ID:
		a = "id-" + code(t.next("id"))
	default:
		var again bool
		if a, again = t.giveSpelled(o); again {
			return a
		}
	}
	t.given = append(t.given, Alias{class, original, a})
	t.byOrigin[o] = a
	t.changed = true
	return a
}

// next counts up from 0 within a class.
func (t *Table) next(class string) int { return t.nextIn(group{of: class}) }

func (t *Table) nextIn(g group) int {
	n := t.counts[g]
	t.counts[g] = n + 1
	return n
}

// index gives a network its number among its siblings, the same each time.
func (t *Table) index(network, siblings group) int {
	if n, ok := t.networks[network]; ok {
		return n
	}
	n := t.nextIn(siblings)
	t.networks[network] = n
	return n
}

// networks16 is how many /16 networks keep their relations; what comes after goes to 255.0.0.0/8, one by one.
const networks16 = 15 << 8

func (t *Table) giveIPv4(original string) string {
	a := netip.MustParseAddr(original).As4()
	high := uint64(a[0])<<8 | uint64(a[1])
	n16 := t.index(group{"v4 /16", high}, group{of: "v4"})
	if n16 >= networks16 {
		n := t.next("v4 rest") + 1
		return netip.AddrFrom4([4]byte{255, byte(n >> 16), byte(n >> 8), byte(n)}).String()
	}
	n24 := t.index(group{"v4 /24", high<<8 | uint64(a[2])}, group{"v4 in /16", high})
	host := t.nextIn(group{"v4 in /24", high<<8 | uint64(a[2])})
	// From 1 on, since .0 reads like a network; the 256th gets it.
	return netip.AddrFrom4([4]byte{byte(240 + n16>>8), byte(n16), byte(n24), byte(host + 1)}).String()
}

func (t *Table) giveIPv6(original string) string {
	a := netip.MustParseAddr(original).As16()
	high := binary.BigEndian.Uint64(a[:])
	n48 := t.index(group{"v6 /48", high >> 16}, group{of: "v6"})
	n64 := t.index(group{"v6 /64", high}, group{"v6 in /48", high >> 16})
	host := t.nextIn(group{"v6 in /64", high}) + 1
	out := [16]byte{0x3f, 0xff, byte(n48 >> 24), byte(n48 >> 16), byte(n48 >> 8), byte(n48), byte(n64 >> 8), byte(n64)}
	for i := 0; i < 8; i++ {
		out[15-i] = byte(host >> (8 * i))
	}
	return netip.AddrFrom16(out).String()
}

var (
	aliasV4 = netip.MustParsePrefix("240.0.0.0/4")
	AliasV6 = netip.MustParsePrefix("3fff::/20")
)

// Clone gives a table of one's own with the same aliases.
func (t *Table) Clone() *Table {
	if t == nil {
		return NewTable()
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return &Table{given: slices.Clone(t.given), byOrigin: maps.Clone(t.byOrigin), counts: maps.Clone(t.counts),
		networks: maps.Clone(t.networks), bases: maps.Clone(t.bases), shorts: maps.Clone(t.shorts), mails: maps.Clone(t.mails),
		derived: maps.Clone(t.derived)}
}

func (t *Table) givePhone() string {
	return fmt.Sprintf("%s%0*d", phoneHead, phoneSerial, t.next("phone")+1)
}

func (t *Table) giveCard() string { return fmt.Sprintf("%d", t.next("card")+1) }

func (t *Table) giveIBAN() string { return fmt.Sprintf("%d", t.next("iban")+1) }

// giveMAC gives the next alias.
func (t *Table) giveMAC() string {
	n := t.next("mac") + 1
	return fmt.Sprintf("%s:%02x:%02x:%02x", macHead, byte(n>>16), byte(n>>8), byte(n))
}
