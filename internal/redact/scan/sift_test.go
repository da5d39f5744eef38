package scan

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/chars"
)

// What the kernel sifts is what can be read from the bytes, one by one.
func TestSiftLeavesOutOnlyDatesTimesFractionsAndShortWords(t *testing.T) {
	if !chars.Vectors {
		t.Skip("this processor has no vectors")
	}
	r := rand.New(rand.NewPCG(5, 6))
	parts := []string{"2026-03-14", "06:12:00", ".123", " ", "=", ":", "-", ".", "192.0.2.10", "00-00-5e-00-53-01", "00:00:5e:00:53:01", "x", "1.5", "4111111111111111", "4111-1111-1111-1111", "GB82WEST12345698765432", "GB82 WEST 1234 5698 7654 32", "[", "\\", "lane-1", "sk-live_4", "xoxb-12"}
	var b []byte
	for len(b) < 30_000 {
		b = append(b, parts[r.IntN(len(parts))]...)
	}
	is := func(set func(byte) bool, i, n int) bool {
		for k := range n {
			if !set(b[i+k]) {
				return false
			}
		}
		return true
	}
	first := func(i int) bool { // the first colon of a time with seconds
		return b[i] == ':' && is(chars.IsDigit, i-2, 2) && is(chars.IsDigit, i+1, 2) && b[i+3] == ':' && is(chars.IsDigit, i+4, 2) && !chars.IsHex(b[i-3]) && b[i-3] != ':' && !chars.IsHex(b[i+6]) && b[i+6] != ':'
	}
	inKey := func(i int) bool { return chars.IsKeyByte(b[i]) && b[i] != '-' }
	short := func(i int) bool { return inKey(i-1) && inKey(i+1) && !is(chars.IsKeyByte, i+2, 3) }
	between := func(i int) bool { return chars.IsDigit(b[i-1]) && chars.IsDigit(b[i+1]) }
	g := testTables().New(Needs{Triggers: keySigns, Numbers: []*Number{{Cards, nil}, {Accounts, nil}}}, nil)
	m := &g.marks
	left := map[int]int{}
	for at := 64; m.fill(g.sieve, b, at); at = m.to {
		words := (m.to - m.from) / 64
		g.sift(words)
		for i := m.from + 64; i < m.to-64; i++ {
			w, bit := (i-m.from)>>6, uint64(1)<<((i-m.from)&63)
			other := m.others[w]&m.classes[signClass][1+w]&bit != 0
			near := b[i+2] == '.' || b[i+3] == '.' || b[i+4] == '.' || b[i+5] == '.'
			want := [siftedCount]bool{
				separatorSifted: m.classes[separatorClass][1+w]&bit != 0 && b[i] != '=' && !first(i) && !first(i-3),
				dashSifted:      other && b[i] == '-' && !(between(i) && (b[i+3] != '-' || chars.IsHex(b[i-3]))) && !short(i),
				dotSifted:       other && b[i] == '.' && !(between(i) && !near && (!chars.IsDigit(b[i-2]) || b[i-3] == ':' || chars.IsDigit(b[i-3]))),
				otherSifted:     other && b[i] != '-' && b[i] != '.',
			}
			for row := range accountSifted + 1 {
				got := m.sifted[row][w]&bit != 0
				if got {
					left[row]++
				}
				if row < cardSifted {
					require.Equal(t, want[row], got, "row %d at %q", row, b[i-6:i+8])
				}
			}
		}
	}
	for row := range siftedCount {
		require.Greater(t, left[row], 20, "row %d", row)
		require.Less(t, left[row], len(b)/4, "row %d", row)
	}
	require.NotEmpty(t, g.hots)
}
