package cli

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/go-json-experiment/json/v1"
	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/logset"
	"envask/internal/stamp"
	"envask/internal/window"
)

func newTimes(s *session) *cobra.Command {
	var zone, asOf, boot string
	var each bool
	c := &cobra.Command{
		Use:   "times FILE...",
		Short: "Say which time format a log uses, its first and last time, how much is dated",
		Long: `Find out how logs are dated, without being told a format: the formats found, the zone and where it comes from, the
first and last time, the share of lines that are dated, their order, gaps and jumps. Compressed files are opened.`,
		Example: `  envask times /var/log/boarding/gate.log*
  envask times --zone Europe/Lisbon --as-of 2026-03-14 --each old.log`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			q, err := timesRequest(args, zone, asOf, boot, s.env.Now())
			if err != nil {
				return usage(cmd, err)
			}
			return s.times(cmd, q, each)
		},
	}
	c.Flags().BoolVar(&each, "each", false, "print the time of every line")
	c.Flags().StringVar(&zone, "zone", "", "zone of times that name none (default: this machine's)")
	c.Flags().StringVar(&asOf, "as-of", "", "reference day for missing years and dates (default: the file's date)")
	c.Flags().StringVar(&boot, "boot", "", "when the system was started, for stamps that count from there")
	return c
}

func timesRequest(files []string, zone, asOf, boot string, now time.Time) (flow.TimesRequest, error) {
	q := flow.TimesRequest{Files: files}
	local := window.LocalZone()
	if zone != "" {
		z, err := window.ParseZone(zone)
		if err != nil {
			return q, fault.Wrap("", "--zone", err)
		}
		q.Zone, local = z, z
	}
	for _, f := range []struct {
		name, text string
		to         *time.Time
	}{{"--as-of", asOf, &q.AsOf}, {"--boot", boot, &q.Boot}} {
		if f.text == "" {
			continue
		}
		t, err := time.ParseInLocation(time.DateOnly, f.text, local)
		if err != nil {
			if t, err = window.ParseTime(f.text, local, now, window.Begin); err != nil {
				return q, fault.Wrap("", f.name, err)
			}
		}
		*f.to = t
	}
	return q, nil
}

func (s *session) times(cmd *cobra.Command, q flow.TimesRequest, each bool) error {
	a, err := s.app()
	if err != nil {
		return err
	}
	if each {
		q.Each = s.eachLine(len(q.Files) > 1, q.Zone)
	}
	all, err := a.Times(cmd.Context(), q)
	for _, f := range all {
		if f.Broken != nil {
			s.screen.Say("note: %s: it ends early: %s; what is whole was read", term.Clean(f.File), term.Clean(f.Broken.Error()))
		}
	}
	switch {
	case each:
	case s.common.json:
		rows := []timesRow{}
		for _, f := range all {
			rows = append(rows, rowOf(f))
		}
		if e := s.writeJSON(rows); err == nil {
			err = e
		}
	case len(all) > 0:
		s.drawTimes(all)
	}
	return err
}

// eachLine prints every line's time, as an object a line or for people.
func (s *session) eachLine(several bool, zone *time.Location) func(string, int64, time.Time, stamp.Doubt, []byte) error {
	type object struct {
		File  string     `json:"file,omitempty"`
		Line  int64      `json:"line"`
		Time  *time.Time `json:"time"`
		Doubt []string   `json:"doubt,omitempty"`
	}
	if zone == nil {
		zone = window.LocalZone()
	}
	enc := json.NewEncoder(term.JSON(s.env.Out))
	enc.SetEscapeHTML(false)
	last := ""
	return func(file string, n int64, t time.Time, d stamp.Doubt, text []byte) error {
		if s.common.json {
			o := object{Line: n, Doubt: d.Texts()}
			if several {
				o.File = file
			}
			if !t.IsZero() {
				o.Time = &t
			}
			return enc.Encode(o)
		}
		if several && file != last {
			s.screen.Print("%s", s.screen.Paint(term.Bold, term.Clean(file)))
			last = file
		}
		at := strings.Repeat(" ", 29)
		if !t.IsZero() {
			at = fmt.Sprintf("%-29s", t.In(zone).Format("2006-01-02 15:04:05.000 -07:00"))
		}
		sure := " "
		if d != 0 {
			sure = s.screen.Paint(term.Warn, "?")
		}
		text = bytes.TrimRight(text, "\r\n")
		if room := max(10, min(s.screen.Width, 200)-42); len(text) > room {
			text = text[:room]
		}
		s.screen.Print("%7d  %s %s %s", n, at, sure, s.screen.Paint(term.Faint, term.Clean(string(text))))
		return nil
	}
}

// timesRow is one file in the JSON of times.
type timesRow struct {
	File     string        `json:"file"`
	Packing  string        `json:"packing,omitempty"`
	Lines    int64         `json:"lines"`
	Dated    int64         `json:"dated"`
	Formats  []formatRow   `json:"formats"`
	Zone     string        `json:"zone"`
	ZoneFrom string        `json:"zone_from"`
	First    *time.Time    `json:"first"`
	Last     *time.Time    `json:"last"`
	Order    string        `json:"order"`
	Disorder float64       `json:"disorder_seconds"`
	Odd      int64         `json:"odd"` // lines dated before 1990 or after 2090
	Jumps    []logset.Jump `json:"jumps"`
	Doubts   []string      `json:"doubts"`
	Ended    string        `json:"ended_early,omitempty"`
}

