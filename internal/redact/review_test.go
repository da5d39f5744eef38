package redact

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/alias"
)

// A sample shows the place and what stands around it, and no original.
func TestSamplesHoldNoOriginal(t *testing.T) {
	text := strings.Repeat("filler line\n", 40_000) + "from 192.0.2.61 password=brass-Kelp-71! mail ines.tavares@merrowick.example end\nnext\n"
	var got []Sample
	_, err := NewEngine(Options{}).File(&bytes.Buffer{}, strings.NewReader(text), Source{Sampler: func(s Sample) { got = append(got, s) }})
	require.NoError(t, err)
	require.Len(t, got, 3)
	for i, original := range []string{"192.0.2.61", "brass-Kelp-71!", "ines.tavares@merrowick.example"} {
		require.Equal(t, original, text[got[i].Offset:got[i].Offset+int64(got[i].Length)], "the place is that of the original")
		for _, shown := range []string{got[i].Left, got[i].Put, got[i].Right} {
			require.NotRegexp(t, "192.0.2.61|Kelp|tavares|next", shown)
		}
	}
	require.Equal(t, "from 240.0.0.1 password=", got[1].Left)
	require.Equal(t, " mail mail-2a@host-2a.example end", got[1].Right)
	// Two of a rule are enough.
	got = nil
	_, err = NewEngine(Options{}).File(&bytes.Buffer{}, strings.NewReader(strings.Repeat("from 192.0.2.61\n", 9)), Source{Sampler: func(s Sample) { got = append(got, s) }})
	require.NoError(t, err)
	require.Len(t, got, samplesEach)
}

// Places of learned values lead back to them.
func TestPlacesOfLearnedValues(t *testing.T) {
	text := strings.Repeat("filler line\n", 40_000) + "user=m.quintela Cookie: id=abcdef0123456789; theme=dark\npin=4711\n"
	l := NewLearned()
	seen := map[string]int64{}
	_, err := NewEngine(Options{Learned: l}).File(nil, strings.NewReader(text), Source{Place: func(v alias.Value, at int64) { seen[v.Text] = at }})
	require.NoError(t, err)
	require.Len(t, seen, 3, "what is too short to be learned has no place")
	for value, at := range seen {
		require.Equal(t, value, text[at:at+int64(len(value))])
	}
	require.Contains(t, seen, "abcdef0123456789")
}

func TestRevealTurnsAliasesBack(t *testing.T) {
	l := learnFrom(t,
		"from 192.0.2.61 via 2001:db8::7 mac 00:00:5e:00:53:af host db7.pier.internal user=m.quintela "+
			"mail ines@merrowick.example\nphone: +351 912 345 678 card 4111-1111-1111-1111 iban GB82 WEST 1234 5698 7654 32\n")
	table := alias.NewTable()
	table.Give(l.Values())
	e := NewEngine(Options{Aliases: table, Matcher: NewMatcher(l.Values())})
	for _, text := range []string{"at 192.0.2.61.", "[2001:db8::7]:443", "00-00-5E-00-53-AF and 0000.5e00.53af",
		"x db7.pier.internal:8443", "(m.quintela)", "<ines@merrowick.example>", "card 4111-1111-1111-1111,",
		"GB82 WEST 1234 5698 7654 32",
		"192.0.2.61,192.0.2.61;m.quintela's", "src_ip=0xC000023D", `{"ip": 3221226045}`, "nothing here", ""} {
		out := e.String(text)
		var back bytes.Buffer
		_, err := Reveal(table, bufio.NewWriter(&back), strings.NewReader(out))
		require.NoError(t, err)
		require.Equal(t, text, back.String(), "by way of %s", out)
	}
}

