package flow

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"envask/internal/casefile"
	"envask/internal/fault"
)

// Handover is the state of a case for the next shift.
type Handover struct {
	Case    string   `json:"case"`
	Title   string   `json:"title"`
	Vendor  string   `json:"vendor"`
	At      string   `json:"at"`
	Done    []string `json:"done"`     // with when and by whom
	Waiting []string `json:"waiting"`  // for whom, since when
	StillOn []string `json:"still_on"` // changes on systems that have to be undone
	Missing []string `json:"missing"`
	Next    []string `json:"next"` // the arguments of envask
}

// mostDone bounds what a handover tells of what was done: the newest.
const mostDone = 12

// HandOver gathers what the next shift has to know of a case.
func (a *App) HandOver(c *casefile.Case) (*Handover, error) {
	v, err := a.ShowCase(c)
	if err != nil {
		return nil, err
	}
	history, err := a.History(c)
	if err != nil {
		return nil, err
	}
	standing, err := a.Standing(c)
	if err != nil {
		return nil, err
	}
	wants, err := a.Checklist(c, v)
	if err != nil {
		return nil, err
	}
	zone := c.Window.Zone
	h := &Handover{Case: c.Name, Title: c.Title, Vendor: c.Vendor, At: a.Now().In(zone).Format("2006-01-02 15:04 MST"), Next: standing.Next}
	deeds := slices.DeleteFunc(slices.Clone(history.Deeds), func(d Deed) bool { return strings.HasPrefix(d.Kind, "change-") })
	if n := len(deeds); n > mostDone {
		deeds = deeds[n-mostDone:]
	}
	for _, d := range deeds {
		by := ""
		if d.Who != "" {
			by = ", " + d.Who
		}
		h.Done = append(h.Done, fmt.Sprintf("%s%s: %s", d.At.In(zone).Format("2006-01-02 15:04"), by, d.What))
	}
	for _, p := range v.Pending {
		h.StillOn = append(h.StillOn, fmt.Sprintf("%s on %s, since %s", p.Path, p.Where, p.At.In(zone).Format("2006-01-02 15:04")))
	}
	for _, w := range wants {
		if !w.Have {
			h.Missing = append(h.Missing, w.What+": "+w.Text)
		}
	}
	h.Waiting = a.waitingFor(v, history, zone)
	if v.Damage != nil {
		h.Missing = append(h.Missing, fmt.Sprintf("the ledger is damaged from record %d on: %s", v.Damage.Record, v.Damage.Why))
	}
	return h, nil
}

// waitingFor says for whom the case waits: for the vendor since it was sent, unless it answered; for persons who bring something.
func (a *App) waitingFor(v *CaseView, history *History, zone *time.Location) (out []string) {
	if sent := v.LastSent(); sent != nil {
		answered := slices.ContainsFunc(history.Deeds, func(d Deed) bool { return d.Kind == kindReply && d.At.After(sent.Finished) })
		if !answered {
			text := fmt.Sprintf("%s, since %s: %s was sent over %s", v.Vendor,
				sent.Finished.In(zone).Format("2006-01-02 15:04"), sent.Name, sent.Route)
			if sent.Ticket != "" {
				text += ", ticket " + sent.Ticket
			}
			out = append(out, text)
		}
	}
	return out
}

// Write writes it as Markdown.
func (h *Handover) Write(w io.Writer) error {
	var s strings.Builder
	fmt.Fprintf(&s, "# Handover of case %s: %s\n\n%s, %s\n", h.Case, orElse(h.Title, "no title yet"), h.Vendor, h.At)
	for _, part := range []struct {
		head  string
		lines []string
		none  string
	}{
		{"Waiting for", h.Waiting, "nobody"},
		{"Still missing", h.Missing, "nothing"},
		{"Still on systems", h.StillOn, "nothing"},
		{"Next", prefixed(h.Next, "envask "), "nothing"},
		{"Done", h.Done, "nothing"},
	} {
		fmt.Fprintf(&s, "\n## %s\n\n", part.head)
		if len(part.lines) == 0 {
			s.WriteString(part.none + "\n")
		}
		for _, l := range part.lines {
			s.WriteString("- " + l + "\n")
		}
	}
	_, err := io.WriteString(w, s.String())
	return fault.Wrap("write the handover", h.Case, err)
}

func prefixed(list []string, head string) (out []string) {
	for _, l := range list {
		out = append(out, head+l)
	}
	return out
}