type formatRow struct {
	Format string `json:"format"`
	Lines  int    `json:"lines_seen"`
}

func rowOf(f flow.FileTimes) timesRow {
	zone, from := zoneText(f.Survey)
	r := timesRow{File: f.File, Packing: f.Packing, Lines: f.Lines, Dated: f.Dated, Formats: []formatRow{}, Zone: zone,
		ZoneFrom: from, Order: f.Order,
		Disorder: f.Disorder.Seconds(), Odd: f.Odd, Jumps: f.Jumps, Doubts: f.Doubts}
	for _, x := range f.Profile.Forms {
		r.Formats = append(r.Formats, formatRow{x.Label, x.Lines})
	}
	if f.Dated > 0 {
		r.First, r.Last = &f.First, &f.Last
	}
	if r.Jumps == nil {
		r.Jumps = []logset.Jump{}
	}
	if r.Doubts == nil {
		r.Doubts = []string{}
	}
	if f.Broken != nil {
		r.Ended = f.Broken.Error()
	}
	return r
}

// zoneText says in which zone a file's times are, and where that comes from.
func zoneText(s *logset.Survey) (zone, from string) {
	p := s.Profile
	name := p.Facts.Zone.String()
	if name == "Local" {
		name, _ = time.Now().Zone()
	}
	switch {
	case s.Dated == 0:
		return "-", ""
	case p.Offsets >= p.Dated:
		return "in the lines", ""
	case p.Offsets*10 > p.Dated:
		return name, p.Facts.ZoneFrom + ", where the lines name none"
	}
	return name, p.Facts.ZoneFrom
}

func (s *session) drawTimes(all []flow.FileTimes) {
	var rows [][]string
	for _, f := range all {
		zone := f.Profile.Facts.Zone
		form, first, last := "no time found", "-", "-"
		if len(f.Profile.Forms) > 0 {
			form = f.Profile.Forms[0].Label
			if n := len(f.Profile.Forms) - 1; n > 0 {
				form += fmt.Sprintf(" and %d more", n)
			}
		}
		if f.Dated > 0 {
			first, last = f.First.In(zone).Format(time.DateTime), f.Last.In(zone).Format(time.DateTime)
		}
		name, from := zoneText(f.Survey)
		if from != "" {
			name += " (" + from + ")"
		}
		rows = append(rows, []string{term.Clean(f.File), term.Clean(form), name, first, last, share(f.Dated, f.Lines), orderText(f.Survey)})
	}
	s.screen.Table([]term.Column{{Title: "file", Wide: true, Least: 16}, {Title: "format", Wide: true, Least: 18},
		{Title: "zone", Wide: true, Least: 12}, {Title: "first"}, {Title: "last"},
		{Title: "dated", Right: true}, {Title: "order"}}, rows)
	first := true
	for _, f := range all {
		for _, line := range remarks(f) {
			if first {
				s.screen.Print("")
			}
			first = false
			s.screen.Print("%s: %s", term.Clean(f.File), line)
		}
	}
}

func share(dated, lines int64) string {
	switch {
	case lines == 0:
		return "empty"
	case dated == lines:
		return "all of " + humanize.Comma(lines)
	}
	percent := float64(dated) * 100 / float64(lines)
	digits := 0
	if percent > 99 || percent < 1 {
		digits = 2
	}
	return fmt.Sprintf("%.*f %% of %s", digits, percent, humanize.Comma(lines))
}

func orderText(f *logset.Survey) string {
	if f.Order == logset.NearlySorted {
		return fmt.Sprintf("%s (%s)", f.Order, f.Disorder.Round(time.Millisecond))
	}
	if f.Order == "" {
		return "-"
	}
	return f.Order
}

// remarks tells what is odd about a file, a line each.
func remarks(f flow.FileTimes) []string {
	var out []string
	p := f.Profile
	if n := len(p.Forms); n > 1 {
		var forms []string
		for _, x := range p.Forms[:min(n, 6)] {
			forms = append(forms, fmt.Sprintf("%s (%s)", term.Clean(x.Label), humanize.Comma(int64(x.Lines))))
		}
		out = append(out, "formats: "+strings.Join(forms, ", "))
	}
	if f.Packing != "" {
		out = append(out, "compressed with "+f.Packing)
	}
	if p.Orders != "" {
		out = append(out, "numeric dates: "+p.Orders)
	}
	if p.Timeless() {
		out = append(out, "the lines count from the start of the system; --boot TIME says when that was")
	}
	if f.Odd > 0 {
		out = append(out, fmt.Sprintf("%d %s dated before 1990 or after 2090, far from the others", f.Odd,
			one(int(f.Odd), "line is", "lines are")))
	}
	for _, j := range f.Jumps {
		out = append(out, j.In(p.Facts.Zone))
	}
	return append(out, f.Doubts...)
}
