package find

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The people that a short text names, marked ‹so›; all else is none.
func TestGivenNames(t *testing.T) {
	for _, line := range []string{
		"06:10 handover from ‹Tomas Quill› to ‹Maire Sorley›, keys in the box",
		"vendor called back (‹Ingrid Aas›, +47 22 55 01 90)",
		"2210 => 4471,‹Maire Sorley›,x@y.example",
		`      "‹Ingrid Aas› <x@y.example>"`,
		"asked ‹Agnieszka Nowak-Lis› about it",
		"06:20 reported by phone to ‹Ingrid Aas›, who authorized six trials of ‹Tomas Quill›",
		"sent from New York to Los Angeles",
		"a table from Fare Server to Lane Two",
		"‹Ingrid Aas› stands there alone",
		"09:14 | GATE-3 | ‹Maire Sorley› | ok",
		"Gate 4 was opened by hand, ‹Tomas Quill› held the key",
		"to the port of Victoria Sund", "aboard the ferry Ingrid Aas", "call Super Ingrid Aas now", "Ingrid Aas Hall is closed",
		"Ingrid Aas/x",
		"as of ‹M. Sorleysen›, E. Faecalis Test",
		"patch from Tomas Quill", // the credits of a program
		"# found by Tomas Quill",
		"by Tomas_Quill, by Tomas Quill()",
		"fixed it (‹Tomas Quill›)\n",
	} {
		plain := strings.NewReplacer("‹", "", "›", "").Replace(line)
		var want, got []string
		for _, part := range strings.Split(line, "‹")[1:] {
			name, _, _ := strings.Cut(part, "›")
			want = append(want, name)
		}
		GivenNames([]byte(plain), 0, len(plain), func(start, end int) { got = append(got, plain[start:end]) })
		require.Equal(t, want, got, line)
	}
}
