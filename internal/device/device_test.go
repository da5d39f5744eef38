package device

import (
	"testing"

	"github.com/go-json-experiment/json/v1"
	"github.com/stretchr/testify/require"

	"envask/internal/keyfile"
)

func read(text string, own bool) (map[string]*Description, error) {
	f, m := keyfile.Parse("s.yaml", []byte(text))
	got := Read(m, own)
	m.Done()
	return got, f.Err()
}

func TestADescription(t *testing.T) {
	got, err := read(`devices:
  deck:
    prompt: '[>#] ?$'
    pages-off: [terminal pages 0, terminal width 0]
    privileged: {type: privilege, password: file:~/.privilege, prompt: '# ?$'}
    enter: [{type: engine, prompt: 'engine \$ $'}]
    refused-when: '^% '
    line-end: crlf
    vitals: {version: {type: show release, like: 'Release (\S+)'}, clock: {type: show clock, like: '(.*)'}}
`, true)
	require.NoError(t, err)
	d := got["deck"]
	require.Equal(t, []string{"terminal pages 0", "terminal width 0"}, d.PagesOff)
	require.Equal(t, "\r\n", d.LineEnd)
	require.Len(t, d.Enter, 2)
	require.Equal(t, []string{"file:~/.privilege"}, d.Secrets())
	require.True(t, d.Enter[0].Answers[0].When.MatchString("Password: "))
	require.True(t, d.Refused("% Unknown"))
	require.False(t, d.Refused("fine"))
	require.Equal(t, "clock", d.Vitals[1].Field)
	require.Equal(t, []string{"device deck: when a session begins, type privilege, answer a password to " +
		"(?i)pass(word|code|phrase)[^\\n]*:\\s*$",
		"device deck: when a session begins, type engine", "device deck: when a session begins, type terminal pages 0",
		"device deck: when a session begins, type terminal width 0", "device deck: type show release for its version",
		"device deck: type show clock for its clock"}, d.Sheet())
}

func TestMistakesOfDescriptions(t *testing.T) {
	for _, c := range []struct {
		text, want string
		own        bool
	}{
		{"privileged: {type: privilege, password: hunter2}", "password: never stands here itself", true},
		{"privileged: {type: privilege, password: 'file:x'}", "password: never stands in an ask; write secret:NAME", false},
		{"privileged: {password: 'secret:x'}", "type: is missing", false},
		{"vitals: {version: {type: show release, like: Release}}", "needs one pair of parentheses", true},
		{`pages-off: "a\nb"`, "expected one line to type", true},
		{"prompt: '('", "prompt: not a usable expression", true},
		{"line-end: nl", "line-end: ", true},
		{"pages: [{when: x}]", "say what to give (with Enter) or which key to press", true},
		{"pages: [{when: x, press: some}]", "press: expected one character", true},
		{"promt: x", `unknown key "promt"; did you mean "prompt"?`, true},
		{"enter: [{type: x, answers: [{when: y, give: 'file:z'}]}]", "", true},
	} {
		_, err := read("devices: {deck: {"+c.text+"}}\n", c.own)
		if c.want == "" {
			require.NoError(t, err, c.text)
			continue
		}
		require.ErrorContains(t, err, c.want, c.text)
		require.NotContains(t, err.Error(), "hunter2")
	}
}

// What takes a change back stands in a ledger, and comes out of it as it was.
func TestStepsSurviveALedger(t *testing.T) {
	f, m := keyfile.Parse("a.yaml", []byte(`afterwards:
  - type: account close support
    answers: [{when: 'sure\? $', press: y}, {when: 'assword: $', give: 'secret:support'}]
    restored-when: {type: account list, like: 'support +closed'}
`))
	do := ReadUndo(m, "afterwards")
	m.Done()
	require.NoError(t, f.Err())
	data, err := json.Marshal(do)
	require.NoError(t, err)
	require.Contains(t, string(data), `"secret":"secret:support"`)
	var back []Undo
	require.NoError(t, json.Unmarshal(data, &back))
	require.Equal(t, do[0].String(), back[0].String())
	require.True(t, back[0].Restored.Like.MatchString("support    closed"))
}

func FuzzRead(f *testing.F) {
	f.Add("devices: {deck: {prompt: '[>#] ?$', privileged: {type: p, password: 'secret:x'}, vitals: {clock: {type: c, like: '(.*)'}}}}",
		true)
	f.Fuzz(func(t *testing.T, text string, own bool) {
		got, err := read(text, own)
		if err == nil {
			for _, d := range got {
				d.Sheet()
				d.Secrets()
			}
		}
	})
}
