package flow

import (
	"io"
	"net/http"
	"strings"

	"envask/internal/report"
)

// page gathers what the archive's first page tells.
func (t *telling) page() *report.Content {
	return &report.Content{Manifest: t.m, Brief: t.brief(), Facts: t.facts()}
}

// facts compares the systems by their newest vitals. Vitals that cannot be read are in the archive all the same.
func (t *telling) facts() report.Facts {
	e := t.rules.engine()
	v := &VitalsView{}
	for _, x := range t.vitals {
		if one, err := readVitals(x.raw(), x.Entry.System); err == nil {
			v.Systems = append(v.Systems, one)
		}
	}
	v.arrange(t.sel.round.Coverage)
	var out report.Facts
	for _, s := range v.Systems {
		out.Systems = append(out.Systems, s.System)
	}
	for _, f := range v.Facts {
		row := report.Fact{Name: e.String(f.Name), Heeds: f.Heeds, Differs: f.Differs}
		for _, value := range f.Values {
			row.Values = append(row.Values, e.String(value))
		}
		out.Rows = append(out.Rows, row)
	}
	return out
}

// activeNames are the endings of files in which a browser runs what it finds, or loads it from elsewhere.
var activeNames = map[string]bool{".html": true, ".htm": true, ".xhtml": true, ".xht": true, ".shtml": true, ".mht": true, ".mhtml": true,
	".svg": true, ".svgz": true,
	".xml": true, ".xsl": true, ".xslt": true, ".pdf": true, ".js": true, ".mjs": true, ".hta": true, ".url": true, ".webloc": true,
	".desktop": true, ".lnk": true}

// headOf remembers the beginning of what is written.
type headOf struct {
	w    io.Writer
	head []byte
}

// headBytes is how much browsers look at to tell what a file is (WHATWG MIME Sniffing Standard: the resource header).
const headBytes = 1445

func (h *headOf) Write(b []byte) (int, error) {
	if room := headBytes - len(h.head); room > 0 {
		h.head = append(h.head, b[:min(room, len(b))]...)
	}
	return h.w.Write(b)
}

// active says whether a browser that looks at the content, not at the name, might take it for a page.
func (h *headOf) active() bool {
	kind, _, _ := strings.Cut(http.DetectContentType(h.head), ";")
	if kind == "text/html" || kind == "text/xml" || kind == "application/pdf" {
		return true
	}
	text := strings.ToLower(string(h.head))
	for _, sign := range []string{"<script", "<html", "<svg", "<!doctype", "<iframe", "<body"} {
		if kind == "text/plain" && strings.Contains(text, sign) {
			return true
		}
	}
	return false
}
