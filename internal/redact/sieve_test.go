package redact

import (
	"bytes"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// portable runs a test without vectors, as on processors that have none.
func portable(t testing.TB, run func()) {
	t.Helper()
	had := chars.Vectors
	chars.Vectors = false
	defer func() { chars.Vectors = had }()
	run()
}

// noise is text of all kinds of bytes, most of them such as logs have.
func noise(r *rand.Rand, n int) []byte {
	const usual = "abcdefghijklmnopqrstuvwxyzABCDEF0123456789    ..--::==//[](){},;@_\\%&*$\"'\t\n"
	b := make([]byte, n)
	for i := range b {
		if b[i] = usual[r.IntN(len(usual))]; r.IntN(20) == 0 {
			b[i] = byte(r.IntN(256))
		}
	}
	return b
}

// What the kernel marks is what its tables say, byte by byte; and that is never less than what the contexts say.
func TestSieveMarksWhatTheTablesSay(t *testing.T) {
	if !chars.Vectors {
		t.Skip("this processor has no vectors")
	}
	samples, err := os.ReadFile("testdata/recall.txt")
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(1, 2))
	s := sieveFor(Rules, []string{"tallow.example"})
	for _, b := range [][]byte{samples, noise(r, 40_000), noise(r, 200)} {
		var m marks
		seen, fitting := 0, 0
		for at := find.Edge; m.fill(s, b, at); at = m.to {
			for i := m.from; i < m.to; i++ {
				w, bit := (i-m.from)>>6, uint64(1)<<((i-m.from)&63)
				space, other := byte(0xff), byte(0xff)
				for k, p := range otherPlaces {
					c := b[i-contextBehind+p]
					other &= s.places.other[k][0][c&15] & s.places.other[k][1][c>>4]
				}
				for p := range contextBehind {
					c := b[i-contextBehind+p]
					space &= s.places.space[p][0][c&15] & s.places.space[p][1][c>>4]
				}
				if b[i] != ' ' {
					space = 0
				}
				require.Equal(t, space != 0, m.spaces[w]&bit != 0, "space at %q", b[i-3:i+5])
				require.Equal(t, other != 0, m.others[w]&bit != 0, "other at %q", b[i-3:i+5])
				require.Equal(t, chars.IsKeyByte(b[i]), m.classes[keyClass][1+w]&bit != 0, "key at %q", b[i])
				require.Equal(t, chars.IsDigit(b[i]), m.classes[digitClass][1+w]&bit != 0, "digit at %q", b[i])
				require.Equal(t, chars.IsUpper(b[i]), m.classes[capitalClass][1+w]&bit != 0, "capital at %q", b[i])
				require.Equal(t, strings.IndexByte(keySigns, b[i]) >= 0, m.classes[separatorClass][1+w]&bit != 0, "separator at %q", b[i])
				require.Equal(t, strings.IndexByte(otherSigns, b[i]) >= 0, m.classes[signClass][1+w]&bit != 0, "sign at %q", b[i])
				require.Equal(t, chars.IsHex(b[i]), m.classes[hexClass][1+w]&bit != 0, "hexadecimal at %q", b[i])
				for class, sign := range map[int]byte{colonClass: ':', equalsClass: '=', dashClass: '-', dotClass: '.', commaClass: ','} {
					require.Equal(t, b[i] == sign, m.classes[class][1+w]&bit != 0, "%q at %q", sign, b[i])
				}
				require.Equal(t, strings.IndexByte(textSigns, b[i]) >= 0, m.classes[quoteClass][1+w]&bit != 0, "quote at %q", b[i])
				if seen++; s.fits(b, i) {
					fitting++
					require.True(t, (m.spaces[w]|m.others[w]|m.classes[separatorClass][1+w])&bit != 0, "%q fits and is not marked", b[i-3:i+5])
				}
			}
		}
		require.Greater(t, fitting, 0)
		require.Less(t, fitting, seen/2, "the sieve lets most of the text through")
		if len(b) > 1000 {
			require.Greater(t, seen, len(b)-find.Edge*2-64)
		}
	}
}

// Every trigger of a rule is a place at which the sieve can let something through.
func TestSieveKnowsAllTriggers(t *testing.T) {
	for _, r := range Rules {
		for _, c := range []byte(r.Triggers) {
			require.NotZero(t, baseSieve().exact[contextBehind][c], "%s: %q", r.Name, c)
		}
	}
	own := append([]Rule{{Name: "own", Triggers: "~"}}, Rules...)
	require.NotZero(t, sieveFor(own, nil).exact[contextBehind]['~'])
}

// The engine gives the same with vectors and without, for numbers above all, which are found in two ways.
func TestVectorsChangeNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	numbers := []string{"4111111111111111", "4111 1111 1111 1111", "4111-1111-1111-1111", "378282246310005", "3782 822463 10005", "4222222222222", "4222-222222-222",
		"GB82WEST12345698765432", "GB82 WEST 1234 5698 7654 32", "DE89370400440532013000", "NO9386011117947", "NO93 8601 1117 947", "1773446400123", "OT04120525"}
	for range 400 {
		b := noise(r, 1+r.IntN(400))
		for range r.IntN(8) {
			n := numbers[r.IntN(len(numbers))]
			b = append(append(b, n...), noise(r, r.IntN(130))...)
			if r.IntN(3) == 0 {
				b = append(b, ' ')
			}
		}
		text := string(bytes.Repeat(b, 1+r.IntN(3)))
		with := gated(t, text, Config{})
		portable(t, func() { require.Equal(t, gated(t, text, Config{}), with) })
		require.Equal(t, ungated(t, text, Config{}), with)
	}
}

func TestEveryNumberIsFoundAtEveryPlace(t *testing.T) {
	for _, n := range []string{"4111111111111111", "4222-222222-222", "GB82 WEST 1234 5698 7654 32", "NO9386011117947"} {
		for i := range 200 {
			text := strings.Repeat("x", i) + " " + n + " "
			require.NotContains(t, gated(t, text+strings.Repeat("y ", 100), Config{}), n, "%s at %d", n, i)
			require.NotContains(t, gated(t, text, Config{}), n, "%s at %d, at the end", n, i)
		}
	}
}
