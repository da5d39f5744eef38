package ask

import (
	"fmt"
	"regexp"
	"time"

	"envask/internal/keyfile"
)

// Events is an item that takes the event logs of Windows for the window.
type Events struct {
	Logs    []string // names of logs, such as System
	Timeout time.Duration
	Max     int64 // bytes kept of each
}

var logName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._/-]*$`)

// Kind is the key that chooses this kind.
func (Events) Kind() string { return "events" }

// Sheet says what would be read.
func (e Events) Sheet() []string {
	var lines []string
	for _, l := range e.Logs {
		lines = append(lines, fmt.Sprintf("read the event log %s of the window (wevtutil)", l))
	}
	return lines
}

func readEvents(m *keyfile.Map) Spec {
	e := Events{Timeout: m.Duration("timeout", DefaultJournalTimeout), Max: m.Size("max", DefaultJournalMax)}
	for _, v := range m.Strings("events") {
		if !logName.MatchString(v.Text) || len(v.Text) > maxNameOfLog {
			v.Problem("events: expected the name of an event log such as System, found %q", v.Text)
		}
		e.Logs = append(e.Logs, v.Text)
	}
	if len(e.Logs) == 0 {
		m.Problem("events: names no log")
	}
	return e
}
