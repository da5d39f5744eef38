package report

import (
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"io"
	"slices"
	"strings"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"envask/internal/archive"
	"envask/internal/brief"
	"envask/internal/round"
	"envask/internal/site"
)

//go:embed page.css
var style string

// Content is what the page tells. All text in it went through redaction.
type Content struct {
	*archive.Manifest
	Brief  brief.Brief
	Facts  Facts
	bounds *bounds // nil is the usual ones
}

// Facts are the systems side by side.
type Facts struct {
	Systems []string
	Rows    []Fact
}

// Fact is one row: what each system says, in their order.
type Fact struct {
	Name    string
	Values  []string
	Heeds   []bool // values that need a look; may be nil
	Differs bool   // among systems that should be alike
}

// Page writes the first page. It holds no script, loads nothing, and forbids the browser both; text is escaped by the
// library that builds it, and the only addresses in it lead to anchors and to files of the archive.
func Page(w io.Writer, c *Content) error {
	sum := sha256.Sum256([]byte(style))
	rules := "default-src 'none'; style-src 'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'; base-uri 'none'; form-action 'none'"
	v, err := newView(c)
	if err != nil {
		return err
	}
	return h.Doctype(h.HTML(h.Lang("en"),
		h.Head(
			h.Meta(h.Charset("utf-8")),
			h.Meta(g.Attr("http-equiv", "Content-Security-Policy"), h.Content(rules)),
			h.Meta(h.Name("viewport"), h.Content("width=device-width, initial-scale=1")),
			h.Meta(h.Name("referrer"), h.Content("no-referrer")),
			h.TitleEl(g.Text("Case "+c.Case+": "+orElse(c.Title, "evidence"))),
			h.StyleEl(g.Raw(style)),
		),
		h.Body(v.head(), v.contents(), g.Map(v.sections(), func(s section) g.Node {
			return h.Section(h.ID(s.id), h.H2(g.Text(s.title)), s.body)
		})),
	)).Render(w)
}

// section is one part of the page; without a body it is left out.
type section struct {
	id, title string
	body      g.Node
}

func (v *view) sections() []section {
	var out []section
	for _, s := range []section{
		{"brief", "The write-up", v.writeUp()},
		{"coverage", "What was taken from where", v.coverage()},
		{"clocks", "Window and clocks", v.clocks()},
		{"systems", "The systems", v.systems()},
		{"brought", "What persons brought", v.brought()},
		{"cut", "What was cut", v.cut()},
		{"files", "The files", v.files()},
		{"left-out", "Left out", v.leftOut()},
		{"replaced", "What was replaced", v.replaced()},
		{"checking", "Checking it", v.checking()},
	} {
		if s.body != nil {
			out = append(out, s)
		}
	}
	return out
}

func (v *view) contents() g.Node {
	return h.Nav(g.Map(v.sections(), func(s section) g.Node { return h.A(h.Href("#"+s.id), g.Text(s.title)) }))
}

func (v *view) head() g.Node {
	facts := []g.Node{fact("For", v.Vendor), fact("Site", v.Site), fact("Window", v.window()), fact("Times", "in "+v.zone.String())}
	for _, r := range v.Rounds {
		text := fmt.Sprintf("%s to %s, depth %s", v.clock(r.Started), v.clock(r.Ended), r.Depth)
		if len(v.Rounds) > 1 && r.Window != "" {
			text += ", window " + r.Window
		}
		if r.Note != "" {
			text += ": " + r.Note
		}
		facts = append(facts, fact("Round "+r.ID, text))
	}
	facts = append(facts, fact("Evidence", v.evidence()))
	title := "Case " + v.Case
	if v.Title != "" {
		title += ": " + v.Title
	}
	return g.Group{h.H1(g.Text(title)), h.Dl(facts...), v.verdicts()}
}

// evidence says how much there is.
func (v *view) evidence() string {
	from, of := 0, 0
	for _, s := range v.shown {
		if s.name == site.Case {
			continue // what persons brought for the case as a whole
		}
		of++
		if s.total > 0 {
			from++
		}
	}
	return fmt.Sprintf("%s from %d of %d systems, %s", files(v.total), from, of, size(v.bytes))
}

func (v *view) window() string {
	if v.Window.Extra == "" {
		return v.Window.Text
	}
	return v.Window.Text + ", and " + v.Window.Extra + " more on both sides"
}

// verdicts are what the reader has to know before anything else.
func (v *view) verdicts() g.Node {
	var out g.Group
	if v.NewSince != "" {
		out = append(out, verdict("heed", h.P(g.Text("This archive goes with an earlier one: what did not change since round "),
			h.B(g.Text(v.NewSince)), g.Text(" stands only there."))))
	}
	if v.Complete {
		out = append(out, verdict("", g.Text("Everything that the ask "), h.B(g.Text(v.Ask)), g.Text(" requires is here"),
			g.If(v.NewSince != "", g.Text(" or there")), g.Text(".")))
	}
	return append(out, v.wrong())
}

// mostWrong bounds each list in the box of what is wrong.
const mostWrong = 30

