package alias

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAliasesKeepSubnets(t *testing.T) {
	table := NewTable()
	prefix := func(a string, bits int) netip.Prefix {
		p, err := netip.MustParseAddr(a).Prefix(bits)
		require.NoError(t, err)
		return p
	}
	originals := []string{"192.0.2.1", "192.0.2.77", "192.0.3.1", "192.0.255.1", "198.51.100.1", "10.0.0.1", "10.0.0.2", "10.9.0.1",
		"2001:db8:1:1::1", "2001:db8:1:1::2", "2001:db8:1:2::1", "2001:db8:2:1::1", "fe80::1"}
	for _, a := range originals {
		for _, b := range originals {
			x, y := netip.MustParseAddr(a), netip.MustParseAddr(b)
			if x.Is4() != y.Is4() {
				continue
			}
			widths := []int{16, 24, 32}
			if x.Is6() {
				widths = []int{48, 64, 128}
			}
			for _, w := range widths {
				same := prefix(a, w) == prefix(b, w)
				require.Equal(t, same, prefix(table.Alias(classOf(x),
					a), w) == prefix(table.Alias(classOf(y), b), w), "%s and %s in /%d", a, b, w)
			}
		}
	}
}

// classOf gives the class of an address.
func classOf(a netip.Addr) Class {
	if a.Is4() {
		return IPv4
	}
	return IPv6
}

func TestNoTwoOriginalsShareAnAlias(t *testing.T) {
	table := NewTable()
	seen := map[string]string{}
	give := func(class Class, original string) {
		a := table.Alias(class, original)
		require.Empty(t, seen[a], "%s for %s", a, original)
		seen[a] = original
		require.True(t, IsAlias(class, []byte(a)), "%s has the form of an alias", a)
	}
	for i := range 5000 { // more /16 networks than there are places that keep relations
		give(IPv4, fmt.Sprintf("%d.%d.1.1", 1+i/250, i%250))
	}
	for i := range 256 {
		give(IPv4, fmt.Sprintf("198.51.100.%d", i))
	}
	for i := range 3000 {
		give(IPv6, fmt.Sprintf("2001:db8:%x::%x", i, i))
		give(User, fmt.Sprintf("user.%d", i))
		give(Mail, fmt.Sprintf("user.%d@merrowick.example", i))
	}
	require.NotContains(t, seen, "255.255.255.255")
	require.Equal(t, table.Alias(IPv6, "2001:DB8:0:0::1"), table.Alias(IPv6, "2001:db8::1"), "spellings are one")
}

// A table from before spellings had aliases that begin alike is read as it is, and goes on.
func TestOlderTablesAreRead(t *testing.T) {
	older := `{"version": 1, "aliases": [
{"class":"user","original":"MAREK ZIELONKA","alias":"user-2a"},
{"class":"user","original":"MZIELONKA","alias":"user-2b"},
{"class":"user","original":"Marek Zielonka","alias":"user-2c"},
{"class":"user","original":"ines.rocha","alias":"user-2d"},
{"class":"user","original":"mzielonka","alias":"user-2e"},
{"class":"host","original":"db7.pier.internal","alias":"host-2a.example"},
{"class":"host","original":"db7","alias":"host-2b.example"},
{"class":"host","original":"pier.example","alias":"host-2c.example"},
{"class":"mail","original":"ines.rocha@pier.example","alias":"user-2d@host-2c.example"},
{"class":"mail","original":"marek.zielonka@pier.example","alias":"mail-2a@host-2c.example"},
{"class":"phone","original":"004940555","alias":"99900000001"},
{"class":"user","original":"fare","alias":"user-2f"}
]}`
	table, err := parseTable([]byte(older), "t")
	require.NoError(t, err)
	require.Len(t, table.All(), 12)
	require.Equal(t, "user-2a", table.Alias(User, "MAREK ZIELONKA"))
	require.Equal(t, "mail-2a@host-2c.example", table.Alias(Mail, "marek.zielonka@pier.example"))
	require.Equal(t, "user-2d@host-2cb.example", table.Alias(Mail, "ines.rocha@Pier.example"))
	require.Equal(t, "user-2g", table.Alias(User, "new"))
	data, err := table.Marshal()
	require.NoError(t, err)
	again, err := parseTable(data, "t")
	require.NoError(t, err)
	require.Equal(t, table.All(), again.All())
}

