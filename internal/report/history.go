package report

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"time"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"
)

// Story is the history of a case for a page: who had which bytes when.
type Story struct {
	Case, Title string
	Zone        *time.Location
	Records     int    // of which the chain of the ledger holds
	Damage      string // why not all of them can be told; "" for none
	Deeds       []Deed
}

// Deed is one thing that was done.
type Deed struct {
	At               time.Time
	Who, What, Proof string
}

// HistoryPage writes the history of a case as a page of its own, which holds no script and loads nothing.
func HistoryPage(w io.Writer, s *Story) error {
	sum := sha256.Sum256([]byte(style))
	rules := "default-src 'none'; style-src 'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'; base-uri 'none'; form-action 'none'"
	verdictClass, said := "verdict",
		fmt.Sprintf("The chain of the ledger holds: each of its %d records names the checksum of the one before.", s.Records)
	if s.Damage != "" {
		verdictClass, said = "verdict lacking", s.Damage
	}
	rows := g.Map(s.Deeds, func(d Deed) g.Node {
		return h.Tr(h.Td(h.Class("t"), g.Text(d.At.In(s.Zone).Format("2006-01-02 15:04:05"))), h.Td(g.Text(d.Who)), h.Td(g.Text(d.What)),
			h.Td(h.Class("dim"), g.Text(d.Proof)))
	})
	title := "History of case " + s.Case
	if s.Title != "" {
		title += ": " + s.Title
	}
	return h.Doctype(h.HTML(h.Lang("en"),
		h.Head(h.Meta(h.Charset("utf-8")), h.Meta(g.Attr("http-equiv", "Content-Security-Policy"), h.Content(rules)),
			h.Meta(h.Name("viewport"), h.Content("width=device-width, initial-scale=1")),
			h.Meta(h.Name("referrer"), h.Content("no-referrer")),
			h.TitleEl(g.Text(title)), h.StyleEl(g.Raw(style))),
		h.Body(h.H1(g.Text(title)), h.P(g.Text("Times in "+s.Zone.String())), h.Div(h.Class(verdictClass), g.Text(said)),
			h.Div(h.Class("wide"), h.Table(h.THead(h.Tr(h.Th(g.Text("When")), h.Th(g.Text("Who")),
				h.Th(g.Text("What")), h.Th(g.Text("Proof")))),
				h.TBody(rows)))),
	)).Render(w)
}
