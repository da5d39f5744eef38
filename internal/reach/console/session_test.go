package console_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/reach/console"
	"envask/internal/standin"
)

// pier is a device to talk to.
func pier() *standin.Device {
	return &standin.Device{Name: "pier-switch", User: "admin", Password: "lock-Buoy-12", Privilege: "keel-Rope-88",
		Accounts: map[string]string{"support": "tide-Lamp-40"}, Flash: standin.NewTree(),
		Members: []standin.Fellow{{Name: "unit-1", Address: "192.0.2.2", State: "active"}}}
}

// talk begins a conversation with a device, over a stream.
func talk(t *testing.T, d *standin.Device, telnet bool, set console.Settings) (*console.Session, error) {
	t.Helper()
	s := &standin.StreamDevice{Device: d, Telnet: telnet}
	require.NoError(t, s.Start())
	t.Cleanup(func() { s.Close() })
	conn, err := net.Dial("tcp", s.Address())
	require.NoError(t, err)
	if set.User == "" && d.User != "" {
		set.User, set.Password = d.User, func() (string, error) { return d.Password, nil }
	}
	var session *console.Session
	if telnet {
		session, err = console.Open(context.Background(), console.Telnet(conn), set)
	} else {
		session, err = console.Open(context.Background(), conn, set)
	}
	if err == nil {
		t.Cleanup(func() { session.Close() })
	}
	return session, err
}

func ask(t *testing.T, s *console.Session, step console.Step) (text, raw string, said console.Said, err error) {
	t.Helper()
	if step.Silence == 0 {
		step.Silence = 5 * time.Second
	}
	var out, session bytes.Buffer
	said, err = s.Do(context.Background(), step, &out, &session)
	return out.String(), session.String(), said, err
}

var privilege = console.Step{Type: "privilege", Prompt: regexp.MustCompile(`# ?$`),
	Answers: []console.Reply{{When: regexp.MustCompile(`assword: ?$`), Text: "keel-Rope-88\r", Secret: true}}}

func TestAnswersAreCleanLines(t *testing.T) {
	for _, telnet := range []bool{false, true} {
		for _, pattern := range []*regexp.Regexp{nil, regexp.MustCompile(`[>#] $`)} {
			t.Run(fmt.Sprintf("telnet %v, prompt %v", telnet, pattern), func(t *testing.T) {
				s, err := talk(t, pier(), telnet, console.Settings{Prompt: pattern})
				require.NoError(t, err)
				text, raw, said, err := ask(t, s, console.Step{Type: "show release"})
				require.NoError(t, err)
				require.Equal(t, "Deck switch pier-switch\nRelease 4.2.7, built 2026-01-19\nModel DS-48\n"+
					"Uptime is 41 days, 3 hours, 12 minutes\n", text)
				require.Equal(t, "pier-switch>", said.Prompt)
				require.Contains(t, raw, "show release\r\nDeck switch")

				text, raw, _, err = ask(t, s, console.Step{Type: "show ports"})
				require.NoError(t, err)
				require.Equal(t, 50, strings.Count(text, "\n"), "the pager was answered, and nothing of it is left:\n%s", text)
				require.NotContains(t, text, "More")
				require.Contains(t, raw, "--More--")
				require.Contains(t, text, "  24  up      1000")

				_, _, said, err = ask(t, s, privilege)
				require.NoError(t, err)
				require.Equal(t, "pier-switch#", said.Prompt)

				text, _, _, err = ask(t, s, console.Step{Type: "show state", Answers: []console.Reply{
					{When: regexp.MustCompile(`\[y/n\] $`), Text: "y"}}})
				require.NoError(t, err)
				require.Contains(t, text, "\npier-switch# show release\n", "a prompt in the middle of the output is output")
				require.Contains(t, text, "\n04000 port")
				require.True(t, strings.HasSuffix(text, "peer 192.0.2.1\n"), text[len(text)-200:])

				text, _, _, err = ask(t, s, console.Step{Type: "show clock"})
				require.NoError(t, err)
				require.Equal(t, 1, strings.Count(text, "\n"), text)
			})
		}
	}
}

