package ask

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func parse(t *testing.T, text string) *Ask {
	t.Helper()
	a, err := Parse("a.yaml", []byte("ask: a\nvendor: v\n"+text))
	require.NoError(t, err)
	return a
}

func TestItemsThatNeedMore(t *testing.T) {
	a := parse(t, `questions: [{id: serial, text: which}]
items:
  - id: bundle
    run: "tool --since {from} --case {case} --serial {answer.serial} --into {folder} && echo ${HOME} {a,b}"
    makes: ['{folder}/**', '/var/tmp/tool-*.tgz']
    keep: true
    space: 2GiB
    time-format: compact
    zone: UTC
    elevated: true
    volatile: true
    together: pair
    needs:
      - {command: tool}
      - {run: tool level, like: 'level=(\w+)', do: switch it on}
      - {file: /etc/tool.conf, least: '4.2'}
  - {id: all, journal: all}
  - {id: units, journal: [gate.service, 'fare@*.service'], priority: warning, folder: /var/log/journal/remote, timeout: 2m}
  - {id: logs, events: [System, Application, Microsoft-Windows-PrintService/Admin]}
  - {id: home, files: ['~/logs/*.log', '%ProgramData%\kiosk\*.log', 'D:\x\*']}
values:
  - {id: agent, of: [gate], file: /etc/agent.conf, like: 'v=(.*)'}
sets:
  - {name: crash, text: do not restart, items: [bundle, all]}
groups:
  - {name: pair, items: [bundle, units], why: they explain each other}
vitals: no
`)
	run := a.Item("bundle").Spec.(Run)
	require.Equal(t, DefaultMakeTimeout, run.Timeout)
	require.Equal(t, int64(2<<30), run.Space)
	require.Equal(t, []string{"from", "case", "answer.serial", "folder"}, Fields(run.Commands[0]), "braces of the shell are its own")
	require.Equal(t, []string{"gate.service", "fare@*.service"}, a.Item("units").Spec.(Journal).Units)
	require.Empty(t, a.Item("all").Spec.(Journal).Units)
	require.Len(t, a.Item("logs").Spec.(Events).Logs, 3)
	require.True(t, a.NoVitals)
	require.Equal(t, "do not restart", a.Set("crash").Text)
	require.Nil(t, a.Set("freeze"))
	sheet := strings.Join(a.Sheet(), "\n")
	for _, want := range []string{
		"item bundle, of every system, twice (group pair), WITH THE SYSTEM'S ELEVATION: run tool level first, to see whether what it needs is there",
		"read /etc/tool.conf first", "take what it makes: /var/tmp/tool-*.tgz, and leave it there", "only where 2.0 GiB are free", "(at most 1h)",
		"read the system journal of the window (journalctl), of gate.service, fare@*.service, from warning on, from /var/log/journal/remote",
		"read the event log System of the window (wevtutil)", "value agent: read /etc/agent.conf", "a system whose entry has elevate",
	} {
		require.Contains(t, sheet, want)
	}
	require.NotContains(t, sheet, "basic state", "vitals: no")
	require.Contains(t, strings.Join(parse(t, "items: [{id: x, run: date}]\n").Sheet(), "\n"), "read its basic state")
}

func TestMistakesOfWhatNeedsMore(t *testing.T) {
	for item, want := range map[string]string{
		`run: 'echo "{from}"'`:                           "{from} stands within quotes",
		`run: "echo '{answer.x}'"`:                       "{answer.x} stands within quotes",
		"run: 'echo `date {to}`'":                        "does not go with backquotes",
		"run: 'echo {folder}'":                           "{folder} is for a command that makes files",
		"run: 'echo {answer.other}'":                     `the ask has no question "other"`,
		"run: [a, b], makes: /tmp/x":                     "makes: goes with one command",
		"run: a, makes: '{folder}/../x'":                 "must not contain ..",
		"run: a, makes: relative/*":                      "must be a whole path",
		"run: a, keep: true":                             "keep:, remove: and space: go with makes:",
		"run: a, time-format: iso":                       "time-format: expected rfc3339, date-time, compact, date or unix",
		"journal: '--file=/etc/shadow'":                  "expected the name of a unit",
		"journal: 'a b'":                                 "expected the name of a unit",
		"journal: all, priority: loud":                   "priority: expected emerg",
		"journal: all, folder: here":                     "must be a whole path",
		`events: 'Sys"tem'`:                              "expected the name of an event log",
		"run: a, needs: [{command: a, run: b}]":          "say what is needed, with one of",
		"run: a, needs: [{do: x}]":                       "say what is needed, with one of",
		"run: a, needs: [{command: 'a; b'}]":             "is no name of a command",
		"run: a, needs: [{file: '/x/*'}]":                "must be a whole path without patterns",
		"run: a, needs: [{run: a, least: new}]":          "least: expected a version",
		"run: a, needs: [{run: 'echo {from}', like: x}]": "without placeholders",
		"files: '%Program Data%\\x'":                     "must be a whole path",
		"files: /x, rotate-first: 'rotate {from}'":       "without placeholders",
		"run: a, id: vitals":                             "is what every ask has already",
	} {
		text := "ask: a\nvendor: v\nitems:\n  - {id: x, " + item + "}\n"
		if strings.Contains(item, "id: vitals") {
			text = "ask: a\nvendor: v\nitems:\n  - {" + item + "}\n"
		}
		_, err := Parse("a.yaml", []byte(text))
		require.ErrorContains(t, err, want, item)
	}
	for more, want := range map[string]string{
		"sets: [{name: s, items: [y]}]":                        `sets: there is no item "y"`,
		"groups: [{name: s}]":                                  "groups: names no item",
		"values: [{id: v, file: /x, like: y}]":                 "needs one pair of parentheses",
		"values: [{id: v, file: x, like: (y)}]":                "must be a whole path",
		"sets: [{name: s, items: [x]}, {name: s, items: [x]}]": `set "s" was given before`,
	} {
		_, err := Parse("a.yaml", []byte("ask: a\nvendor: v\nitems: [{id: x, run: date}]\n"+more+"\n"))
		require.ErrorContains(t, err, want, more)
	}
}

func TestFormatTime(t *testing.T) {
	at := time.Date(2026, 3, 14, 6, 12, 0, 0, time.FixedZone("", 3600))
	for _, f := range Times {
		got := FormatTime(f.Name, at.UTC().Add(time.Hour).In(time.UTC))
		require.Equal(t, f.Sample, got, f.Name)
	}
	require.Equal(t, "2026-03-14T06:12:00+01:00", FormatTime("rfc3339", at))
}
