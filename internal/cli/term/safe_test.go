package term

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

func FuzzSafe(f *testing.F) {
	for _, s := range []string{"plain", "\x1b[31mred\x1b[0m", "\u009b2J", "a\nb\tc\r", "\xff\xfe", "\u202e", "\x1b[31;123456789m"} {
		f.Add(s, 3)
	}
	f.Fuzz(func(t *testing.T, s string, at int) {
		out := safe(s)
		require.False(t, strings.ContainsFunc(strings.ReplaceAll(strings.ReplaceAll(out, "\n", ""), "\x1b[0m", ""), steers), "%q", out)
		require.True(t, utf8.ValidString(out))
		// In two pieces it is the same as in one.
		var whole, pieces bytes.Buffer
		for w, parts := range map[*bytes.Buffer][]string{&whole: {s}, &pieces: {s[:len(s)*(at&7)/8], s[len(s)*(at&7)/8:]}} {
			to := Foreign(w)
			for _, p := range parts {
				_, err := to.Write([]byte(p))
				require.NoError(t, err)
			}
			require.NoError(t, to.Close())
		}
		require.Equal(t, whole.String(), pieces.String())
		// JSON says what it said.
		var doc bytes.Buffer
		require.NoError(t, json.NewEncoder(JSON(&doc)).Encode(s))
		require.False(t, strings.ContainsFunc(strings.TrimSuffix(doc.String(), "\n"), steers), doc.String())
		var back string
		require.NoError(t, json.Unmarshal(doc.Bytes(), &back))
		if utf8.ValidString(s) {
			require.Equal(t, s, back)
		}
	})
}

func TestOursIsToldFromTheirs(t *testing.T) {
	require.Equal(t, "\x1b[31mword\x1b[0m", safe(paint("31", "word")))
	require.Equal(t, `\u001b[31mword`+"\x1b[0m", safe("\x1b[31mword\x1b[0m"), "only an end of colours is taken from others")
}