func TestWhatGoesWrongIsSaid(t *testing.T) {
	d := pier()
	s, err := talk(t, d, true, console.Settings{})
	require.NoError(t, err)

	wrong := privilege
	wrong.Answers = []console.Reply{{When: regexp.MustCompile(`assword: ?$`), Text: "a-wrong-one\r", Secret: true}}
	text, raw, _, err := ask(t, s, wrong)
	require.ErrorIs(t, err, console.ErrAsked)
	require.NotContains(t, text+raw+err.Error(), "a-wrong-one")
	require.NoError(t, s.Broken(), "it goes on at the prompt")

	_, _, said, err := ask(t, s, console.Step{Type: "show releese"})
	require.NoError(t, err)
	require.Equal(t, "% Unknown command: show releese\n", said.First)

	_, _, _, err = ask(t, s, privilege)
	require.NoError(t, err)
	_, _, _, err = ask(t, s, console.Step{Type: "show state", Silence: 400 * time.Millisecond})
	require.ErrorIs(t, err, console.ErrSilent)
	require.ErrorContains(t, err, `it stands at "This takes a while. Continue? [y/n]"`)
	require.NoError(t, s.Broken())

	text, _, _, err = ask(t, s, console.Step{Type: "show clock"})
	require.NoError(t, err)
	require.Regexp(t, `^\d\d:\d\d:\d\d\.\d{3} UTC \w+ \w+ \d+ \d+\n$`, text)
}

func TestNoLoginAndNoPrompt(t *testing.T) {
	_, err := talk(t, pier(), false, console.Settings{User: "admin", Password: func() (string, error) { return "a-wrong-one", nil }})
	var refused *console.LoginError
	require.ErrorAs(t, err, &refused)
	require.ErrorContains(t, err, "% Login invalid")

	_, err = talk(t, pier(), true, console.Settings{Prompt: regexp.MustCompile(`^never> $`), Start: 2 * time.Second})
	require.ErrorIs(t, err, console.ErrNoPrompt)
	require.ErrorContains(t, err, `expected one like ^never> $, and it stands at "pier-switch>"`)

	silent := pier()
	silent.NoPrompt = true
	_, err = talk(t, silent, false, console.Settings{Start: time.Second})
	require.ErrorIs(t, err, console.ErrNoPrompt)
	require.ErrorContains(t, err, "nothing came")
}

func TestADeviceThatBreaksOff(t *testing.T) {
	d := pier()
	d.RebootAfter = 1200
	s, err := talk(t, d, false, console.Settings{})
	require.NoError(t, err)
	_, _, _, err = ask(t, s, privilege)
	require.NoError(t, err)
	text, _, _, err := ask(t, s, console.Step{Type: "show state", Answers: []console.Reply{
		{When: regexp.MustCompile(`\[y/n\] $`), Text: "y"}}})
	require.ErrorIs(t, err, console.ErrEnded)
	require.Contains(t, text, "01199 port")
	require.Error(t, s.Broken())
}

func TestThePromptChangesWithTheName(t *testing.T) {
	d := pier()
	d.Answers = map[string]func() string{"rename": func() string {
		d.Change(func(d *standin.Device) { d.Name = "other name/7" })
		return "renamed\n"
	}}
	for _, pattern := range []*regexp.Regexp{nil, regexp.MustCompile(`[>#] $`)} {
		d.Change(func(d *standin.Device) { d.Name = "pier-switch" })
		s, err := talk(t, d, true, console.Settings{Prompt: pattern})
		require.NoError(t, err)
		text, _, said, err := ask(t, s, console.Step{Type: "rename"})
		require.NoError(t, err)
		require.Equal(t, "renamed\n", text)
		require.Equal(t, "other name/7>", said.Prompt)
		text, _, _, err = ask(t, s, console.Step{Type: "show release"})
		require.NoError(t, err)
		require.Contains(t, text, "Release 4.2.7")
		require.NotContains(t, text, "other name/7>")
	}
}

