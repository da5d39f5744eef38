package redact

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The head of a table counts for all of its rows, over the blocks in which a text is read, and no further than to its end.
func TestTablesAreReadToTheirEnd(t *testing.T) {
	for _, c := range []struct{ name, head, row string }{
		{"separators", "id,login,password,lane\n", "%d,crew%[1]d,brass-Kelp-%[1]d,4\n"},
		{"fields", "  PID USER      PR  NI    VIRT    RES %CPU COMMAND\n", "%d crew%[1]d  20   0  712344  56788 0.3 fared\n"},
		{"web log", "#Software: x\n#Fields: date time cs-method cs-username cs(Cookie) sc-status\n", "2026-03-14 06:12:00 GET crew%d brass-Kelp-%[1]d 200\n"},
		{"dump", "x\nCOPY crew (id, login, password) FROM stdin;\n", "%d\tcrew%[1]d\tbrass-Kelp-%[1]d\n"},
		{"client", "x\n id | login | password\n----+-------+----------\n", " %d | crew%[1]d | brass-Kelp-%[1]d\n"},
	} {
		var text strings.Builder
		text.WriteString(c.head)
		for i := 1; text.Len() < 3*blockSize; i++ {
			fmt.Fprintf(&text, c.row, i)
		}
		text.WriteString("\nand then crew7 said: 4,crew8,brass-Kelp-9,4\n")
		var whole, pieces bytes.Buffer
		e := NewEngine(Options{})
		_, err := e.Text(&whole, strings.NewReader(text.String()))
		require.NoError(t, err)
		got, end, _ := strings.Cut(whole.String(), "\nand then ")
		assert.NotContains(t, got, "crew1", c.name)
		assert.NotContains(t, got, "brass-", c.name)
		assert.Equal(t, "crew7 said: 4,crew8,brass-Kelp-9,4\n", end, c.name)
		_, err = NewEngine(Options{}).Text(&pieces, iotest.OneByteReader(strings.NewReader(text.String())))
		require.NoError(t, err)
		assert.Equal(t, whole.Len(), pieces.Len(), c.name)
		assert.Equal(t, redactText(t, whole.String()), whole.String(), c.name)

		_, err = e.Text(&pieces, strings.NewReader("4,crew8,brass-Kelp-9,4\n4 crew8  20   0  712344  56788 0.3 fared\n"))
		require.NoError(t, err)
		assert.True(t, bytes.HasSuffix(pieces.Bytes(), []byte("4,crew8,brass-Kelp-9,4\n4 crew8  20   0  712344  56788 0.3 fared\n")), c.name+": a table does not go on in the next text")
	}
}

// A head may be the last line of a block, and the rule below it the first of the next one.
func TestHeadOfATableAtTheEndOfABlock(t *testing.T) {
	const head, rest = " id | login | password\n", "----+-------+----------\n  1 | quintela | brass-Kelp-71\n"
	for over := range 4 {
		pad := blockSize - len(head) + 1 - over
		text := strings.Repeat("lane 4 is open.\n", pad/16) + strings.Repeat("x", pad%16) + "\n" + head + rest
		out := redactText(t, text)
		assert.NotContains(t, out, "brass-Kelp-71", over)
		assert.NotContains(t, out, "quintela", over)
	}
	assert.Contains(t, redactText(t, head+"  1 quintela brass-Kelp\n"), "brass-Kelp", "without a rule or rows it is no table")
}
