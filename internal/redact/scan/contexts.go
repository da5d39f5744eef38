package scan

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// The contexts in which a rule may find something, for the sieve: they let through whatever worth lets through.

// letters are the sets of each byte in both cases; many contexts share them.
var letters = sync.OnceValue(func() *[256]chars.ByteSet {
	all := new([256]chars.ByteSet)
	for c := range all {
		all[c] = *bothCases(byte(c))
	}
	return all
})

// letter is one byte in both cases. The set is shared.
func letter(c byte) *chars.ByteSet { return &letters()[c] }

func bothCases(c byte) *chars.ByteSet {
	s := new(chars.ByteSet)
	s[c] = true
	if c|0x20 >= 'a' && c|0x20 <= 'z' {
		s[c|0x20], s[c&^0x20] = true, true
	}
	return s
}

// keySigns are separators and other signs that are looked at whatever stands around them.
const keySigns = ":;=>,|@\t$"

// otherContexts say what, a bucket each. Which go into one was found by trying: together they should let through as little of
// usual logs as can be. Those of domains are in the last one.
var otherContexts = sync.OnceValue(func() []family {
	return []family{
		{tokenContexts("_"), 1},
		{slices.Concat(behind("/", chars.BytesOf("t"), chars.BytesOf("s")), behind("/", chars.BytesOf("e"), chars.BytesOf("r")),
			between([]*chars.ByteSet{anyCapital}, "/", anyCapital), tokenContexts(".")), 1},
		{append(behind("J", chars.BytesOf("y")), at("\xef", chars.BytesOf("\xbc"), chars.BytesOf("\x9a\x9d"))...), 1},
		{append(at("{", chars.BytesOf("SMCPsA3")), at("A", chars.BytesOf("KSRI"))...), 1},
		{append(at("[", chars.BytesOf("r"), chars.BytesOf("e"), chars.BytesOf("d"), chars.BytesOf("a")), at("[", anyDigit,
			nil, chars.BytesOf("/"))...), 1},
		{slices.Concat(at("/", chars.BytesOf("hU")), at("/", chars.BytesOf("m"),
			chars.BytesOf("a")), at("/", chars.BytesOf("c"), chars.BytesOf("r")), at("&", chars.BytesOf("#c")), at(")", chars.BytesOf(" ")),
			between([]*chars.ByteSet{chars.BytesOf(" ")}, "?", chars.BytesOf(" "))), 1},
		{slices.Concat(at(`\`, chars.BytesOf(`uUhD\`)), behind(`\`,
			anyCapital), behind(`\`, anyDigit), behind(`\`, chars.BytesOf("-")),
			at("-", chars.BytesOf("->")), optionContexts(), tokenContexts("-"),
			at("(", chars.BytesOf(`"'`)), behind("(", anyDigit), behind("(", chars.BytesOf("rRwW"), letter('d')), behind("(",
				letter('s')), behind("(", letter('s'), chars.BytesOf(" \n")), behind("(", chars.BytesOf(")"), chars.BytesOf(",")),
			behind("(", chars.BytesOf(")"), chars.BytesOf(","), chars.BytesOf(" \n"))), 1},
		{slices.Concat(dashedContexts(), dottedContexts(), at("%",
			chars.BytesOf("2345")), at("*", anyHex), at("B", chars.BytesOf("ea")),
			between([]*chars.ByteSet{&find.BeforeNumber}, "+", anyDigit),
			between([]*chars.ByteSet{chars.BytesOf("t"), chars.BytesOf("e")}, "-", chars.BytesOf("L")), domainContexts()), 1},
	}
})

// at makes a context for each of some signs, so that the sieve can put together what fits together.
func at(signs string, behind ...*chars.ByteSet) []context { return between(nil, signs, behind...) }

func between(before []*chars.ByteSet, signs string, behind ...*chars.ByteSet) (all []context) {
	for _, sign := range []byte(signs) {
		var c context
		copy(c[contextBehind-len(before):], before)
		c[contextBehind] = chars.BytesOf(string([]byte{sign}))
		copy(c[contextBehind+1:], behind)
		all = append(all, c)
	}
	return all
}

func behind(signs string, before ...*chars.ByteSet) []context { return between(before, signs) }

var anyDigit, anyHex, anyCapital = chars.BytesThat(chars.IsDigit), chars.BytesThat(chars.IsHex), chars.BytesThat(chars.IsUpper)

// optionContexts are those of the dashes of options, and of host names that are addresses: ip-192-0-2-11.
func optionContexts() []context {
	before := chars.BytesThat(func(c byte) bool { return beforeOption[c] })
	return append(between([]*chars.ByteSet{before}, "-", chars.BytesThat(func(c byte) bool { return c != ' ' })),
		behind("-", chars.BytesOf("i"), chars.BytesOf("p"))...)
}

// dashedContexts are those of hardware addresses with dashes.
func dashedContexts() (all []context) {
	for _, noHex := range []func(byte) bool{ // in pieces that low and high halves of bytes can tell
		func(c byte) bool { return c>>4 == 3 },
		func(c byte) bool { return c>>4 == 4 || c>>4 == 6 },
		func(c byte) bool { return c>>4 != 3 && c>>4 != 4 && c>>4 != 6 },
	} {
		before := []*chars.ByteSet{chars.BytesThat(func(c byte) bool { return noHex(c) && !chars.IsHex(c) }), nil, anyHex}
		all = append(all, between(before, "-", anyHex, nil, chars.BytesOf("-"))...)
	}
	return all
}

// dottedContexts are those of addresses and hardware addresses with dots, at their first one.
func dottedContexts() []context {
	dot, digit := chars.BytesOf("."), []*chars.ByteSet{anyDigit}
	more := chars.BytesThat(func(c byte) bool { return chars.IsDigit(c) || c == '.' })
	return slices.Concat(
		between(digit, ".", anyDigit, dot, anyDigit, more), between(digit, ".", anyDigit, anyDigit, dot, anyDigit),
		between(digit, ".", anyDigit, anyDigit, anyDigit, dot),
		between([]*chars.ByteSet{anyHex}, ".", anyHex, anyHex, anyHex, anyHex),
	)
}

// domainContexts are those of private domains.
func domainContexts() (all []context) {
	for _, d := range find.PrivateDomains {
		all = append(all, at(".", letter(d[0]), letter(d[1]), letter(d[2]))...)
	}
	return all
}

// tokenContexts are those of the tokens of services at their first sign of each kind.
func tokenContexts(signs string) (all []context) {
	for _, t := range find.TokenShapes {
		for _, sign := range []byte(signs) {
			if i := strings.IndexByte(t.Head, sign); i >= 2 {
				all = append(all, behind(string([]byte{sign}), chars.BytesOf(t.Head[i-2:i-1]), chars.BytesOf(t.Head[i-1:i]))...)
			}
		}
	}
	return all
}

// spaceContexts are those of the ends of the words behind which, with a space between, something may stand, and of the modes
// of files in listings.
func (t *Tables) spaceContexts() []context {
	last := chars.BytesOf("x-sStT")
	all := append(behind(" ", chars.BytesOf("r-"), chars.BytesOf("w-"),
		last), behind(" ", chars.BytesOf("w-"), last, chars.BytesOf(".+@"))...)
	for _, end := range t.announcerEnds() {
		var before []*chars.ByteSet
		for _, c := range []byte(end) {
			before = append(before, letter(c))
		}
		all = append(all, behind(" ", before...)...)
	}
	return all
}

// endOrder is the order in which the ends of announcers are put into buckets, found by trying: with it the fewest spaces of
// usual logs and prose are let through. Those that are not in it come last.
const endOrder = `ram des nha aes dpw ctl sin pin as by ear end eap ha1 key uth cii unt set ted ity ntf dr. ec6 ase ned rds cho rau
	ame is out ort nel ret uid ete etx ain gin ken for 256 ner md5 ord mrs ode sks err her ole est ing ion mod ty6 der tok swd own del
	ser sec tpw of. rpw ged rs. sha psk pwd ink ple age tor net mr. mr enc hex env otp ash ost ms. yee add ass ext hr.`

// titleEnds are the ends of titles with a dot, see isTitled.
var titleEnds = func() (ends []string) {
	for _, t := range find.DottedTitles {
		ends = append(ends, t[len(t)-2:]+".")
	}
	return ends
}()

// announcerEnds gives the last letters of announcers and titles, each once.
func (t *Tables) announcerEnds() (ends []string) {
	left := map[string]bool{}
	for _, end := range titleEnds {
		left[end] = true
	}
	for _, words := range t.anchors {
		for w := range words {
			left[w[max(0, len(w)-contextBehind):]] = true
		}
	}
	for _, end := range strings.Fields(endOrder) {
		if left[end] {
			ends = append(ends, end)
			delete(left, end)
		}
	}
	return append(ends, slices.Sorted(maps.Keys(left))...)
}