func TestAnAnswerIsBoundedInAll(t *testing.T) {
	d := pier()
	d.Silence = 20 * time.Second
	s, err := talk(t, d, false, console.Settings{})
	require.NoError(t, err)
	_, _, _, err = ask(t, s, privilege)
	require.NoError(t, err)
	begun := time.Now()
	text, _, _, err := ask(t, s, console.Step{Type: "show state", Silence: time.Minute, Most: time.Second,
		Answers: []console.Reply{{When: regexp.MustCompile(`\[y/n\] $`), Text: "y"}}})
	require.ErrorIs(t, err, console.ErrTooLong)
	require.Contains(t, text, "01999 port")
	require.Less(t, time.Since(begun), 15*time.Second)
	_, _, said, err := ask(t, s, console.Step{Type: "show clock"})
	require.NoError(t, err)
	require.Contains(t, said.First, "UTC")
}

// A conversation that is given up in the middle ends soon, and the next command works.
func TestAnAnswerIsGivenUp(t *testing.T) {
	d := pier()
	d.Silence = time.Minute
	s, err := talk(t, d, true, console.Settings{})
	require.NoError(t, err)
	_, _, _, err = ask(t, s, privilege)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 700*time.Millisecond)
	defer cancel()
	_, err = s.Do(ctx, console.Step{Type: "show state", Silence: time.Minute,
		Answers: []console.Reply{{When: regexp.MustCompile(`\[y/n\] $`), Text: "y"}}}, nil, nil)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.NoError(t, s.Broken())
	text, _, _, err := ask(t, s, console.Step{Type: "show clock"})
	require.NoError(t, err)
	require.Equal(t, 1, strings.Count(text, "\n"), text)
}

// A question whose default is yes must not be answered by what tries whether a line is a prompt.
func TestNobodyAnswersAQuestionForTheAsk(t *testing.T) {
	for _, pattern := range []*regexp.Regexp{nil, regexp.MustCompile(`[>#] $`)} {
		for _, learn := range []bool{false, true} {
			d := pier()
			d.Flash.File("/flash/keep.log", []byte("kept\n"), time.Unix(1_700_000_000, 0))
			s, err := talk(t, d, true, console.Settings{Prompt: pattern})
			require.NoError(t, err)
			_, _, _, err = ask(t, s, privilege)
			require.NoError(t, err)
			_, _, _, err = ask(t, s, console.Step{Type: "delete /flash/keep.log", Silence: 3 * time.Second, Learn: learn})
			require.ErrorIs(t, err, console.ErrSilent)
			require.ErrorContains(t, err, `keep.log? [confirm]"`)
			text, _, _, err := ask(t, s, console.Step{Type: "dir flash"})
			require.NoError(t, err)
			require.Contains(t, text, "keep.log")
		}
	}
}

// A device that asks before its first prompt is not answered either.
func TestAQuestionBeforeThePromptStands(t *testing.T) {
	for _, question := range []string{"Another session is active. Terminate it? [y/n] ",
		"Reset to factory defaults [yes]: ", "Continue <y/n> ",
		"Erase the old log (confirm) "} {
		ours, theirs := net.Pipe()
		got := make(chan string, 1)
		go func() {
			fmt.Fprint(theirs, "Welcome\r\n"+question)
			all, _ := io.ReadAll(theirs)
			got <- string(all)
		}()
		_, err := console.Open(context.Background(), ours, console.Settings{Start: 2500 * time.Millisecond})
		require.ErrorIs(t, err, console.ErrNoPrompt)
		require.ErrorContains(t, err, strings.TrimSpace(question))
		require.Empty(t, <-got, question)
	}
}
