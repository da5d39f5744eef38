package brief

import (
	"bytes"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
)

func sample(answers map[string]string) Brief {
	return Brief{Case: "26031407", Vendor: "Ostrevane Gate Systems", Site: "tallow-pier", Window: "no limit", Answers: answers,
		Ask: &ask.Ask{Name: "boarding-gateway", Questions: []ask.Question{
			{ID: "serial", Text: "Serial number", Required: true, Like: regexp.MustCompile(`^OG[0-9]{6}$`)},
			{ID: "since", Text: "Since when, by the clock of the gate?"}, {ID: "who", Text: "Who?", Required: true, Most: 12}}}}
}

func TestBrief(t *testing.T) {
	b := sample(map[string]string{"serial": "OG1"})
	require.Equal(t, []string{"serial: the answer is not as the vendor wants it (^OG[0-9]{6}$)", "who: Who?"}, b.Open())
	b.Answers["serial"], b.Answers["who"] = "OG410772", "the whole night shift"
	require.Equal(t, []string{"who: the answer has 21 characters, and the vendor takes 12"}, b.Open())
	b.Answers["who"], b.Answers["steps"], b.Title = "night shift", "open lane 2 -> red\nclose it -> still red", "gate 2 rejects every pass"
	b.Answers["happens"], b.From = "E4417: no table", map[string]string{"happens": "gate-2's gate.log, line 1841"}
	require.Empty(t, b.Open())
	var out bytes.Buffer
	require.NoError(t, b.Write(&out))
	require.Equal(t, "# Case 26031407: gate 2 rejects every pass\n\n- Vendor: Ostrevane Gate Systems\n- Site: tallow-pier\n- Window: no "+
		"limit\n\n## What happens\n"+
		"\n**What happens?**\n\nE4417: no table\n\n*from gate-2's gate.log, line 1841*\n\n**Since when, by the clock of the "+
		"gate?**\n\n(not answered)\n"+
		"\n**How can it be made to happen?**\n\n1. open lane 2 -> red\n2. close it -> still red\n"+
		"\n## Questions\n\n**Serial number**\n\nOG410772\n\n**Who?**\n\nnight shift\n", out.String())
	out.Reset()
	require.NoError(t, b.Text(&out))
	require.Contains(t, out.String(), "How can it be made to happen?\n  1. open lane 2 -> red\n  2. close it -> still red\n")
	require.Equal(t, Known(), ask.BriefFields, "the ask and the write-up know the same fields")
}

func TestChecks(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	weekdays, err := ask.ParseHours("mon-fri 08:00-16:00")
	require.NoError(t, err)
	facts := Facts{From: time.Date(2026, 3, 14, 5, 0, 0, 0, time.UTC), To: time.Date(2026, 3, 14, 7, 0, 0, 0, time.UTC), Zone: lisbon,
		Files:  []string{"added/picture/error.png"},
		Secret: func(s string) bool { return strings.Contains(s, "hunter2") }}
	severities := []ask.Severity{{Name: "halted", Means: "nobody can board"}, {Name: "degraded"}, {Name: "question"}}
	for _, c := range []struct {
		name, field, want string
		title             string
		answers           map[string]string
	}{
		{name: "a title that says nothing", field: Title, title: "Boarding gateway does not work", want: "it would fit any case"},
		{name: "the vendor's name alone", field: Title, title: "Ostrevane Gate Systems: urgent problem", want: "it would fit any case"},
		{name: "a good title", field: Title, title: "Gate 2 rejects every pass since 06:12"},
		{name: "no expectation", field: "expected", answers: map[string]string{"happens": "red"},
			want: "what should happen instead is not said"},
		{name: "no result at all", field: "steps", answers: map[string]string{"steps": "open lane 2\nclose it"},
			want: "no step says what comes of it"},
		{name: "one result lacks", field: "steps", answers: map[string]string{"steps": "open lane 2 -> red\nclose it\n"},
			want: "no result of step 2"},
		{name: "all results", field: "steps", answers: map[string]string{"steps": "open lane 2 -> red\nclose it: green"}},
		{name: "too bad", field: Severity, answers: map[string]string{"severity": "Halted", "happens": "it is slow", "severity-why": "x"},
			want: `Halted is the worst there is, and the text says "slow"`},
		{name: "too mild", field: Severity, answers: map[string]string{"severity": "question",
			"affected": "Nobody can board", "severity-why": "x"},
			want: `question is the least there is, and the text says "Nobody can"`},
		{name: "fits", field: Severity, answers: map[string]string{"severity": "halted",
			"affected": "nobody can board", "severity-why": "x"}},
		{name: "no word of the vendor", field: Severity, answers: map[string]string{"severity": "sev1"},
			want: `"sev1" is none of the vendor's words: halted, degraded`},
		{name: "no why", field: SeverityWhy, answers: map[string]string{"severity": "degraded"}, want: "why it is degraded is not said"},
		{name: "after the window", field: "since", answers: map[string]string{"since": "2026-03-15 09:00, after lunch"},
			want: "after the end of the window"},
		{name: "before the window", field: "since", answers: map[string]string{"since": "since 2026-03-13 09:00"},
			want: "is before the window begins"},
		{name: "the day of the window", field: "since", answers: map[string]string{"since": "2026-03-14"}},
		{name: "within it", field: "since", answers: map[string]string{"since": "2026-03-14 06:12"}},
		{name: "nobody is there", field: "best-times", answers: map[string]string{"best-times": "18:00-20:00"},
			want: "the desk is closed then (mon-fri 08:00-16:00 in Europe/Oslo)"},
		{name: "somebody is there", field: "best-times", answers: map[string]string{"best-times": "14:30 to 20:00"}},
		{name: "not brought", field: "attachments", answers: map[string]string{"attachments": "see error.png and the trace.har"},
			want: "trace.har is named and is not in the case"},
		{name: "a secret", field: "tried", answers: map[string]string{"tried": "logged in with hunter2"}, want: "a secret is in it"},
		{name: "no identifier", field: "serial", answers: map[string]string{"serial": "4417"}, want: "not as the vendor wants it"},
	} {
		b := sample(c.answers)
		b.Title, b.Ask.Severities, b.Ask.Desk = c.title, severities, &ask.Desk{Hours: []ask.Hours{weekdays}, Zone: oslo}
		var got string
		for _, r := range b.Check(facts) {
			if r.Field == c.field {
				got = r.Text
			}
		}
		if c.want == "" {
			require.Empty(t, got, c.name)
		} else {
			require.Contains(t, got, c.want, c.name)
		}
	}
}

