package term

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func screen(width int) (*Screen, *bytes.Buffer, *bytes.Buffer) {
	var out, errOut bytes.Buffer
	s := New(strings.NewReader("yes\n"), &out, &errOut, false)
	s.Width = width
	return s, &out, &errOut
}

func TestCleanShowsControlBytesEscaped(t *testing.T) {
	for in, want := range map[string]string{"plain ümlaut": "plain ümlaut", "a\x1b[31mb": `a\u001b[31mb`, "a\nb\tc": `a\nb\tc`, "\xff": `\xff`, "\u202e": `\u202e`, "\x7f": `\u007f`, "\u009b": `\u009b`} {
		require.Equal(t, want, Clean(in))
	}
}

func FuzzClean(f *testing.F) {
	f.Add("a\x1b]0;x\x07")
	f.Fuzz(func(t *testing.T, s string) {
		for _, r := range Clean(s) {
			require.False(t, r < 0x20 || r >= 0x7f && r < 0xa0, "%q", s)
		}
	})
}

func TestTableOnWideNarrowAndNoTerminal(t *testing.T) {
	columns := []Column{{Title: "system"}, {Title: "size", Right: true}, {Title: "reason", Wide: true, Least: 20}}
	rows := [][]string{{"gate-1", "12 MiB", "permission denied for the service account of this gate"}, {"gate-2", "", ""}}
	for width, want := range map[int]string{
		Unlimited: "system    size  reason\n" + strings.Repeat("─", 72) + "\ngate-1  12 MiB  permission denied for the service account of this gate\ngate-2\n",
		50:        "system    size  reason\n" + strings.Repeat("─", 50) + "\ngate-1  12 MiB  permission denied for the\n                service account of this gate\ngate-2\n",
		30:        "system gate-1\n  size 12 MiB\n    reason permission\n      denied for the service\n      account of this gate\n\nsystem gate-2\n",
	} {
		s, out, _ := screen(width)
		s.Table(columns, rows)
		require.Equal(t, want, out.String(), width)
		for _, line := range strings.Split(out.String(), "\n") {
			require.LessOrEqual(t, len([]rune(line)), width, line)
		}
	}
}

func TestAskingAndSaying(t *testing.T) {
	s, out, errOut := screen(80)
	require.False(t, s.Live || s.Ask || s.Color, "a buffer is no terminal")
	yes, err := s.Confirm("Really?")
	require.NoError(t, err)
	require.True(t, yes)
	yes, err = s.Confirm("Again?")
	require.NoError(t, err)
	require.False(t, yes, "no answer is a no")
	_, err = s.Secret("Passphrase")
	require.ErrorContains(t, err, "nobody can be asked")
	s.Say("said")
	s.Detail("hidden")
	s.Quiet = true
	s.Say("unsaid")
	require.Equal(t, "Really? [y/N] Again? [y/N] said\n", errOut.String())
	require.Equal(t, "word", s.Paint(Bad, "word"))
	s.Color = true
	s.Print("%s", s.Paint(Bad, "word"))
	require.Equal(t, "\x1b[31mword\x1b[0m\n", out.String())
	out.Reset()
	s.Width = 40
	s.Field("name", "one two three four five six seven eight nine")
	require.Equal(t, "  name      one two three four five six\n            seven eight nine\n", out.String())
}

func TestBoardWithoutATerminalWritesPlainLines(t *testing.T) {
	s, _, errOut := screen(80)
	b := s.NewBoard()
	require.False(t, b.Live())
	b.Set("gate-1", "never seen")
	b.Above("gate-1 log: taken")
	b.Drop("gate-1")
	b.Close()
	require.Equal(t, "gate-1 log: taken\n", errOut.String())
}

func TestBoardDrawsInPlace(t *testing.T) {
	s, _, errOut := screen(40)
	s.Live = true
	b := s.NewBoard()
	require.True(t, b.Live())
	b.Set("gate-1", "%s", strings.Repeat("long ", 30))
	b.Set("gate-1", "short")
	b.Above("message")
	b.Drop("gate-1")
	b.Set("gate-2", "left open")
	b.Close()
	b.Set("gate-3", "too late")
	require.Contains(t, errOut.String(), "message\n")
	require.NotContains(t, errOut.String(), "too late")
}

func TestIndented(t *testing.T) {
	s := &Screen{Width: 40}
	require.Equal(t, "  short", s.Indented(2, 6, "short"))
	require.Equal(t, "  it fits once two blanks are one, yes", s.Indented(2, 6, "it fits  once  two blanks are one, yes"), "no empty line after it")
	require.Equal(t, "  a line that is longer than the\n      terminal is wide, and so goes on\n      further in", s.Indented(2, 6, "a line that is longer than the terminal is wide, and so goes on further in"))
	s.Width = 0
	require.Equal(t, "  "+strings.Repeat("x ", 100), s.Indented(2, 6, strings.Repeat("x ", 100)), "without a terminal nothing is wrapped")
}
