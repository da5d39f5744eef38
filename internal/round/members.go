package round

import (
	"fmt"
	"strings"
)

// Members is what a system said about its fellows in a cluster, stack or fabric.
type Members struct {
	System  string   `json:"system"`
	ID      string   `json:"id"` // of the ask's list
	Fellows []Fellow `json:"members,omitempty"`
	Absent  []string `json:"absent,omitempty"` // that the systems file names and it does not
	Reason  string   `json:"reason,omitempty"` // why they are not known
}

// Fellow is one of them.
type Fellow struct {
	Name    string `json:"name"`
	Address string `json:"address,omitempty"`
	Listed  bool   `json:"listed"` // in the systems file
}

// Unlisted gives those that the systems file does not know.
func (m *Members) Unlisted() []Fellow {
	var out []Fellow
	for _, f := range m.Fellows {
		if !f.Listed {
			out = append(out, f)
		}
	}
	return out
}

// Words tells about them; whole says that nothing is amiss.
func (m *Members) Words() (text string, whole bool) {
	if m.Reason != "" {
		return "not known: " + m.Reason, false
	}
	text = fmt.Sprintf("%d", len(m.Fellows))
	var not []string
	for _, f := range m.Unlisted() {
		name := f.Name
		if f.Address != "" {
			name += " (" + f.Address + ")"
		}
		not = append(not, name)
	}
	if len(not) > 0 {
		text = Join(text, "not in the systems file: "+strings.Join(not, ", "))
	}
	if len(m.Absent) > 0 {
		text = Join(text, "in the systems file, and not among them: "+strings.Join(m.Absent, ", "))
	}
	return text, len(not)+len(m.Absent) == 0
}