// wrong is the one box of what is not as it should be: what is required and lacks first.
func (v *view) wrong() g.Node {
	var out g.Group
	class := "heed"
	if !v.Complete {
		class = "lacking"
		out = append(out, h.P(h.B(g.Text("This archive lacks something that the ask "+v.Ask+" requires:"))),
			list(bounded(v.Lacking), plain))
	}
	for _, r := range v.Window.Remarks {
		out = append(out, h.P(g.Text(r)))
	}
	if others := v.notHere(); len(others) > 0 {
		out = append(out, h.P(h.B(g.Text("Wanted, and not here:"))), list(bounded(others), plain))
	}
	if n := v.behind; n > 0 {
		out = append(out, h.P(g.Text(fmt.Sprintf("%s stayed out of the archive: ", files(n))),
			h.A(h.Href("#left-out"), g.Text("the list")), g.Text(".")))
	}
	if len(v.Redaction.Opaque) > 0 {
		out = append(out, h.P(h.B(g.Text("Not looked into:")),
			g.Text(" redaction cannot read these files; they are here on the engineer's word:")), list(bounded(v.Redaction.Opaque), code))
	}
	if len(v.Redaction.StillThere) > 0 {
		var lines []string
		for _, s := range v.Redaction.StillThere {
			lines = append(lines, s.Words())
		}
		out = append(out, h.P(h.B(g.Text("Still there:")),
			g.Text(" values that were removed everywhere else stand in these files, which nobody redacted:")), list(bounded(lines), code))
	}
	if len(out) == 0 {
		return nil
	}
	return verdict(class, out...)
}

// notHere lists what is wanted, not required and not here: a line for each reason, with the items and systems that share it.
func (v *view) notHere() []string {
	type shared struct {
		items, systems []string
		words          string
	}
	var all []*shared
	byReason := map[string]*shared{}
	for _, c := range v.Coverage {
		switch c.State {
		case round.Missing, round.Denied, round.Refused, round.Failed, round.TimedOut:
		default:
			continue
		}
		if c.Lacking() {
			continue
		}
		words := strings.TrimSuffix(string(c.State)+": "+c.Reason, ": ")
		s := byReason[words]
		if s == nil {
			s = &shared{words: words}
			byReason[words], all = s, append(all, s)
		}
		if !slices.Contains(s.items, c.Item) {
			s.items = append(s.items, c.Item)
		}
		if system := orElse(c.System, "no system"); !slices.Contains(s.systems, system) {
			s.systems = append(s.systems, system)
		}
	}
	var lines []string
	for _, s := range all {
		lines = append(lines, fmt.Sprintf("%s on %s: %s", strings.Join(s.items, ", "), strings.Join(bounded(s.systems), ", "), s.words))
	}
	return lines
}

// bounded cuts a list; the manifest has all of it.
func bounded(lines []string) []string {
	if len(lines) <= mostWrong {
		return lines
	}
	return append(slices.Clone(lines[:mostWrong]), fmt.Sprintf("and %d more (all in %s)", len(lines)-mostWrong, archive.ManifestName))
}

func (v *view) writeUp() g.Node {
	var rows []g.Node
	for _, f := range v.Brief.Fields() {
		text := v.Brief.Value(f.ID)
		if f.ID == brief.Title || text == "" && !f.Asked {
			continue
		}
		answer := h.Span(h.Class("answer"), g.Text(text))
		if text == "" {
			answer = h.Span(h.Class("dim"), g.Text("not answered"))
		}
		if from := v.Brief.From[f.ID]; from != "" {
			answer = g.Group{answer, h.Span(h.Class("dim"), g.Text(" from "+from))}
		}
		rows = append(rows, h.Dt(g.Text(f.Text)), h.Dd(answer))
	}
	if rows == nil {
		return nil
	}
	return g.Group{g.If(v.Brief.News != "", h.P(h.B(g.Text(v.Brief.News)))), h.Dl(rows...),
		h.P(g.Text("The same as text: "), h.A(h.Href(archive.BriefName), g.Text(archive.BriefName)))}
}

func (v *view) checking() g.Node {
	return g.Group{
		h.P(g.Text("In this folder, on Linux or macOS, and on Windows where these tools are installed:")),
		h.Pre(g.Text("sha256sum -c " + archive.SumsName)),
		g.Iff(v.SignedBy != "", func() g.Node {
			return h.P(h.Code(g.Text(archive.ManifestName)), g.Text(" is signed with the key "), code(v.SignedBy), g.Text("; "),
				h.Code(g.Text("ssh-keygen -Y verify")), g.Text(" checks "), h.Code(g.Text(archive.SignatureName)), g.Text("."))
		}),
		h.P(h.Class("dim"), g.Text(fmt.Sprintf("Made with Envask %s, redaction rules version %s.", v.Envask, v.Rules))),
	}
}

func fact(name, text string) g.Node { return g.Group{h.Dt(g.Text(name)), h.Dd(g.Text(text))} }

func verdict(class string, inside ...g.Node) g.Node {
	return h.Div(append([]g.Node{h.Class(strings.TrimSpace("verdict " + class))}, inside...)...)
}

func plain(text string) g.Node { return g.Text(text) }
func code(text string) g.Node  { return h.Code(g.Text(text)) }

func list(texts []string, as func(string) g.Node) g.Node {
	return h.Ul(g.Map(texts, func(t string) g.Node { return h.Li(as(t)) }))
}

// table draws one with a heading; rows are made of its cells.
func table(columns []string, rows []g.Node) g.Node {
	return h.Div(h.Class("wide"), h.Table(
		h.THead(h.Tr(g.Map(columns, func(c string) g.Node { return h.Th(g.Text(c)) }))),
		h.TBody(rows...)))
}

func orElse(text, other string) string {
	if text == "" {
		return other
	}
	return text
}
