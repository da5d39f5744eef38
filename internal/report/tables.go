package report

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"envask/internal/archive"
	"envask/internal/redact"
	"envask/internal/round"
)

// coverage draws systems against items. The longer list goes down, so that the table stays narrow.
func (v *view) coverage() g.Node {
	out := g.Group{}
	if len(v.shown) > 0 {
		out = append(out, v.matrix(), v.meanings())
	}
	if len(v.problems) > 0 {
		var rows []g.Node
		for _, c := range v.problems {
			required := g.If(c.Required, h.Small(g.Text("required")))
			rows = append(rows, h.Tr(h.Td(h.Class("name"), g.Text(orElse(c.System, "none"))),
				h.Td(h.Class("name"), g.Text(c.Item), required), h.Td(state(&c)), h.Td(g.Text(c.Reason))))
		}
		out = append(out, h.P(g.Text("Remarks:")), table([]string{"system", "item", "state", "reason"}, rows))
	}
	if len(out) == 0 {
		return nil
	}
	return out
}

func (v *view) matrix() g.Node {
	var names []string
	for _, s := range v.shown {
		names = append(names, s.name)
	}
	if len(v.items) <= len(v.shown) {
		return matrix("system", names, v.items, func(row, column int) *round.Cell { return v.shown[row].cells[column] })
	}
	return matrix("item", v.items, names, func(row, column int) *round.Cell { return v.shown[column].cells[row] })
}

func matrix(corner string, rows, columns []string, at func(row, column int) *round.Cell) g.Node {
	var lines []g.Node
	for r, name := range rows {
		cells := []g.Node{h.Th(g.Text(name))}
		for c := range columns {
			cell := at(r, c)
			if cell == nil {
				cells = append(cells, h.Td(h.Class("dim"), g.Text("–")))
				continue
			}
			cells = append(cells, h.Td(state(cell), g.If(cell.Files > 0, h.Small(g.Text(files(cell.Files)+", "+size(cell.Bytes))))))
		}
		lines = append(lines, h.Tr(cells...))
	}
	return table(append([]string{corner}, columns...), lines)
}

func state(c *round.Cell) g.Node {
	class := "state " + string(c.State)
	if c.Lacking() {
		class += " lacks"
	}
	return h.Span(h.Class(class), g.Text(string(c.State)))
}

// stateWords say what the states mean.
var stateWords = map[round.State]string{
	round.Taken: "all of it", round.Cut: "a limit cut it", round.Empty: "nothing in the window", round.Missing: "not there",
	round.Denied:  "no permission",
	round.Refused: "for safety", round.Failed: "something broke", round.TimedOut: "took too long",
	round.Skipped: "not wanted this time",
}

// meanings explains the states that occur.
func (v *view) meanings() g.Node {
	var words []string
	for _, s := range round.States {
		if slices.ContainsFunc(v.Coverage, func(c round.Cell) bool { return c.State == s }) {
			words = append(words, string(s)+": "+stateWords[s])
		}
	}
	return h.P(h.Class("dim"), g.Text(strings.Join(words, " · ")+" · –: not wanted from that system"))
}

func (v *view) clocks() g.Node {
	out := g.Group{h.P(g.Text("Wanted was "+v.window()+"."), g.If(len(v.Clocks) > 0,
		g.Text(" Where a clock is not ours, the window was taken as it is and as that clock showed it.")))}
	if len(v.Clocks) == 0 {
		return out
	}
	var rows []g.Node
	for _, c := range v.Clocks {
		rows = append(rows, h.Tr(h.Th(g.Text(c.System)), h.Td(g.Text(c.String())), h.Td(g.Text(orElse(c.Synchronised, "not known"))),
			h.Td(g.Text(c.Zone+" ("+c.ZoneFrom+")"))))
	}
	return append(out, table([]string{"system", "clock", "synchronised", "zone of its logs"}, rows))
}

