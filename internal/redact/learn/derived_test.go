package learn

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/alias"
)

// What follows from names: other ways to write them, accounts that are made of them, and short names of hosts; nothing that is a word of
// everybody's, and nothing that is common in the case.
func TestDerived(t *testing.T) {
	texts := func(values []alias.Value) (out []string) {
		for _, v := range values {
			out = append(out, v.Text)
		}
		return out
	}
	for _, c := range []struct {
		class     alias.Class
		name      string
		want, not []string
	}{
		{alias.User, "Marek Zielonka", []string{"Zielonka, Marek", "ZIELONKA, Marek", "Zielonka Marek", "MAREK ZIELONKA",
			"M. Zielonka", "mzielonka",
			"MZIELONKA", "marekz", "zielonkam", "marek.zielonka", "zielonka_marek", "m.zielonka", "marekzielonka", "mzielonk"},
			[]string{"Marek Zielonka", "Marek", "Zielonka", "marek", "zielonka"}},
		{alias.User, "ZIELONKA, Marek", []string{"Marek Zielonka", "mzielonka"}, nil},
		{alias.User, "Ana van der Berg", []string{"avanderberg", "van der Berg, Ana", "ana.vanderberg"}, []string{"anav"}},
		{alias.User, "Jörg Mößner", []string{"jmossner", "jmoessner", "joerg.moessner", "jorg.mossner", "Mößner, Jörg"}, nil},
		{alias.User, "Paul Lane", []string{"Lane, Paul", "paul.lane"}, []string{"plane", "pauls", "PLANE"}},
		{alias.User, "Toni Ng", []string{"Ng, Toni"}, []string{"tng", "ngt", "tonin"}},
		{alias.User, "Анна Петрова", []string{"Петрова, Анна"}, nil},
		{alias.Host, "tp-gate07.pier.internal", []string{"tp-gate07", "TP-GATE07"}, []string{"tp-gate07.pier"}},
		{alias.Host, "ledger.pier.internal", nil, []string{"ledger"}},
		{alias.Host, "f5cluster.local", nil, []string{"f5cluster"}},
		{alias.Host, "gate7a.local", []string{"gate7a"}, nil},
		{alias.Host, "kiosk-12.pier.internal", nil, []string{"kiosk-12"}},
	} {
		l := New(func(string) int { return 0 }, "kiosk-12")
		l.AddCommon("kiosk-12")
		l.Add(alias.Value{Text: c.name, Class: c.class, Rule: "user"})
		all, first := l.Derived()
		got := texts(all)
		require.Subset(t, got, c.want, c.name)
		for _, n := range c.not {
			require.NotContains(t, got, n, c.name)
		}
		require.Empty(t, first)
		require.True(t, slices.IsSorted(got))
	}
}

// What may be of two people has an alias of its own; of a very long list nothing follows.
func TestDerivedOfSeveral(t *testing.T) {
	l := New(func(string) int { return 0 })
	for _, name := range []string{"Mirren Sorley", "Moira Sorley"} {
		l.Add(alias.Value{Text: name, Class: alias.User, Rule: "user"})
	}
	_, unclear := l.Derived()
	var names []string
	for _, v := range unclear {
		names = append(names, v.Text)
	}
	require.Contains(t, names, "msorley")
	require.NotContains(t, names, "mirren.sorley")
	l.Add(alias.Value{Text: "Ana van der Berg", Class: alias.User, Rule: NamedRule})
	all, first := l.Derived()
	require.Contains(t, all, alias.Value{Text: "avanderberg", Class: alias.User, Rule: derivedRule})
	require.Contains(t, first, alias.Value{Text: "Ana van der Berg", Class: alias.User, Rule: NamedRule}, "for its alias")
	require.NotContains(t, l.Values(), alias.Value{Text: "Ana van der Berg", Class: alias.User, Rule: NamedRule})
	other := New(func(string) int { return 0 })
	other.Absorb(l)
	_, first = other.Derived()
	require.Contains(t, first, alias.Value{Text: "Ana van der Berg", Class: alias.User, Rule: NamedRule}, "also from file to file")
	for i := range alias.MostPeople + 1 {
		surname := string(rune('A'+i%26)) + "kel" + string(rune('a'+i/26%26)) + "brin" + string(rune('a'+i/676))
		l.Add(alias.Value{Text: "Mirren " + surname, Class: alias.User, Rule: "user"})
	}
	all, _ = l.Derived()
	require.Zero(t, len(all))
}