// Spellings of one name, account, address of mail or host have aliases that begin alike, the same ones whatever the order in which they
// come together, and also when the table is read again.
func TestSpellingsBeginAlike(t *testing.T) {
	given := []Value{{"Marek Zielonka", User, ""}, {"ZIELONKA, Marek", User, ""}, {"mzielonka", User, ""}, {"MZIELONKA", User, ""},
		{"Zielonka", User, ""}, {"Marek.Zielonka@Pier.example", Mail, ""}, {"marek.zielonka@pier.example", Mail, ""},
		{"mzielonka@pier.example", Mail, ""}, {"Mirren Sorley", User, ""}, {"Moira Sorley", User, ""}, {"msorley", User, ""},
		{"tp-gate07.pier.internal", Host, ""}, {"TP-Gate07.pier.internal", Host, ""}, {"tp-gate07", Host,
			""}, {"gate1.a.internal", Host, ""},
		{"gate1.b.internal", Host, ""}, {"gate1", Host, ""}, {"Jörg Mößner", User, ""}, {"jmoessner", User,
			""}, {"Ana van der Berg", User, ""},
		{"avanderberg", User, ""}}
	want := map[string]string{"Marek Zielonka": "user-2c", "ZIELONKA, Marek": "user-2cb", "MZIELONKA": "user-2cz",
		"mzielonka": "user-2czb",
		"Zielonka":  "user-2ck", "Marek.Zielonka@Pier.example": "user-2c@host-2d.example",
		"marek.zielonka@pier.example": "user-2c@host-2db.example", "mzielonka@pier.example": "user-2czb@host-2db.example",
		"Pier.example": "host-2d.example", "pier.example": "host-2db.example", "Mirren Sorley": "user-2d", "Moira Sorley": "user-2e",
		"msorley": "user-2f", "TP-Gate07.pier.internal": "host-2a.example", "tp-gate07.pier.internal": "host-2ab.example",
		"tp-gate07": "host-2a", "gate1.a.internal": "host-2b.example", "gate1.b.internal": "host-2c.example", "gate1": "host-2e.example",
		"Jörg Mößner": "user-2b", "jmoessner": "user-2bq", "Ana van der Berg": "user-2a", "avanderberg": "user-2az"}
	table := NewTable()
	table.Give(given)
	got := map[string]string{}
	for _, a := range table.All() {
		got[a.Original] = a.Alias
		require.True(t, IsAlias(a.Class, []byte(a.Alias)), a.Alias)
	}
	require.Equal(t, want, got)
	data, err := table.Marshal()
	require.NoError(t, err)
	again, err := parseTable(data, "t")
	require.NoError(t, err)
	require.Equal(t, table.All(), again.All())
	require.Equal(t, table.bases, again.bases)
	other := NewTable()
	slices.Reverse(given)
	other.Give(given)
	require.Equal(t, table.All(), other.All())
}

func TestTableIsKept(t *testing.T) {
	file := filepath.Join(t.TempDir(), "aliases.json")
	table, err := LoadTable(file)
	require.NoError(t, err)
	require.False(t, table.Changed())
	table.Give([]Value{{Text: "z.last", Class: User, Rule: "user"}, {Text: "a.first", Class: User, Rule: "user"}, {Text: "192.0.2.9",
		Class: IPv4, Rule: "ipv4"}, {Text: "j\xfcrgen.mosebach", Class: User, Rule: "user"}, {Text: "x@merrowick.example",
		Class: Mail, Rule: "mail"}, {Text: "pw", Class: Secret, Rule: "keyed-secret"}})
	require.Equal(t, "user-2a", table.Alias(User, "a.first"), "new ones are given in sorted order")
	data, err := table.Marshal()
	require.NoError(t, err)
	require.NotContains(t, string(data), "pw")
	require.NoError(t, os.WriteFile(file, data, 0o600))

	require.Contains(t, string(data), "a.first")
	again, err := LoadTable(file)
	require.NoError(t, err)
	require.Equal(t, table.All(), again.All(), "also what is no UTF-8")
	require.False(t, again.Changed())
	require.Equal(t, "user-2d", again.Alias(User, "m.middle"), "what was given never changes")
	require.True(t, again.Changed())

	require.NoError(t, os.WriteFile(file, []byte(`{
 "version": 1,
 "aliases": [
  {
   "class": "user",
   "original": "a.first",
   "alias": "user-2a"
  }
 ]
}`), 0o600))
	older, err := LoadTable(file)
	require.NoError(t, err)
	require.Equal(t, []Alias{{Class: User, Original: "a.first", Alias: "user-2a"}}, older.All())

	for name, text := range map[string]string{"changed": strings.Replace(string(data),
		"user-2a", "user-9z", 1), "twice": strings.Replace(string(data), "user-2b", "user-2a", 1), "broken": "{"} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err = LoadTable(file)
		require.Error(t, err, name)
	}
}

func TestCodesAreShortAndDistinct(t *testing.T) {
	seen := map[string]bool{}
	for n := range 70_000 {
		c := code(n)
		require.False(t, seen[c], "%s for %d", c, n)
		seen[c] = true
		require.LessOrEqual(t, len(c), 6)
	}
	require.Equal(t, "2a", code(0))
	require.Equal(t, "9z", code(CodePair-1))
	require.Equal(t, "2a2a", code(CodePair))
}
