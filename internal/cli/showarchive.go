package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/redact"
	"envask/internal/round"
	"envask/internal/window"
)

// showArchive shows what an archive says about itself, and whether that holds.
func (s *session) showArchive(ctx context.Context, a *flow.App, file string, x showing) error {
	d, err := a.ShowArchive(ctx, file)
	if err != nil {
		return err
	}
	m := d.Manifest
	if x.file != "" {
		return s.drawFiles(flow.ArchiveFiles(m, x.systems, x.items, x.file), filepath.Base(file), x.file)
	}
	if s.common.json {
		return s.writeJSON(d)
	}
	s.screen.Print("%s", term.Clean(file))
	checked := s.screen.Paint(term.Good, "every checksum holds")
	if n := len(d.Differences); n > 0 {
		checked = s.screen.Paint(term.Bad, fmt.Sprintf("%d %s from its checksums; envask verify names them", n,
			one(n, "difference", "differences")))
	}
	s.screen.Field("checked", checked)
	s.screen.Field("case", term.Clean(strings.TrimSuffix(m.Case+": "+m.Title, ": ")))
	s.screen.Field("for", term.Clean(m.Vendor+", ask "+m.Ask+", from "+m.Site))
	if zone, err := window.ParseZone(m.Window.Zone); err == nil {
		s.zone = zone
	}
	s.screen.Field("window", term.Clean(m.Window.Text))
	s.screen.Field("times", "in "+s.zoneShown().String())
	for _, r := range m.Rounds {
		s.screen.Field("round", term.Clean(strings.TrimSuffix(fmt.Sprintf("%s, %s, depth %s: %s", r.ID, s.when(r.Started), r.Depth, r.Note),
			": ")))
	}
	if m.NewSince != "" {
		s.screen.Field("holds", "only what is new since "+term.Clean(m.NewSince))
	}
	s.screen.Field("size", fmt.Sprintf("%s, %s unpacked, %s %s of evidence", bytesText(d.Size), bytesText(d.Bytes),
		humanize.Comma(int64(len(m.Files))), one(len(m.Files), "file", "files")))
	s.screen.Field("SHA-256", d.SHA256)
	if d.SignedBy != "" {
		s.screen.Field("signed", "with "+term.Clean(d.SignedBy))
	}
	s.screen.Field("replaced", countsText(m.Redaction.Findings))
	s.screen.Field("made by", term.Clean("Envask "+m.Envask))
	for _, l := range m.Lacking {
		s.screen.Print("  %s %s", s.screen.Paint(term.Bad, "lacks:"), term.Clean(l))
	}
	s.screen.Print("")
	if x.ofFiles() {
		s.drawArchiveFiles(flow.ArchiveFiles(m, x.systems, x.items, ""))
		return nil
	}
	s.drawCoverage(m.Coverage, true)
	return nil
}

func (s *session) drawArchiveFiles(list []flow.FileView) {
	var rows [][]string
	for _, f := range list {
		rows = append(rows, []string{f.System, f.Item, term.Clean(f.Source), bytesText(f.Size), s.spanText(f), countOf(f.Findings)})
	}
	s.screen.Table([]term.Column{{Title: "system"}, {Title: "item"}, {Title: "path or command", Wide: true, Least: 24},
		{Title: "size", Right: true}, {Title: "dated"}, {Title: "replaced", Right: true}}, rows)
}

func countOf(c redact.Counts) string {
	if n := c.Total(); n > 0 {
		return humanize.Comma(int64(n))
	}
	return ""
}

// spanText says which time the lines of a file span: of what was kept, where it was cut.
func (s *session) spanText(f flow.FileView) string {
	from, to := f.First, f.Last
	if f.Cut != nil {
		from, to = f.Cut.First, f.Cut.Last
	}
	if from.IsZero() || to.IsZero() {
		return ""
	}
	return from.In(s.zoneShown()).Format(time.DateTime) + " to " + to.In(s.zoneShown()).Format(time.DateTime)
}

// drawFiles tells everything about some files.
func (s *session) drawFiles(list []flow.FileView, where, text string) error {
	if len(list) == 0 {
		return fault.New(fault.Usage, "show", text, "no file of "+where+" has that in its path",
			"with --system NAME all files of a system are listed")
	}
	if s.common.json {
		return s.writeJSON(list)
	}
	for i, f := range list {
		if i == maxListed && !s.common.verbose {
			s.screen.Print("and %d more; --verbose shows them all", len(list)-i)
			break
		}
		if i > 0 {
			s.screen.Print("")
		}
		s.drawFile(f)
	}
	return nil
}

func (s *session) drawFile(f flow.FileView) {
	s.screen.Print("%s", s.screen.Paint(term.Bold, term.Clean(f.System+" "+f.Source)))
	field := func(name, text string) {
		if text != "" {
			s.screen.Field(name, term.Clean(text))
		}
	}
	field("state", strings.TrimSuffix(string(f.State)+": "+f.How, ": "))
	field("item", strings.TrimSuffix(f.Item+" of round "+f.Round, " of round "))
	if f.Gone {
		field("file", "removed here by tidy")
	}
	field("file", f.Path)
	size := bytesText(f.SizeThere) + " on the system"
	if f.Path != "" || f.Gone {
		size += ", " + bytesText(f.SizeTaken) + " taken"
	}
	if f.Size > 0 {
		size += ", " + bytesText(f.Size) + " in the archive"
	}
	field("size", size)
	if !f.Modified.IsZero() {
		field("modified", f.Modified.In(s.zoneShown()).Format(time.DateTime))
	}
	field("dated", s.spanText(f))
	field("cut", cutText(f.Cut))
	field("form", string(f.Form))
	if len(f.Findings) > 0 {
		field("replaced", countsText(f.Findings))
	}
	if len(f.Learned) > 0 {
		field("learned", countsText(f.Learned))
	}
	if ran := f.Command; ran != nil {
		field("ran", fmt.Sprintf("%s, exit code %d, in %s", ran.Started.In(s.zoneShown()).Format(time.DateTime), ran.Exit,
			ran.Took.Round(time.Millisecond)))
	}
	field("SHA-256", f.SHA256)
}

// cutText says how a log was cut.
func cutText(c *round.CutInfo) string {
	if c == nil {
		return ""
	}
	text := c.Sure
	if c.Lines >= 0 && c.Of >= 0 {
		text = fmt.Sprintf("%s of %s lines, %s", humanize.Comma(c.Lines), humanize.Comma(c.Of), text)
	}
	if c.Unpacked != "" {
		text += ", unpacked from " + c.Unpacked
	}
	return strings.Join(append([]string{text}, c.Notes...), "; ")
}