// systems draws the facts side by side, and what else is worth knowing of single systems.
func (v *view) systems() g.Node {
	out := g.Group{}
	if len(v.Facts.Rows) > 0 {
		var rows []g.Node
		for _, f := range v.Facts.Rows {
			name := h.Th(g.Text(f.Name), g.If(f.Differs, h.Small(g.Text("differs"))))
			cells := []g.Node{name}
			for i, value := range f.Values {
				heed := value != "" && (f.Differs || f.Heeds != nil && f.Heeds[i])
				cells = append(cells, h.Td(g.If(heed, h.Class("heed")), g.Text(orElse(value, "–"))))
			}
			rows = append(rows, h.Tr(cells...))
		}
		out = append(out, table(append([]string{"as it was"}, v.Facts.Systems...), rows))
	}
	for _, r := range v.Reached {
		if r.Remark != "" {
			out = append(out, h.P(h.B(g.Text(r.System)), g.Text(": "+r.Remark)))
		}
		if r.After != "" {
			out = append(out, h.P(h.B(g.Text(r.System)), g.Text(" was reached by "+r.Way+" ("+r.Means+"), since "+r.After)))
		}
	}
	for _, m := range v.Members {
		text, whole := m.Words()
		node := g.Node(g.Text(text))
		if !whole {
			node = h.Span(h.Class("state lacks"), g.Text(text))
		}
		out = append(out, h.P(h.B(g.Text(m.System)), g.Text(" members of "+m.ID+": "), node))
	}
	for _, x := range v.Groups {
		text := " is demanded together (" + strings.Join(x.Items, ", ") + ")"
		if x.Why != "" {
			text += ": " + x.Why
		}
		if len(x.Whole) > 0 {
			text += ". Whole on " + strings.Join(x.Whole, ", ")
		}
		out = append(out, h.P(h.B(g.Text(x.Name)), g.Text(text+"."), g.Map(x.Lacking,
			func(l string) g.Node { return h.Span(h.Class("state lacks"), g.Text(l)) })))
	}
	if len(out) == 0 {
		return nil
	}
	return out
}

func (v *view) cut() g.Node {
	if len(v.wasCut) == 0 {
		return nil
	}
	var rows []g.Node
	for _, f := range v.wasCut {
		kept, when, sure := size(f.SizeTaken)+" of "+size(f.SizeThere), "", ""
		if c := f.Cut; c != nil {
			if c.Lines >= 0 && c.Of >= 0 {
				kept = fmt.Sprintf("%d of %d lines", c.Lines, c.Of)
			}
			if when, sure = v.span(c.First, c.Last), c.Sure; c.Unpacked != "" {
				kept += ", unpacked (" + c.Unpacked + ")"
			}
		}
		rows = append(rows, h.Tr(h.Td(h.Class("name"), g.Text(f.System)), h.Td(h.Class("path"), code(f.Source)), h.Td(g.Text(kept)),
			h.Td(h.Class("t"), g.Text(when)), h.Td(g.Text(orElse(sure, f.How)))))
	}
	return g.Group{
		h.P(g.Text("Of logs only the lines of the window are here; of what is larger than its limit, the newest.")),
		table([]string{"system", "file", "kept", "from – to", "how sure"}, rows),
		g.Iff(v.moreCut > 0, func() g.Node { return more(v.moreCut) }),
	}
}

func more(n int) g.Node {
	return h.P(h.Class("dim"), g.Text(fmt.Sprintf("and %d more, listed in %s", n, archive.ManifestName)))
}

func (v *view) files() g.Node {
	folders := []g.Node{g.Text("Each system has its folder below "), code("systems/"), g.Text(": "), code("files/"),
		g.Text(" keeps the paths of the system, "), code("commands/"), g.Text(" the output of commands, "), code("made/"),
		g.Text(" what they made, "), code("vitals.json"), g.Text(" the state of the system. ")}
	if len(v.Rounds) > 1 {
		folders = append(folders, g.Text("What an earlier round had otherwise stands below "), code(archive.Earlier), g.Text(". "))
	}
	folders = append(folders, h.A(h.Href(archive.ManifestName), g.Text(archive.ManifestName)),
		g.Text(" tells everything about every file."))
	out := g.Group{h.P(folders...)}
	for _, s := range v.shown {
		if s.total == 0 {
			continue
		}
		few := s.total <= v.unfolded
		out = append(out, h.Details(g.If(few, g.Attr("open")),
			h.Summary(h.B(g.Text(s.name)), g.Text(": "+files(s.total)+", "+size(s.bytes))),
			g.Iff(few, func() g.Node { return v.fileTable(s.files()) }),
			g.Iff(few && s.total > s.listed, func() g.Node { return more(s.total - s.listed) }),
			g.Iff(!few, func() g.Node { return v.folders(&s) })))
	}
	return out
}

