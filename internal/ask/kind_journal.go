package ask

import (
	"strings"
	"time"

	"envask/internal/keyfile"
	"envask/internal/late"
)

// Journal is an item that takes the system journal of the window.
type Journal struct {
	Units    []string // only of these; empty means all
	Priority string   // only from this priority on; "" means all
	Folder   string   // of journal files that are not the system's own; "" means its own
	Timeout  time.Duration
	Max      int64 // bytes kept; the newest
}

// Priorities are those of the journal, as in syslog (RFC 5424, section 6.2.1).
var Priorities = []string{"emerg", "alert", "crit", "err", "warning", "notice", "info", "debug"}

// DefaultJournalTimeout bounds reading a journal.
const DefaultJournalTimeout = 10 * time.Minute

// DefaultJournalMax bounds what is kept of a journal, in bytes.
const DefaultJournalMax = 1 << 30

// maxNameOfLog bounds the names of units and event logs, in bytes.
const maxNameOfLog = 256

var unitName = late.Pattern(`^[A-Za-z0-9:_.@\\*?-]+$`)

// Kind is the key that chooses this kind.
func (Journal) Kind() string { return "journal" }

// Sheet says what would be read.
func (j Journal) Sheet() []string {
	line := "read the system journal of the window (journalctl)"
	if len(j.Units) > 0 {
		line += ", of " + strings.Join(j.Units, ", ")
	}
	if j.Priority != "" {
		line += ", from " + j.Priority + " on"
	}
	if j.Folder != "" {
		line += ", from " + j.Folder
	}
	return []string{line}
}

func readJournal(m *keyfile.Map) Spec {
	j := Journal{Timeout: m.Duration("timeout", DefaultJournalTimeout), Max: m.Size("max", DefaultJournalMax)}
	for _, v := range m.Strings("journal") {
		if v.Text == "all" {
			continue
		}
		if !unitName().MatchString(v.Text) || len(v.Text) > maxNameOfLog || strings.HasPrefix(v.Text, "-") {
			v.Problem("journal: expected the name of a unit (or a pattern of names), or all; found %q", v.Text)
		}
		j.Units = append(j.Units, v.Text)
	}
	if v := m.Value("priority"); v.Set() {
		j.Priority = m.Choice("priority", Priorities...)
	}
	if v := m.Value("folder"); v.Set() {
		if !strings.HasPrefix(v.Text, "/") || strings.ContainsRune(v.Text, 0) {
			v.Problem("folder: %q must be a whole path", v.Text)
		}
		j.Folder = v.Text
	}
	return j
}
