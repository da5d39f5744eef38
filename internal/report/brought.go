package report

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"envask/internal/archive"
)

// maxBrought bounds how many files of persons are listed with what is known of them.
const maxBrought = 200

// brought draws what persons brought: who, when, what it is, and which requests failed in a recording.
func (v *view) brought() g.Node {
	if len(v.persons) == 0 && len(v.Elsewhere) == 0 {
		return nil
	}
	out := g.Group{}
	var rows []g.Node
	for i := range v.persons {
		f := &v.persons[i]
		about := strings.Trim(f.Brought.About+"; "+f.Brought.Note, "; ")
		if n := f.Brought.Boxes; n > 0 {
			about += fmt.Sprintf("; %d rectangles of it are black", n)
		}
		name := g.Node(h.A(h.Href(link(f.Path)), code(f.Path)))
		if f.Active {
			name = code(f.Path)
		}
		rows = append(rows, h.Tr(h.Td(h.Class("path"), name), h.Td(h.Class("name"), g.Text(f.Item)), h.Td(g.Text(f.System)),
			h.Td(g.Text(f.Brought.By)), h.Td(h.Class("t"), g.Text(v.clock(f.Brought.At))),
			h.Td(g.Text(strings.Trim(about+"; "+f.How, "; ")))))
	}
	if len(rows) > 0 {
		out = append(out, table([]string{"file", "item", "of", "brought by", "at", "what it is"}, rows),
			g.Iff(v.morePersons > 0, func() g.Node { return more(v.morePersons) }))
	}
	for i := range v.persons {
		if f := &v.persons[i]; len(f.Brought.Requests) > 0 {
			out = append(out, v.requests(f))
		}
	}
	rows = nil
	for _, e := range v.Elsewhere {
		there := ""
		if e.Size > 0 {
			there = size(e.Size)
		}
		rows = append(rows, h.Tr(h.Td(g.Text(e.Item)), h.Td(g.Text(e.System)), h.Td(h.Class("path"), code(e.Address)),
			h.Td(h.Class("n"), g.Text(there)),
			h.Td(h.Class("path"), code(e.SHA256)), h.Td(g.Text(e.By)), h.Td(g.Text(e.Note))))
	}
	if len(rows) > 0 {
		out = append(out, h.P(g.Text("These lie elsewhere and were not read; size and SHA-256 are as somebody gave them.")),
			table([]string{"item", "of", "address", "size", "SHA-256", "told by", "note"}, rows))
	}
	return out
}

// requests draws the requests of a recording that failed or were slow.
func (v *view) requests(f *archive.File) g.Node {
	var rows []g.Node
	for _, r := range f.Brought.Requests {
		status := strconv.Itoa(r.Status)
		if r.Status == 0 {
			status = "no answer"
		}
		took := time.Duration(r.Took * float64(time.Second)).Round(time.Millisecond).String()
		rows = append(rows, h.Tr(h.Td(g.Text(r.Method)), h.Td(h.Class("path"), code(r.Path)),
			h.Td(g.Text(strings.TrimSpace(status+" "+r.Why))),
			h.Td(h.Class("n"), g.Text(took)), h.Td(h.Class("t"), g.Text(v.clock(r.At)))))
	}
	return g.Group{h.P(g.Text("Requests that failed or took 3 s or more in "), code(f.Path), g.Text(":")),
		table([]string{"method", "path", "status", "took", "at"}, rows),
		g.Iff(f.Brought.More > 0, func() g.Node { return more(f.Brought.More) })}
}
