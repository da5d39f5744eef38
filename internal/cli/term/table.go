package term

import (
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Column is one column of a table.
type Column struct {
	Title string
	Right bool // numbers
	Least int  // it is never made narrower than this
	Wide  bool // it takes what width is left, and wraps
	Once  bool // a value that is the same as in the row above is left blank
}

// Table draws a table of rows. Cells must be clean already; they may hold colours.
func (s *Screen) Table(columns []Column, rows [][]string) {
	if !s.fits(columns, rows) {
		s.stacked(columns, rows)
		return
	}
	t := table.NewWriter()
	t.SetOutputMirror(SafeWriter(s.Out))
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	header := make(table.Row, len(columns))
	configs := make([]table.ColumnConfig, len(columns))
	left, wide := s.Width, 0
	for i, c := range columns {
		header[i] = s.Paint(Bold, c.Title)
		configs[i].Number = i + 1
		if c.Right {
			configs[i].Align, configs[i].AlignHeader = text.AlignRight, text.AlignRight
		}
		if c.Wide {
			wide++
		} else {
			left -= widest(c, rows, i) + 2
		}
	}
	for i, c := range columns {
		if c.Wide {
			configs[i].WidthMax = max(c.Least, left/wide-2)
			configs[i].WidthMaxEnforcer = Wrap
		}
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(header)
	for n, r := range rows {
		row := make(table.Row, len(r))
		for i := range r {
			if row[i] = r[i]; columns[i].Once && n > 0 && rows[n-1][i] == r[i] {
				row[i] = ""
			}
		}
		t.AppendRow(row)
	}
	t.SuppressTrailingSpaces()
	t.Render()
}

// fits says whether the terminal is wide enough for all columns side by side, with no word broken.
func (s *Screen) fits(columns []Column, rows [][]string) bool {
	need := 0
	for i, c := range columns {
		if c.Wide {
			need += max(min(c.Least, widest(c, rows, i)), longestWord(rows, i)) + 2
		} else {
			need += widest(c, rows, i) + 2
		}
	}
	return need-2 <= s.Width
}

// stacked draws the rows of a table on a narrow terminal: a block each, every value with the name of its column. Short values share a line.
func (s *Screen) stacked(columns []Column, rows [][]string) {
	for n, r := range rows {
		if same := columns[0].Once && n > 0 && rows[n-1][0] == r[0]; !same {
			if n > 0 {
				s.Print("")
			}
			s.Print("%s %s", s.Paint(Bold, columns[0].Title), r[0])
		}
		line := ""
		var below []string
		for i, c := range columns {
			if i == 0 || r[i] == "" || r[i] == "-" {
				continue
			}
			value := c.Title + " " + r[i]
			switch wide := text.StringWidthWithoutEscSequences(value); {
			case c.Wide:
				below = append(below, value)
			case line != "" && text.StringWidthWithoutEscSequences(line)+3+wide > s.Width-3:
				s.Print("  %s", line)
				line = value
			case line != "":
				line += "   " + value
			default:
				line = value
			}
		}
		if line != "" {
			s.Print("  %s", line)
		}
		for _, b := range below {
			for k, l := range strings.Split(Wrap(b, max(20, s.Width-7)), "\n") {
				s.Print("    %s%s", strings.Repeat("  ", min(k, 1)), strings.TrimRight(l, " "))
			}
		}
	}
}

// Wrap wraps text to a width without breaking words. A path may be broken behind a slash; any other word that is too long stays whole.
func Wrap(s string, width int) string {
	var lines []string
	for _, line := range strings.Split(s, "\n") {
		at, n := "", 0
		for _, word := range strings.Fields(line) {
			pieces := []string{word}
			if text.StringWidthWithoutEscSequences(word) > width {
				pieces = strings.SplitAfter(word, "/")
			}
			for k, p := range pieces {
				w := text.StringWidthWithoutEscSequences(p)
				space := 0
				if k == 0 && n > 0 {
					space = 1
				}
				if n > 0 && n+space+w > width {
					lines = append(lines, at)
					at, n, space = "", 0, 0
				}
				at, n = at+strings.Repeat(" ", space)+p, n+space+w
			}
		}
		lines = append(lines, at)
	}
	return strings.Join(lines, "\n")
}

// longestWord gives the width of the longest word in a column that Wrap does not break.
func longestWord(rows [][]string, i int) int {
	w := 0
	for _, r := range rows {
		for _, word := range strings.Fields(r[i]) {
			for _, p := range strings.SplitAfter(word, "/") {
				w = max(w, text.StringWidthWithoutEscSequences(p))
			}
		}
	}
	return w
}

func widest(c Column, rows [][]string, i int) int {
	w := text.StringWidthWithoutEscSequences(c.Title)
	for _, r := range rows {
		w = max(w, text.StringWidthWithoutEscSequences(r[i]))
	}
	return w
}
