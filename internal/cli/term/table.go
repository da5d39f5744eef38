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
			configs[i].WidthMaxEnforcer = text.WrapSoft
		}
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(header)
	for _, r := range rows {
		row := make(table.Row, len(r))
		for i := range r {
			row[i] = r[i]
		}
		t.AppendRow(row)
	}
	t.SuppressTrailingSpaces()
	t.Render()
}

// fits says whether the terminal is wide enough for all columns side by side.
func (s *Screen) fits(columns []Column, rows [][]string) bool {
	need := 0
	for i, c := range columns {
		if c.Wide {
			need += min(c.Least, widest(c, rows, i)) + 2
		} else {
			need += widest(c, rows, i) + 2
		}
	}
	return need-2 <= s.Width
}

// stacked draws the rows of a table on a narrow terminal: what is short on one line, what is wide below it. The heading is
// that of the first column, and numbers are named.
func (s *Screen) stacked(columns []Column, rows [][]string) {
	s.Print("%s", s.Paint(Bold, columns[0].Title))
	for _, r := range rows {
		var line, below []string
		for i, c := range columns {
			switch {
			case r[i] == "" || r[i] == "-":
			case c.Wide:
				below = append(below, r[i])
			case c.Right:
				line = append(line, c.Title+" "+r[i])
			default:
				line = append(line, r[i])
			}
		}
		s.Print("%s", strings.Join(line, "  "))
		for _, b := range below {
			for _, l := range strings.Split(text.WrapSoft(b, max(20, s.Width-4)), "\n") {
				s.Print("    %s", strings.TrimRight(l, " "))
			}
		}
	}
}

func widest(c Column, rows [][]string, i int) int {
	w := text.StringWidthWithoutEscSequences(c.Title)
	for _, r := range rows {
		w = max(w, text.StringWidthWithoutEscSequences(r[i]))
	}
	return w
}
