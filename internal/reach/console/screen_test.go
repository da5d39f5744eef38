package console

import (
	"bytes"
	"io"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// shown gives the lines that stand there after some bytes, the one that is not ended last.
func shown(b []byte) (lines []string) {
	s := screen{}
	s.done = func(line []byte) { lines = append(lines, string(line)) }
	s.write(b)
	return append(lines, string(s.line))
}

func TestWhatStandsThereInTheEnd(t *testing.T) {
	for in, want := range map[string]string{
		"plain\r\nlines\r\n":                                     "plain|lines|",
		"wiped\r     \rnew":                                      "new",
		"--More--\r        \rnext line\r\n":                      "next line|",
		"--More--\b\b\b\b\b\b\b\b        \b\b\b\b\b\b\b\bnext\n": "next|",
		"\x1b[7m--More--\x1b[m\r250\x1b[K\r\n":                   "250|",
		"\x1b]0;a title\x07deck> ":                               "deck> ",
		"\x1b]0;a title\x1b\\deck> ":                             "deck> ",
		"a\x07\x00\x0eb":                                         "ab",
		"abc\x1b[2Dx":                                            "axc",
		"over\rO":                                                "Over",
		"t\x08\xc3\xa9\x08e":                                     "e",
		"col\x1b[5Cumn":                                          "col     umn",
		"gone\x1b[2K\rhere":                                      "here",
		"a\x1b(Bb\x1b=c":                                         "abc",
		"lost end \x1b]0;title\nnext":                            "lost end |next",
		"tab\there":                                              "tab\there",
	} {
		require.Equal(t, strings.Split(want, "|"), shown([]byte(in)), "%q", in)
	}
}

func TestALineWithoutEndIsPassedOn(t *testing.T) {
	s, got := screen{}, 0
	s.done = func(line []byte) { got += len(line) }
	chunk := bytes.Repeat([]byte("x"), 100_000)
	for range 50 {
		s.write(chunk)
		require.Less(t, len(s.line), maxLine+len(chunk))
	}
	require.Equal(t, 5_000_000, got+len(s.line))
}

func FuzzScreen(f *testing.F) {
	f.Add([]byte("--More--\r        \r\x1b[7mx\x1b[m\x1b[K\x1b[999999999C\x1b]x\x07\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		s := screen{}
		s.done = func(line []byte) {
			for _, c := range line {
				if c < ' ' && c != '\t' || c == 0x7f {
					t.Fatalf("control byte %x in a line", c)
				}
			}
		}
		s.write(b)
		if s.at < 0 || s.at > len(s.line) {
			t.Fatalf("the cursor is at %d of %d", s.at, len(s.line))
		}
	})
}

func TestPagersAreKnown(t *testing.T) {
	for line, key := range map[string]string{
		"--More--": " ", " --More-- (52%)": " ", "<--- More --->": " ", "-- More -- , next page: Space, quit: q": " ", "more?": " ",
		"Press any key to continue (Q to quit)": " ", "Press <Enter> to continue": "\r", "Type <CR> for more": "\r", "(END)": "q", ":": " ",
		"lines 1-23": " ", "Press SPACE to go on": " ",
		"deck> ": "", "more of the same follows here": "", "There are 3 more.": "", "Password:": "", "Continue? [y/n]": "",
		"Press Enter to confirm the deletion": "", "Press any key to reboot": "", "Hit <Enter> to overwrite core-1": "",
		"Press any key to continue with the upgrade": "", "Press Enter to save": "",
	} {
		got, _ := pageKey(strings.TrimSpace(line))
		require.Equal(t, key, got, line)
	}
}

func TestPromptsAreRecognised(t *testing.T) {
	var p prompt
	p.learn("deck-1(config)# ")
	for _, yes := range []string{"deck-1(config)#", "deck-1# ", "deck-1>", "deck-1(config-port)# "} {
		require.True(t, p.matches(yes), yes)
	}
	for _, no := range []string{"", "deck-1# show clock", "deck-2#", "deck-1", "  "} {
		require.False(t, p.matches(no), no)
	}
}

func TestSecretsAreTakenOut(t *testing.T) {
	s := &secrets{}
	s.add("brass-Kelp-71")
	s.add("abc") // too short to be taken out wherever it stands
	var out bytes.Buffer
	r := record{secrets: s, to: &out}
	for _, b := range []byte("say brass-Kelp-71 and brass-Kelp-7, abc, brass-Kelp-71") {
		require.NoError(t, r.write([]byte{b}))
	}
	require.NoError(t, r.end())
	require.Equal(t, "say [hidden] and brass-Kelp-7, abc, [hidden]", out.String())
}

// pipe gives both ends of a connection.
func pipe(t testing.TB) (net.Conn, net.Conn) {
	t.Helper()
	a, b := net.Pipe()
	t.Cleanup(func() { a.Close(); b.Close() })
	return a, b
}

func TestTelnetAnswersAndDeclines(t *testing.T) {
	ours, theirs := pipe(t)
	tn := Telnet(ours)
	defer tn.Close()
	go func() {
		_, _ = theirs.Write([]byte{255, 251, 1, 255, 253, 31, 255, 253, 39, 255, 250, 24, 1, 255, 240, 'h', 255, 255, '\r', 0, 'i',
			255, 251, 1})
	}()
	want := []byte{255, 253, 1, 255, 251, 31, 255, 250, 31, 1, 255, 255, 0, 250, 255, 240, 255, 252, 39,
		255, 250, 24, 0, 'v', 't', '1', '0', '0', 255, 240}
	go func() {
		said := make([]byte, len(want))
		_, err := io.ReadFull(theirs, said)
		if err == nil && bytes.Equal(want, said) { // each option is answered once
			theirs.Close()
		}
	}()
	text, err := io.ReadAll(tn)
	require.NoError(t, err)
	require.Equal(t, "h\xff\ri", string(text))
}

func FuzzTelnet(f *testing.F) {
	f.Add([]byte{255, 253, 31, 255, 250, 24, 1, 255, 240, 'x', 255, 255, '\r', 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		ours, theirs := net.Pipe()
		tn := Telnet(ours)
		go func() { _, _ = io.Copy(io.Discard, theirs) }()
		go func() { _, _ = theirs.Write(b); theirs.Close() }()
		got, _ := io.ReadAll(tn)
		if len(got) > len(b) {
			t.Fatalf("%d bytes became %d", len(b), len(got))
		}
		tn.Close()
	})
}