// Every spelling of an identity comes back as it stood, byte for byte, from whole texts in which they stand beside each other.
func TestRevealGivesSpellingsBack(t *testing.T) {
	for _, text := range []string{
		"From: Marek Zielonka <Marek.Zielonka@Merrowick.example>\nTo: marek.zielonka@merrowick.example, MAREK.ZIELONKA@MERROWICK.EXAMPLE\n",
		"user: Marek Zielonka\nuser: Marek Zielonka\nZielonka, Marek (dock 3)\n" +
			"login mzielonka, MERROWICK\\MZIELONKA, home of marekz\nM. Zielonka was there\n",
		"peer 10.1.2.3 ::ffff:10.1.2.3 client=010.001.002.003 host=ip-10-1-2-3 src_ip=0x0A010203\n",
		"2001:db8::1 2001:DB8::1 2001:DB8:0:0:0:0:0:1 2001:0db8:0000:0000:0000:0000:0000:0001 " +
			"[2001:db8::1]:443 fe80::1%eth0 ::ffff:192.0.2.7\n",
		"mac 00:1B:44:11:3A:B7, 00-1b-44-11-3a-b7, 001b.4411.3ab7, 001B-4411-3AB7, mac=001b44113ab7, 001b44113ab7 and 001B44113AB7\n",
		"phone: +49 40 5550 1234\nphone: 0049 40 5550-1234\nphone: (040) 5550/1234\ntel: 555-0123, then 7 of 9\nphone: +351 912 345 678\n",
		"Host=TP-Gate07.pier.internal tp-gate07.pier.internal TP-GATE07.PIER.INTERNAL; ping tp-gate07, ping TP-GATE07\n",
		"card 4111 1111 1111 1111, 4111-1111-1111-1111, 4111111111111111; GB82WEST12345698765432, GB82 WEST 1234 5698 7654 32\n",
		"user=ines.rocha user=Ines.Rocha user=INES.ROCHA user=inesrocha\n",
	} {
		l := learnFrom(t, text)
		table := alias.NewTable()
		all, first := l.Everything()
		table.Give(first)
		out := NewEngine(Options{Aliases: table, Matcher: NewMatcher(all)}).String(text)
		var back bytes.Buffer
		_, err := Reveal(table, bufio.NewWriter(&back), strings.NewReader(out))
		require.NoError(t, err)
		require.Equal(t, text, back.String(), "by way of %s", out)
		for _, gone := range []string{"Marek", "arek", "ielonka", "IELONKA", "10.1.2", "010.001", "0A01", "1b44", "1B44", "5550",
			"ate07", "ATE07", "4111", "WEST", "ocha"} {
			require.NotContains(t, out, gone)
		}
		t.Log(out)
	}
}

// What stands within such texts in others comes back, too.
func TestRevealLooksIntoTextsInTexts(t *testing.T) {
	values := []Value{{Text: "marek.zielonka", Class: User, Rule: "user"}}
	table := NewTable()
	table.Give(values)
	inner := "blob " + wordPacked(t, 'g', "login of marek.zielonka, all of it is true\n") + " in it\n"
	text := "x " + base64.StdEncoding.EncodeToString([]byte(inner)) + " y\n"
	out := NewEngine(Options{Aliases: table, Matcher: NewMatcher(values)}).String(text)
	require.NotEqual(t, text, out)
	var back bytes.Buffer
	n, err := Reveal(table, bufio.NewWriter(&back), strings.NewReader(out))
	require.NoError(t, err)
	require.Equal(t, 1, n)
}

// Of all the marked files, every line that lost no secret comes back as it stood, but for a few of odd
// spellings (an address of mail within one of a page).
func TestRevealGivesFilesBack(t *testing.T) {
	data, err := os.ReadFile("testdata/files.txt")
	require.NoError(t, err)
	lines, other := 0, 0
	for _, file := range strings.Split(string(data), "=== ")[1:] {
		_, text, _ := strings.Cut(strings.NewReplacer("«", "", "»", "", "‹", "", "›", "").Replace(file), "\n")
		l := learnFrom(t, text)
		all, first := l.Everything()
		table := NewTable()
		table.Give(first)
		out := NewEngine(Options{Aliases: table, Matcher: NewMatcher(all)}).String(text)
		var back bytes.Buffer
		_, err := Reveal(table, bufio.NewWriter(&back), strings.NewReader(out))
		require.NoError(t, err)
		was, is := strings.Split(text, "\n"), strings.Split(back.String(), "\n")
		if len(was) != len(is) { // a key over several lines
			continue
		}
		for i := range was {
			if strings.Contains(is[i], "[redacted:") {
				continue
			}
			if lines++; was[i] != is[i] {
				other++
				t.Logf("%q came back as %q", was[i], is[i])
			}
		}
	}
	t.Logf("%d of %d lines came back as they stood", lines-other, lines)
	require.LessOrEqual(t, float64(other)/float64(lines), 0.001)
}

// What stands in base64, compressed or not, comes back as well.
func TestRevealLooksIntoBase64(t *testing.T) {
	const text = "login of marek.zielonka from 10.1.2.3 port 2222, all of it is true\n"
	var packed bytes.Buffer
	z := closeGzip(&packed)
	_, err := z.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	table := alias.NewTable()
	values := []Value{{Text: "marek.zielonka", Class: User, Rule: "user"}, {Text: "10.1.2.3", Class: IPv4, Rule: "ipv4"}}
	table.Give(values)
	for _, code := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding, base64.RawStdEncoding} {
		for _, inner := range []string{text, packed.String()} {
			line := "blob: " + code.EncodeToString([]byte(inner)) + " and 10.1.2.3\n"
			out := NewEngine(Options{Aliases: table, Matcher: NewMatcher(values)}).String(line)
			require.NotContains(t, out, "10.1.2.3")
			leaks, err := FindLeaks(NewMatcher(values), strings.NewReader(line))
			require.NoError(t, err)
			require.Len(t, leaks, 3, "the leak check opens it, too")
			var back bytes.Buffer
			n, err := Reveal(table, bufio.NewWriter(&back), strings.NewReader(out))
			require.NoError(t, err)
			require.Equal(t, 3, n, out)
			word := strings.Fields(back.String())[1]
			require.Equal(t, "blob: "+word+" and 10.1.2.3\n", back.String())
			if inner == text {
				plain, err := code.DecodeString(word)
				require.NoError(t, err)
				require.Equal(t, text, string(plain))
				continue
			}
			_, plain := unpack([]byte(strings.TrimRight(word, "=")), maxPackedGrowth)
			require.Equal(t, text, string(plain))
		}
	}
}

