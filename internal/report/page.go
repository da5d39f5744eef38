// Package report draws the first page of an archive, for a reader who has nothing but a browser.
package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"net/url"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/archive"
	"envask/internal/collect"
)

//go:embed page.html
var pageText string

// Text gives the page's own text, which stands in every archive.
func Text() string { return pageText }

// maxLinks bounds how many files of one system are linked; the manifest lists them all.
const maxLinks = 300

// page is read when it is needed: most commands draw none.
var page = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Funcs(template.FuncMap{
		"size": func(n int64) string { return humanize.IBytes(uint64(max(0, n))) },
		"time": func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") },
		"link": link,
		"files": func(n int) string {
			if n == 1 {
				return "1 file"
			}
			return humanize.Comma(int64(n)) + " files"
		},
		"total": func(s systemView) int { return len(s.Files) + s.More },
		"clock": func(c collect.Clock) string { return c.String() },
		"took":  func(d time.Duration) string { return d.Round(time.Millisecond).String() },
	}).Parse(pageText))
})

// link gives a relative URL for a path within the archive.
func link(p string) template.URL {
	parts := strings.Split(p, "/")
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return template.URL(strings.Join(parts, "/")) // every byte that could mean something else is escaped
}

type view struct {
	archive.Manifest
	Items    []string
	Systems  []systemView
	Findings []count
	Problems []collect.Cell
	Left     []leftView
}

type systemView struct {
	Name  string
	Cells []*collect.Cell // in the order of Items; nil where the item is not wanted from the system
	Files []archive.File
	More  int
	Bytes int64
}

type count struct {
	Rule string
	N    int
}

type leftView struct {
	Reason string
	N      int
	Sample string
}

// Page writes the first page.
func Page(w io.Writer, m *archive.Manifest) error {
	return page().Execute(w, newView(m))
}

func newView(m *archive.Manifest) view {
	v := view{Manifest: *m}
	columns := map[string]int{}
	rows := map[string]int{}
	for _, c := range m.Coverage {
		if _, ok := columns[c.Item]; !ok {
			columns[c.Item] = len(v.Items)
			v.Items = append(v.Items, c.Item)
		}
		if _, ok := rows[c.System]; !ok && c.System != "" {
			rows[c.System] = len(v.Systems)
			v.Systems = append(v.Systems, systemView{Name: c.System})
		}
	}
	for i := range v.Systems {
		v.Systems[i].Cells = make([]*collect.Cell, len(v.Items))
	}
	for i := range m.Coverage {
		c := &m.Coverage[i]
		if c.System != "" {
			v.Systems[rows[c.System]].Cells[columns[c.Item]] = c
		}
		if c.State != collect.Taken && c.State != collect.Skipped || c.Reason != "" || c.System == "" {
			v.Problems = append(v.Problems, *c)
		}
	}
	for _, f := range m.Files {
		row, ok := rows[f.System]
		if !ok {
			continue
		}
		s := &v.Systems[row]
		s.Bytes += f.Size
		if len(s.Files) < maxLinks {
			s.Files = append(s.Files, f)
		} else {
			s.More++
		}
	}
	for rule, n := range m.Redaction.Findings {
		v.Findings = append(v.Findings, count{rule, n})
	}
	sort.Slice(v.Findings, func(i, j int) bool {
		a, b := v.Findings[i], v.Findings[j]
		return a.N > b.N || a.N == b.N && a.Rule < b.Rule
	})
	v.Left = groupLeft(m.LeftOut)
	return v
}

// groupLeft puts what was left out for the same kind of reason into one line.
func groupLeft(left []archive.LeftOut) []leftView {
	at := map[string]int{}
	var out []leftView
	for _, l := range left {
		k := fmt.Sprintf("%s, item %s: %s", l.System, l.Item, l.State)
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, leftView{Reason: k, Sample: l.Source + ": " + l.Reason})
		}
		out[i].N++
	}
	return out
}
