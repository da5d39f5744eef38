package scan

import (
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
	"envask/internal/redact/mutate"
)

func testTables() *Tables {
	return NewTables(map[string]bool{"password": true}, map[string]bool{"password": true, "key": true, "for": true, "user": true})
}

// What the kernel marks is what its tables say, byte by byte; and that is never less than what the contexts say.
func TestSieveMarksWhatTheTablesSay(t *testing.T) {
	if !chars.Vectors {
		t.Skip("this processor has no vectors")
	}
	samples, err := os.ReadFile("../testdata/recall.txt")
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(1, 2))
	s := testTables().sieveFor(keySigns, []string{"tallow.example"})
	for _, b := range [][]byte{samples, mutate.Noise(r, 40_000), mutate.Noise(r, 200)} {
		var m Marks
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
				require.Equal(t, strings.IndexByte(TextSigns, b[i]) >= 0, m.classes[quoteClass][1+w]&bit != 0, "quote at %q", b[i])
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

func TestStamp(t *testing.T) {
	around := strings.Repeat("x", find.Edge)
	for text, want := range map[string]bool{
		"2026-03-14T06:12:00.123": true, "2026-03-14 06:12:00,1": true, "2026-03-14T06:12:00Z": true, "9999-99-99T99:99:99 ": true,
		"2026-03-14T06:12:00-05:00": false, "2026-03-14x06:12:00Z": false, "2026-0a-14T06:12:00Z": false, "2026-03-14T06:12:00:1": false,
		"2026-03-14T06.12:00 ": false, "2026-03-14T06:12.00 ": false, ":026-03-14T06:12:00 ": false, "2026-03-1/T06:12:00 ": false,
		"2026-03-14T0::12:00 ": false, "202:-03-14T06:12:00 ": false,
	} {
		require.Equal(t, want, isStamp([]byte(around+text+around), find.Edge+4), text)
	}
}

// A byte that only a rule of the engineer's own is asked at is let through, in whatever stands around it.
func TestSieveKnowsTriggers(t *testing.T) {
	tables := testTables()
	for _, c := range []byte(keySigns + otherSigns + " ") {
		require.NotZero(t, tables.base().exact[contextBehind][c], "%q", c)
	}
	require.Zero(t, tables.base().exact[contextBehind]['~'])
	require.NotZero(t, tables.sieveFor(keySigns+"~", nil).exact[contextBehind]['~'])
}

// Places are taken out of what is looked at up to the borders of a stretch, which need not be those of words.
func TestClear(t *testing.T) {
	for from := 0; from < 200; from += 7 {
		for to := from; to < 256; to += 9 {
			m := Marks{from: 1000, to: 1256}
			for w := range 4 {
				m.spaces[w] = ^uint64(0)
			}
			m.Clear(1000+from, 1000+to)
			for i := range 256 {
				require.Equal(t, i < from || i >= to, m.spaces[i>>6]>>(i&63)&1 == 1, "%d of %d to %d", i, from, to)
			}
		}
	}
}

// Words that are long enough are seen at whatever place they begin.
func TestLongWords(t *testing.T) {
	if !chars.Vectors {
		t.Skip("this processor has no vectors")
	}
	for at := 100; at < 400; at++ {
		b := []byte(strings.Repeat(" ", at) + strings.Repeat("x", 24) + strings.Repeat(" ", 600-at))
		var m Marks
		require.True(t, m.fill(testTables().base(), b, find.Edge))
		var out []int
		m.LongWords(24, &out)
		if at > find.Edge+64 && at+24 < m.To() {
			require.NotEmpty(t, out, at)
		}
		for _, i := range out {
			require.Equal(t, byte('x'), b[i], at)
		}
		out = nil
		m.LongWords(25, &out)
		require.Empty(t, out, at)
	}
}