func TestDeskHours(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	h, err := ask.ParseHours("mon-fri 08:00-16:00")
	require.NoError(t, err)
	d := &ask.Desk{Hours: []ask.Hours{h}, Zone: oslo}
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 3, day, hour, minute, 0, 0, oslo) }
	open, until := d.Open(at(13, 15, 59)) // a Friday
	require.True(t, open)
	require.True(t, until.Equal(at(13, 16, 0)))
	open, until = d.Open(at(13, 16, 0))
	require.False(t, open)
	require.True(t, until.Equal(at(16, 8, 0)), "Monday")
	open, until = d.Open(at(16, 7, 0))
	require.False(t, open)
	require.True(t, until.Equal(at(16, 8, 0)))
	require.Equal(t, "mon-fri 08:00-16:00", HoursText(d, oslo))
	for _, bad := range []string{"", "08:00", "mon 18:00-08:00", "mon-fri 8-16", "mon 08:00-25:00", "x 08:00-09:00"} {
		_, err := ask.ParseHours(bad)
		require.Error(t, err, bad)
	}
	d.Hours = nil
	open, until = d.Open(at(14, 3, 0))
	require.True(t, open)
	require.True(t, until.IsZero())
}

func TestTemplates(t *testing.T) {
	b := sample(map[string]string{"happens": "red", "steps": "a -> b\nc -> d", "serial": "OG410772"})
	b.Title = "gate 2 rejects every pass"
	for _, c := range []struct{ text, want, wrong string }{
		{text: `{{.Case}} {{.Title}}: {{.Field "happens"}}{{range .Lines "steps"}} [{{.}}]{{end}}`,
			want: "26031407 gate 2 rejects every pass: red [a -> b] [c -> d]"},
		{text: `{{range .Fields}}{{.ID}}={{.Answer}};{{end}}{{range $.Fields}}.{{end}}`,
			want: "title=gate 2 rejects every pass;happens=red;steps=a -> b\nc -> d;serial=OG410772;...."},
		{text: `{{define "a"}}{{template "b"}}{{end}}{{define "b"}}{{template "a"}}{{end}}{{template "a"}}`, wrong: "calls itself"},
		{text: `{{range $i := 1000000000}}x{{end}}`, wrong: "range goes over .Fields"},
		{text: `{{range .Fields}}{{range $.Fields}}{{range $.Fields}}{{range $.Fields}}{{range $.Fields}}{{range $.Fields}}{{range $.Fields}}` +
			`{{range $.Fields}}{{range $.Fields}}{{range $.Fields}}{{range ` +
			`$.Fields}}xxxxxxxx{{end}}{{end}}{{end}}{{end}}{{end}}{{end}}{{end}}{{end}}{{end}}{{end}}{{end}}`,
			wrong: "more than 1 MiB"},
		{text: `{{.Password}}`, wrong: "can't evaluate field Password"},
		{text: `{{readFile "/etc/passwd"}}`, wrong: `function "readFile" not defined`},
		{text: `{{printf "%999999999d" 1}}`, wrong: "is too wide"},
		{text: `{{printf "%-6s|" .Case}}`, want: "26031407|"},
		{text: `{{if`, wrong: "unclosed action"},
	} {
		var out bytes.Buffer
		err := b.ByTemplate(&out, "mine.tmpl", c.text)
		if c.wrong == "" {
			require.NoError(t, err, c.text)
			require.Equal(t, c.want, out.String())
		} else {
			require.ErrorContains(t, err, c.wrong, c.text)
			require.Empty(t, out.String())
		}
	}
}
