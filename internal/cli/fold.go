package cli

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"envask/internal/cli/term"
	"envask/internal/round"
)

// What many systems share is one row: with the count, and their names.

// varying are the parts of a reason that differ from system to system: addresses, ports, fingerprints and times.
var varying = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\[?[0-9a-fA-F:.]*[0-9a-fA-F]\]?:\d{2,5}\b|\b\d{1,3}(\.\d{1,3}){3}\b|` +
		`SHA256:[A-Za-z0-9+/]{20,}=?|\b\d+(\.\d+)?(ms|s)\b`)
})

// sharedReason gives a reason without what differs from system to system.
func sharedReason(system, reason string) string {
	if system != "" {
		reason = regexp.MustCompile(`(^|[^\w.-])`+regexp.QuoteMeta(system)+`($|[^\w.-])`).ReplaceAllString(reason, "${1}NAME${2}")
	}
	return varying().ReplaceAllString(reason, "…")
}

// ofSystem reports whether a code speaks of the whole system, not of one item.
func ofSystem(c round.Code) bool {
	switch c {
	case round.CodeUnreachable, round.CodeSilent, round.CodeLogin, round.CodeHostKey:
		return true
	}
	return false
}

// folded is a row of the coverage table: one cell, or several that share a state and a reason.
type folded struct {
	round.Cell
	systems []string // of which it tells, when these are several
	items   []string // when these are several
}

// fold brings together the cells of a system that cannot be reached, and the cells of several systems with the same item, state and reason.
// What was taken stays as it is.
func fold(cov round.Coverage) []folded {
	var rows []folded
	bySystem := map[string]int{}
	for _, c := range cov {
		if ofSystem(c.Code) {
			k := c.System + "\x00" + string(c.State) + "\x00" + c.Reason
			if i, known := bySystem[k]; known {
				r := &rows[i]
				r.items = append(r.items, c.Item)
				r.Required = r.Required || c.Required
				continue
			}
			bySystem[k] = len(rows)
			rows = append(rows, folded{Cell: c, items: []string{c.Item}})
			continue
		}
		rows = append(rows, folded{Cell: c})
	}
	var out []folded
	same := map[string]int{}
	for _, r := range rows {
		if stateColors[r.State] != term.Bad || r.System == "" {
			out = append(out, r)
			continue
		}
		what := r.Item
		if len(r.items) > 0 {
			what = fmt.Sprint(len(r.items))
		}
		k := fmt.Sprint(what, "\x00", r.Required, r.State, r.Code, "\x00", sharedReason(r.System, r.Reason))
		i, known := same[k]
		if !known {
			same[k] = len(out)
			out = append(out, r)
			continue
		}
		first := &out[i]
		if len(first.systems) == 0 {
			first.systems = []string{first.System}
			first.Reason = sharedReason(first.System, first.Reason)
		}
		first.systems = append(first.systems, r.System)
		first.Files, first.Bytes = first.Files+r.Files, first.Bytes+r.Bytes
	}
	slices.SortStableFunc(out, func(a, b folded) int { return min(len(a.systems), 1) - min(len(b.systems), 1) }) // shared rows come last
	return out
}

// namesShown is how many systems a row names; the rest is counted.
const namesShown = 8

func (f *folded) names() string {
	if len(f.systems) == 0 {
		return ""
	}
	text := strings.Join(f.systems[:min(len(f.systems), namesShown)], ", ")
	if n := len(f.systems) - namesShown; n > 0 {
		text += fmt.Sprintf(" and %d more (--each lists them)", n)
	}
	return text
}

// reason is what they share, and their names.
func (f *folded) reason() string {
	reason := term.Clean(f.Reason)
	if names := f.names(); names != "" {
		reason = strings.TrimSpace(reason + " (" + names + ")")
	}
	return reason
}

// folded brings cells together, unless the engineer wants each.
func (s *session) folded(cov round.Coverage) []folded {
	if !s.each {
		return fold(cov)
	}
	out := make([]folded, len(cov))
	for i, c := range cov {
		out[i].Cell = c
	}
	return out
}

// system and item are the first two columns of the row.
func (f *folded) system() string {
	switch {
	case len(f.systems) > 0:
		return fmt.Sprintf("%d systems", len(f.systems))
	case f.System == "":
		return "no system"
	}
	return f.System
}

func (f *folded) item() string {
	item := f.Item
	if f.Item == "" {
		return ""
	}
	if n := len(f.items); n > 1 {
		item = fmt.Sprintf("%d items", n)
	}
	if f.Required {
		item += " *"
	}
	return item
}
