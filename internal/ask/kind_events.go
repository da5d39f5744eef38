package ask

import (
	"fmt"
	"time"

	"envask/internal/keyfile"
	"envask/internal/late"
)

// Events is an item that takes the event logs of Windows for the window.
type Events struct {
	Logs    []string // names of logs, such as System
	Timeout time.Duration
	Max     int64 // bytes kept of each
	// Exported are patterns of event logs that were exported to files, as XML or as they are (.evtx); they are read instead of the system's
	// own.
	Exported []string
}

var logName = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9 ._/-]*$`)

// Kind is the key that chooses this kind.
func (Events) Kind() string { return "events" }

// Sheet says what would be read.
func (e Events) Sheet() []string {
	var lines []string
	for _, p := range e.Exported {
		lines = append(lines, "read exported event logs "+p)
	}
	for _, l := range e.Logs {
		if len(e.Exported) > 0 {
			break
		}
		lines = append(lines, fmt.Sprintf("read the event log %s of the window (wevtutil)", l))
	}
	return lines
}

func readEvents(m *keyfile.Map) Spec {
	e := Events{Timeout: m.Duration("timeout", DefaultJournalTimeout), Max: m.Size("max", DefaultJournalMax)}
	for _, v := range m.Strings("events") {
		if !logName().MatchString(v.Text) || len(v.Text) > maxNameOfLog {
			v.Problem("events: expected the name of an event log such as System, found %q", v.Text)
		}
		e.Logs = append(e.Logs, v.Text)
	}
	for _, v := range m.Strings("exported") {
		checkPattern("exported", v)
		e.Exported = append(e.Exported, v.Text)
	}
	if len(e.Logs) == 0 {
		m.Problem("events: names no log")
	}
	return e
}
