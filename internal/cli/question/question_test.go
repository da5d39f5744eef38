package question

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// typist types into questions, and is told what they keep.
type typist struct {
	t    *testing.T
	keys *io.PipeWriter
	kept chan string
	done chan error
}

func begin(t *testing.T, ctx context.Context, questions []Question) *typist {
	t.Helper()
	in, keys := io.Pipe()
	p := &typist{t: t, keys: keys, kept: make(chan string, 100), done: make(chan error, 1)}
	for i := range questions {
		if questions[i].Keep == nil {
			questions[i].Keep = func(answer string) error {
				p.kept <- answer
				return nil
			}
		}
	}
	var out bytes.Buffer
	go func() { p.done <- Ask(ctx, Terminal{In: in, Out: &out, Columns: 60}, questions) }()
	t.Cleanup(func() { keys.Close() })
	return p
}

func (p *typist) types(keys string) { _, _ = io.WriteString(p.keys, keys) }

// keeps types, and wants an answer to be kept then.
func (p *typist) keeps(keys, want string) {
	p.t.Helper()
	p.types(keys)
	require.Equal(p.t, want, <-p.kept)
}

func TestEachAnswerIsKeptAtOnce(t *testing.T) {
	chosen := ""
	p := begin(t, context.Background(), []Question{
		{Text: "How often?", Most: 100},
		{Text: "What happens?", Lines: true, Most: 1000},
		{Text: "Since when?", Offer: "06:12", Most: 100},
		{Text: "How bad?", Choices: []Choice{{"halted", "halted", "nobody boards"}, {"hindered", "hindered", ""}}, Keep: nil},
		{Text: "Why that bad?", Most: 100, Skip: func() bool { return chosen == "" }},
		{Text: "Which serial?", Other: true, Choices: []Choice{{"OG1", "OG1", ""}, {"OG2", "OG2", ""}}, Most: 100},
	})
	p.keeps("always\r", "always")
	p.keeps("it is red\rand E4417\r\r", "it is red\nand E4417")
	p.keeps("\r", "") // what is offered
	p.keeps("\r", "") // Enter alone chooses nothing, so nobody asks why
	p.keeps("\x1b[B\x1b[B\r", "OG2")
	require.NoError(t, <-p.done)
	require.Empty(t, chosen)
}

func TestTheAnswerOfNoChoice(t *testing.T) {
	p := begin(t, context.Background(), []Question{
		{Text: "Which serial?", Other: true, Choices: []Choice{{"OG1", "OG1", ""}, {"OG2", "OG2", ""}}, Most: 100},
	})
	p.types("\x1b[B\x1b[B\x1b[B\r")
	p.keeps("OG3\r", "OG3")
	require.NoError(t, <-p.done)
}

// A wrong answer stays to be corrected, and the next question waits.
func TestAWrongAnswerStays(t *testing.T) {
	tried := make(chan string, 10)
	p := begin(t, context.Background(), []Question{
		{Text: "Serial?", Most: 100, Keep: func(answer string) error {
			tried <- answer
			if !strings.HasPrefix(answer, "OG") {
				return errors.New("it begins with OG")
			}
			return nil
		}},
		{Text: "Phone?", Most: 100},
	})
	p.types("4417\r")
	require.Equal(t, "4417", <-tried)
	p.types("\x7f\x7f\x7f\x7fOG4417\r")
	require.Equal(t, "OG4417", <-tried)
	p.keeps("+351\r", "+351")
	require.NoError(t, <-p.done)
}

// Escape keeps what is typed, Ctrl-C does not; going back to an empty answer takes nothing.
func TestLeaving(t *testing.T) {
	ask := func() []Question { return []Question{{Text: "A?", Most: 9}, {Text: "B?", Offer: "offered", Most: 9}} }
	p := begin(t, context.Background(), ask())
	p.keeps("a\r", "a")
	p.types("\x1b[Z") // back
	p.keeps("b\r", "ab")
	p.types("half")
	p.keeps("\x1b", "half")
	require.ErrorIs(t, <-p.done, ErrLeft)

	p = begin(t, context.Background(), ask())
	p.keeps("a\r", "a")
	p.types("half\x03")
	require.ErrorIs(t, <-p.done, context.Canceled)
	require.Empty(t, p.kept)

	ctx, cancel := context.WithCancel(context.Background())
	p = begin(t, ctx, ask())
	p.keeps("a\r", "a")
	cancel()
	require.ErrorIs(t, <-p.done, context.Canceled)
}

// What is pasted is text, whatever it holds, and no longer than it may be.
func TestPasted(t *testing.T) {
	p := begin(t, context.Background(), []Question{{Text: "A?", Most: 5}, {Text: "B?", Lines: true, Most: 100}})
	p.keeps("\x1b[200~1234567890\x1b[201~\r", "12345")
	p.keeps("\x1b[200~one\ntwo\x07\n\nthree\x1b[201~\r\r", "one\ntwo\n\nthree")
	require.NoError(t, <-p.done)
}
