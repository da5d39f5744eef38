package flow

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/submit"
	"envask/internal/window"
)

// A window that is not over, or that the evidence does not reach, gives an archive that looks whole and is not: it is said wherever a
// person or the vendor looks.

// windowRemarks says what is odd about a window at a moment, and what to do.
func windowRemarks(c *casefile.Case, w window.Window, now time.Time) []string {
	if w.Zone == nil {
		w.Zone = time.UTC
	}
	first, limited := w.First()
	if !limited && len(w.Spans) == 0 {
		return nil
	}
	if limited && first.After(now) {
		return []string{fmt.Sprintf("Window in the future: it starts at %s (%s). Nothing of it exists yet: check the date and the zone, "+
			"or collect after it.", moment(first, now, w.Zone), away(first, now))}
	}
	if last, ends := w.Last(); ends && last.After(now) {
		return []string{fmt.Sprintf("Window not over yet: it ends at %s (%s). Collect again then, or close it with: envask open %s "+
			"--from %q --to now", moment(last, now, w.Zone), away(last, now), c.Name, first.In(w.Zone).Format("2006-01-02 15:04"))}
	}
	return nil
}

// moment writes a time in a zone, with the day where it is not today.
func moment(t, now time.Time, zone *time.Location) string {
	if zone == nil {
		zone = time.UTC
	}
	t, now = t.In(zone), now.In(zone)
	if t.Format(time.DateOnly) == now.Format(time.DateOnly) {
		return t.Format("15:04")
	}
	return t.Format("2006-01-02 15:04")
}

// away says how far off a moment is.
func away(t, now time.Time) string {
	switch d := t.Sub(now); {
	case d < time.Hour:
		return fmt.Sprintf("in %d min", int(d.Minutes())+1)
	case d < 48*time.Hour:
		return fmt.Sprintf("in %d h", int(d.Hours()+0.5))
	default:
		return fmt.Sprintf("in %d days", int(d.Hours()/24+0.5))
	}
}

// reachSlack is by how much the newest line of a system may lie before the end of the window, besides the offset of its clock.
const reachSlack = time.Minute

// roundRemarks says of a round that its window was not over when it was collected, or which systems' logs end before it.
func roundRemarks(r *round.Round) ([]string, error) {
	w := r.InZone()
	last, ends := w.Last()
	if !ends {
		return nil, nil
	}
	if first, ok := w.First(); ok && first.After(r.Ended) {
		return []string{fmt.Sprintf("Window in the future: round %s ended at %s, before the window starts (%s). "+
			"It holds nothing of the window.",
			r.ID, moment(r.Ended, first, w.Zone), moment(first, r.Ended, w.Zone))}, nil
	}
	if last.After(r.Ended) {
		return []string{fmt.Sprintf("Window not over: round %s ended at %s, the window ends at %s. "+
			"What came later is not here: collect again.",
			r.ID, moment(r.Ended, last, w.Zone), moment(last, r.Ended, w.Zone))}, nil
	}
	newest, err := r.NewestLines()
	if err != nil {
		return nil, err
	}
	offset := map[string]time.Duration{}
	for _, c := range r.Clocks {
		offset[c.System] = c.Offset.Abs()
	}
	var short []string
	for system, t := range newest {
		if t.Add(offset[system] + reachSlack).Before(last) {
			short = append(short, fmt.Sprintf("%s (%s)", system, moment(t, last, w.Zone)))
		}
	}
	if len(short) == 0 {
		return nil, nil
	}
	slices.Sort(short)
	text := strings.Join(short[:min(len(short), 10)], ", ")
	if n := len(short) - 10; n > 0 {
		text += fmt.Sprintf(" and %d more systems", n)
	}
	return []string{fmt.Sprintf("Logs end before the window does (%s). Newest dated line: %s. Either nothing was logged after it, or it "+
		"is still to come.", moment(last, last, w.Zone), text)}, nil
}

// AskRemarks says what of an ask does nothing on a site: roles that no system plays, and keys that nothing uses. Without a site only the
// latter are known.
func AskRemarks(k *ask.Ask, s *site.Site) (out []string) {
	if s != nil {
		roles := map[string]bool{}
		for i := range s.Systems {
			for _, r := range s.Systems[i].Roles {
				roles[r] = true
			}
			if s.Hop(&s.Systems[i]) {
				roles[site.RoleHop] = true
			}
		}
		for _, it := range k.Items {
			if len(it.Of) > 0 && !slices.ContainsFunc(it.Of, func(r string) bool { return roles[r] }) {
				required := ""
				if it.Required {
					required = "required "
				}
				out = append(out, fmt.Sprintf("%sitem %s: no system of %s plays the role %s", required, it.ID, s.Name,
					strings.Join(it.Of, " or ")))
			}
		}
	}
	for _, r := range k.Routes {
		if err := submit.Check(r.Name, r.To); err != nil {
			out = append(out, err.Error())
		}
	}
	return out
}

// SiteRemarks names the systems that no item of an ask is for.
func SiteRemarks(k *ask.Ask, s *site.Site) (out []string) {
	for i := range s.Systems {
		sys := &s.Systems[i]
		wanted := func(it ask.Item) bool {
			return !it.OfCase && (len(it.Of) == 0 || slices.ContainsFunc(it.Of,
				func(r string) bool { return slices.Contains(sys.Roles, r) }))
		}
		if !s.Hop(sys) && !slices.ContainsFunc(k.Items, wanted) {
			out = append(out, fmt.Sprintf("system %s: no item of %s is for its roles (%s)", sys.Name, k.Name,
				strings.Join(sys.Roles, ", ")))
		}
	}
	return out
}