// A word without an end is longer than what is looked at in one go: the check goes on behind it, and ends.
func TestLeakCheckEndsBehindEndlessWords(t *testing.T) {
	m := NewMatcher([]Value{{Text: "brass-Kelp-71!", Class: alias.Secret, Rule: "keyed-secret"}})
	for _, head := range []string{"", "H4sI", "eJ"} {
		text := "x " + head + strings.Repeat("QUJD", 300_000) + " z brass-Kelp-71! w"
		leaks, err := FindLeaks(m, strings.NewReader(text))
		require.NoError(t, err)
		require.Len(t, leaks, 1)
	}
}

// Whatever the order in which texts are learned from and redacted, everybody has the same alias, also who is found on weak evidence.
func TestAliasesDoNotDependOnTheOrderOfTexts(t *testing.T) {
	texts := []string{"user: Marek Zielonka\nlogin mzielonka from 10.1.2.3\n",
		"<kari.s> asked Helga Vik; 0417;OKEKE;MARTHA;14.03.2031;05:58;IN\n2031 | 10.1.2.9 | hlindqvist | GET /x\nuser=ann\n",
		"<arne.t> told Nkechi Obi\nEARLY: Vik H., Okeke M.\n2031 | 10.1.2.8 | abellinsen | GET /x\nuser=bob dob: 1988-07-12\n"}
	redacted := func(order ...int) [3]string {
		l, out := NewLearned(), [3]string{}
		for _, i := range order {
			each := NewLearned() // as packing learns: file by file
			_, err := NewEngine(Options{Learned: each}).File(nil, strings.NewReader(texts[i]), Source{})
			require.NoError(t, err)
			l.Absorb(each)
		}
		all, first := l.Everything()
		table := NewTable()
		table.Give(first)
		e := NewEngine(Options{Aliases: table, Matcher: NewMatcher(all)})
		for _, i := range order {
			out[i] = e.String(texts[i])
		}
		return out
	}
	want := redacted(0, 1, 2)
	for _, order := range [][]int{{0, 2, 1}, {1, 0, 2}, {1, 2, 0}, {2, 0, 1}, {2, 1, 0}} {
		require.Equal(t, want, redacted(order...))
	}
}

// An address that is written as one number has the alias of the same address, as a number.
func TestAddressesAsOneNumber(t *testing.T) {
	e := NewEngine(Options{Aliases: alias.NewTable()})
	require.Equal(t, "from 240.0.0.1\n", e.String("from 192.0.2.7\n"))
	require.Equal(t, `{"ip": 4026531841, "src_ip": "0xf0000001"}`, e.String(`{"ip": 3221225991, "src_ip": "0xc0000207"}`))
	require.Equal(t, `{"ip": 4026531841, "src_ip": "0xf0000001"}`, e.String(`{"ip": 4026531841, "src_ip": "0xf0000001"}`))
}

// An expression of one's own is matched within lines, also where a long text has it only once.
func TestExpressions(t *testing.T) {
	for expr, want := range map[string]string{"PX[0-9]{4}": "PX", "(?i)px[0-9]": "", "a(bcd|bce)f": "bc",
		"[0-9]+-lane-[0-9]": "-lane-", "x|y": "", "(abc)+d": "abc"} {
		require.Equal(t, want, needed(expr), expr)
	}
	c := Config{Expressions: []Expression{{"pass", regexp.MustCompile(`PX[0-9]{4}`), alias.ID}, {"lane", regexp.MustCompile(`(?i)lane [a-z]+$`), alias.Secret}}}
	filler := strings.Repeat("PX is a prefix, and nothing more\n", 9000)
	require.Equal(t, filler+"id-2a, id-2b, id-2a: [redacted:lane]\n"+filler, gated(t,
		filler+"PX0001, PX0002, PX0001: Lane seven\n"+filler, c))
	twice := gated(t, gated(t, "PX0001 LANE x\n", c), c)
	require.Equal(t, "id-2a [redacted:lane]\n", twice)
}

// Classes can be kept or removed as a whole, and values left as they are.
func TestTreatments(t *testing.T) {
	text := "from 192.0.2.61 mail ines@merrowick.example user=m.quintela password=brass-Kelp-71! db7.pier.example\n"
	require.Equal(t, "from 192.0.2.61 mail [redacted:mail] user=m.quintela password=brass-Kelp-71! host-2a.example\n",
		gated(t, text, Config{Classes: map[alias.Class]Treatment{alias.IPv4: Keep, alias.Mail: Remove}, Off: map[string]bool{"user": true}, Never: []string{"brass-Kelp-71!"}, Domains: []string{"pier.example"}}))
}
