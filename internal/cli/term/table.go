package term

import (
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
	t := table.NewWriter()
	t.SetOutputMirror(s.Out)
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

func widest(c Column, rows [][]string, i int) int {
	w := text.StringWidthWithoutEscSequences(c.Title)
	for _, r := range rows {
		w = max(w, text.StringWidthWithoutEscSequences(r[i]))
	}
	return w
}