// folders draws the files of a system folder by folder.
func (v *view) folders(s *systemView) g.Node {
	var out g.Group
	for _, d := range s.folders {
		out = append(out, h.Details(h.Class("folder"),
			h.Summary(code(d.path), g.Text(": "+files(d.total)+", "+size(d.bytes))),
			g.Iff(len(d.files) > 0, func() g.Node { return v.fileTable(d.files) }),
			g.Iff(d.total > len(d.files), func() g.Node { return more(d.total - len(d.files)) })))
	}
	if n := s.more.total; n > 0 {
		out = append(out, h.P(h.Class("dim"), g.Text(fmt.Sprintf("and %s in further folders, listed in %s",
			files(n), archive.ManifestName))))
	}
	return out
}

func (v *view) fileTable(list []archive.File) g.Node {
	var rows []g.Node
	for _, f := range list {
		rows = append(rows, v.file(f))
	}
	return table([]string{"file", "size", "item", "dated", "replaced", "how"}, rows)
}

func (v *view) file(f archive.File) g.Node {
	name := h.A(h.Href(link(f.Path)), code(f.Source))
	note := g.Node(nil)
	if f.Active { // a page within the evidence could run what somebody wrote into it
		name, note = code(f.Source), h.Small(g.Text("not linked: a browser could run it"))
	}
	dated := v.span(f.First, f.Last)
	if f.Cut != nil {
		dated = v.span(f.Cut.First, f.Cut.Last)
	}
	replaced := ""
	if n := f.Findings.Total(); n > 0 {
		replaced = fmt.Sprint(n)
	}
	how := f.How
	if f.Cut != nil { // the table of what was cut has the rest
		how = "cut to the window"
	}
	if f.Round != "" {
		how = strings.TrimSuffix("round "+f.Round+"; "+how, "; ")
	}
	return h.Tr(h.Td(h.Class("path"), name, note), h.Td(h.Class("n"), g.Text(size(f.Size))), h.Td(h.Class("name"), g.Text(f.Item)),
		h.Td(h.Class("t"), g.Text(dated)), h.Td(h.Class("n"), g.Text(replaced)), h.Td(g.Text(how)))
}

// link gives a relative address for a path within the archive: every byte that could mean something else is escaped.
func link(p string) string {
	parts := strings.Split(p, "/")
	for i := range parts {
		parts[i] = strings.ReplaceAll(url.PathEscape(parts[i]), ":", "%3A")
	}
	return strings.Join(parts, "/")
}

func (v *view) leftOut() g.Node {
	if len(v.left) == 0 {
		return nil
	}
	var rows []g.Node
	for _, l := range v.left {
		rows = append(rows, h.Tr(h.Td(g.Text(l.what)), h.Td(h.Class("n"), g.Text(fmt.Sprint(l.n))), h.Td(code(l.sample))))
	}
	return table([]string{"what", "how many", "for example"}, rows)
}

func (v *view) replaced() g.Node {
	r := v.Redaction
	out := g.Group{h.P(g.Text("Secrets became "), code("[redacted:RULE]"),
		g.Text(". People and addresses became made-up names that stay the same in all files: addresses in 240.0.0.0/4 and 3fff::/20, "+
			"names under "), code(".example"), g.Text(", "), code("user-…"), g.Text(". Same subnet means same subnet there too."))}
	if len(v.findings) == 0 {
		out = append(out, h.P(g.Text("Nothing had to be replaced.")))
	} else {
		docs := map[string]string{}
		for _, rule := range redact.Rules {
			docs[rule.Name] = rule.Doc
		}
		var rows []g.Node
		for _, f := range v.findings {
			rows = append(rows, h.Tr(h.Td(h.Class("t"), g.Text(f.rule)), h.Td(h.Class("n"), g.Text(fmt.Sprint(f.n))),
				h.Td(g.Text(docs[f.rule]))))
		}
		out = append(out, table([]string{"rule", "replaced", "finds"}, rows))
	}
	if len(r.Disclosed) > 0 {
		var kinds []string
		for _, kind := range slices.Sorted(maps.Keys(r.Disclosed)) {
			kinds = append(kinds, fmt.Sprintf("%d × %s", r.Disclosed[kind], kind))
		}
		out = append(out, h.P(g.Text("Readable on purpose: "+strings.Join(kinds, "; ")+".")))
	}
	if len(r.Weaker) > 0 {
		out = append(out, h.P(g.Text("Less is taken out than usual:")), list(r.Weaker, plain))
	}
	if len(r.AsIs) > 0 {
		out = append(out, h.P(g.Text("As they are, on the engineer's word; nothing in these was redacted:")), list(r.AsIs, code))
	}
	return out
}
