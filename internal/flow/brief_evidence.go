package flow

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/late"
	"envask/internal/logset"
	"envask/internal/round"
	"envask/internal/stamp"
)

// Bounds of what is read of the evidence to fill a write-up.
const (
	maxLooked   = 64 << 20 // bytes of one file
	maxLine     = 64 << 10 // bytes of a line; the rest of a longer one is passed over
	maxQuoted   = 300      // characters of a line that is quoted
	maxProposed = 5        // answers that are proposed for one field
)

// Proposed is an answer that the evidence suggests. It is offered, not assumed.
type Proposed struct {
	Field string `json:"field"`
	Text  string `json:"text"`
	From  string `json:"from"` // where it stands, such as "gate-2's gate.log, line 1841"
	// Instead: the field was filled from evidence before, which says something else now.
	Instead bool `json:"instead,omitempty"`
}

func proposed(field, text, from string) Proposed {
	return Proposed{Field: field, Text: text, From: from}
}

// firstError is the first line of a system that tells of an error.
type firstError struct {
	at     time.Time // by our clock
	line   string
	system string
	from   string
	number int     // of its line
	around passage // it and the lines beside it
	entry  round.Entry
}

// ProposeBrief reads the evidence of a case for what it says of the fields that have no answer: the first error and its time, the systems
// that have errors, versions, and identifiers that the ask says where to find.
func (a *App) ProposeBrief(ctx context.Context, c *casefile.Case) ([]Proposed, error) {
	k, err := LoadAsk(c.Ask)
	if err != nil {
		return nil, err
	}
	rounds, err := a.countingRounds(c)
	if err != nil || len(rounds) == 0 {
		return nil, err
	}
	p := &proposing{ctx: ctx, r: rounds[len(rounds)-1], c: c, errors: map[string]*firstError{}, found: map[string][]Proposed{},
		finds: map[string][]brief.Field{}}
	for _, f := range brief.Of(k) {
		if f.Find != nil {
			p.finds[f.Find.Item] = append(p.finds[f.Find.Item], f)
		}
	}
	if err := p.r.Entries(p.entry); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fault.Wrap("read the evidence", c.Name, err)
	}
	out := p.proposals(k)
	if c.Brief["changed"] == "" {
		if text, from := a.changedSince(ctx, c); text != "" {
			out = append(out, proposed("changed", text, from))
		}
	}
	return out, ctx.Err()
}

// mostChanged bounds the changes that are proposed.
const mostChanged = 6

// changedSince says what differs from the newest baseline of the site; "" where there is none, or nothing differs.
func (a *App) changedSince(ctx context.Context, c *casefile.Case) (text, from string) {
	got, err := a.Compare(ctx, CompareRequest{Case: c.Name})
	if err != nil || !got.Before.Baseline { // most cases have none
		return "", ""
	}
	var lines []string
	for _, d := range got.Files {
		if d.Log || strings.HasPrefix(d.Path, "commands/") {
			continue
		}
		name := d.System + " " + strings.TrimPrefix(d.Path, "files")
		if len(d.Keys) == 0 {
			lines = append(lines, name+": "+d.What)
		}
		for _, k := range d.Keys {
			lines = append(lines, fmt.Sprintf("%s: %s was %s, is %s", name, k.Name, orElse(quoted(k.Before), "not there"),
				orElse(quoted(k.Now), "not there")))
		}
	}
	if n := len(lines); n > mostChanged {
		lines = append(lines[:mostChanged], fmt.Sprintf("and %d more: envask compare", n-mostChanged))
	}
	return strings.Join(lines, "\n"), "the baseline, " + got.Before.Name
}

type proposing struct {
	ctx     context.Context
	r       *round.Round
	c       *casefile.Case
	systems []string
	errors  map[string]*firstError // by system
	vitals  []Proposed
	finds   map[string][]brief.Field // by item
	found   map[string][]Proposed    // by field
}

func (p *proposing) entry(e round.Entry) error {
	if p.ctx.Err() != nil {
		return p.ctx.Err()
	}
	if !slices.Contains(p.systems, e.System) {
		p.systems = append(p.systems, e.System)
	}
	if e.Name == "" || e.State != round.Taken && e.State != round.Cut {
		return nil
	}
	file := filepath.Join(p.r.RawDir(), e.System, filepath.FromSlash(e.Name))
	if e.Item == ask.Vitals {
		p.vitalsOf(file, e.System)
		return nil
	}
	if e.First.IsZero() && p.finds[e.Item] == nil {
		return nil // neither a log nor asked for
	}
	f, err := os.Open(file)
	if err != nil {
		return nil //nolint:nilerr // it was tidied away; the rest is looked at
	}
	defer f.Close()
	plain, done, err := logset.Plain(io.LimitReader(f, maxLooked))
	if err != nil {
		return nil //nolint:nilerr // what cannot be opened proposes nothing
	}
	defer done()
	p.look(plain, &e, file)
	return nil
}

// errorLine tells a line of an error by its level, as logs write it.
var errorLine = late.Pattern(`(?:^|[^A-Za-z0-9_])(?:ERROR|FATAL|CRITICAL|CRIT|PANIC|ALERT|EMERG|SEVERE)(?:[^A-Za-z0-9_]|$)` +
	`|[Ll]evel"?[=:] ?"?(?:error|fatal|critical|panic)\b|<[0-3]>|\b(?:panic|fatal error|Traceback|Exception in thread)\b`)

func (p *proposing) look(in io.Reader, e *round.Entry, file string) {
	var reader *stamp.Reader
	lines := bufio.NewReaderSize(in, maxLine)
	seenError := e.First.IsZero()
	fields := slices.Clone(p.finds[e.Item])
	var before [][]byte
	var first *firstError // whose lines behind it are still wanted
	for n := 1; p.ctx.Err() == nil && (!seenError || len(fields) > 0 || first != nil); n++ {
		line, err := nextLine(lines)
		if err != nil {
			return
		}
		where := fmt.Sprintf("%s's %s, line %d", e.System, path.Base(e.Name), n)
		fields = slices.DeleteFunc(fields, func(f brief.Field) bool { return p.find(f, line, where) })
		if first != nil {
			first.around.lines = append(first.around.lines, quoted(string(line)))
			if first.around.first+len(first.around.lines) > first.number+linesBehind {
				first = nil
			}
		}
		if seenError || !errorLine().Match(line) {
			if !seenError {
				before = append(before, line)
				before = before[max(0, len(before)-linesBefore):]
			}
			continue
		}
		if reader == nil {
			reader = p.reader(e, file)
		}
		at, ok := reader.Time(line)
		if ok {
			seenError = true
			if first = p.errorAt(e, at, line, where); first != nil {
				first.begin(n, before, line)
			}
		}
	}
}

// nextLine reads a line; what of it is longer than the buffer is passed over.
func nextLine(lines *bufio.Reader) ([]byte, error) {
	line, more, err := lines.ReadLine()
	if err != nil {
		return nil, err
	}
	line = bytes.Clone(line)
	for more && err == nil {
		_, more, err = lines.ReadLine()
	}
	return line, nil
}

// reader reads the times of a log.
func (p *proposing) reader(e *round.Entry, file string) *stamp.Reader {
	facts := stamp.Facts{Zone: p.c.Window.Zone, AsOf: e.ModTime, Name: e.Source}
	if c := p.clock(e.System); c != nil && c.Location != nil {
		facts.Zone = c.Location
	}
	content := logset.Content{Open: func() (io.ReadCloser, error) { return os.Open(file) }, Size: e.Bytes}
	return logset.Inspect(content, facts).Profile.Reader()
}

func (p *proposing) clock(system string) *round.Clock {
	for i := range p.r.Clocks {
		if p.r.Clocks[i].System == system {
			return &p.r.Clocks[i]
		}
	}
	return nil
}

// errorAt keeps an error if it is the first of its system; nil says that it is not.
func (p *proposing) errorAt(e *round.Entry, at time.Time, line []byte, where string) *firstError {
	if c := p.clock(e.System); c != nil && c.Measured {
		at = at.Add(-c.Offset) // what its clock shows, by ours
	}
	if old := p.errors[e.System]; old == nil || at.Before(old.at) {
		first := &firstError{at: at, line: quoted(string(line)), system: e.System, from: where, entry: *e}
		p.errors[e.System] = first
		return first
	}
	return nil
}

// begin begins the passage around an error.
func (f *firstError) begin(number int, before [][]byte, line []byte) {
	f.number, f.around.first = number, number-len(before)
	for _, l := range append(before, line) {
		f.around.lines = append(f.around.lines, quoted(string(l)))
	}
}

// quoted makes a line fit for a write-up.
func quoted(line string) string { return quotedTo(line, maxQuoted) }

func quotedTo(line string, most int) string {
	line = strings.TrimSpace(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(line, "\ufffd")))
	if r := []rune(line); len(r) > most {
		return string(r[:most]) + "…"
	}
	return line
}

// find looks for the answer to a question in a line, and reports whether enough was found.
func (p *proposing) find(f brief.Field, line []byte, where string) bool {
	m := f.Find.Like.FindSubmatch(line)
	if m == nil {
		return false
	}
	text := quoted(string(m[min(1, len(m)-1)]))
	if text == "" || f.Wrong(text) != "" {
		return false
	}
	same := func(o Proposed) bool { return o.Text == text }
	if !slices.ContainsFunc(p.found[f.ID], same) && len(p.found[f.ID]) < maxProposed {
		p.found[f.ID] = append(p.found[f.ID], proposed(f.ID, text, where))
	}
	return true
}

func (p *proposing) vitalsOf(file, system string) {
	v, err := readVitals(file, system)
	if err != nil || v.OS == "" {
		return
	}
	text := system + ": " + v.OS
	if v.Kernel != "" {
		text += ", " + v.Kernel
	}
	if v.Uptime > 0 {
		text += ", up " + roughly(time.Duration(v.Uptime)*time.Second)
	}
	for _, id := range sortedKeys(v.Values) {
		text += ", " + id + " " + v.Values[id]
	}
	p.vitals = append(p.vitals, proposed("environment", text, "the vitals of "+system))
}

func roughly(d time.Duration) string {
	if d > 48*time.Hour {
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	}
	return fmt.Sprintf("%d h", int(d.Hours()))
}

// stillOpen leaves out what is proposed for a field that has an answer, unless the evidence contradicts it: the answer was taken from
// evidence, and none of what that says now is it.
func (p *proposing) stillOpen(field string, list []Proposed) []Proposed {
	answer := p.c.Brief[field]
	switch {
	case answer == "" || len(list) == 0:
		return list
	case p.c.BriefFrom[field] == "" || slices.ContainsFunc(list, func(o Proposed) bool { return o.Text == answer }):
		return nil
	}
	list[0].Instead = true
	return list[:1]
}

// proposals puts together what was found, of the fields in their order.
func (p *proposing) proposals(k *ask.Ask) (out []Proposed) {
	var all []*firstError
	for _, e := range p.errors {
		all = append(all, e)
	}
	slices.SortFunc(all, func(a, b *firstError) int { return cmp.Or(a.at.Compare(b.at), strings.Compare(a.system, b.system)) })
	for _, f := range brief.Of(k) {
		from := len(out)
		switch {
		case f.ID == "happens" && len(all) > 0:
			out = append(out, proposed(f.ID, withoutSecrets(all[0].line), all[0].from))
		case f.ID == "since" && len(all) > 0:
			zone := p.c.Window.Zone
			out = append(out, proposed(f.ID, all[0].at.In(zone).Format("2006-01-02 15:04:05")+" "+zone.String()+
				" (the first error there is)",
				all[0].from))
		case f.ID == "affected" && len(all) > 0:
			var names []string
			for _, e := range all {
				names = append(names, e.system+" since "+e.at.In(p.c.Window.Zone).Format("15:04:05"))
			}
			out = append(out, proposed(f.ID, fmt.Sprintf("errors on %d of %d systems: %s", len(all), len(p.systems),
				strings.Join(names, ", ")),
				"the logs of round "+p.r.ID))
		case f.ID == "excerpt" && len(all) > 0:
			out = append(out, proposed(f.ID, withoutSecrets(all[0].around.text()), all[0].around.from(&all[0].entry)))
		case f.ID == "environment" && len(p.vitals) > 0:
			var lines []string
			for _, v := range p.vitals {
				lines = append(lines, v.Text)
			}
			out = append(out, proposed(f.ID, strings.Join(lines, "\n"), "the vitals of round "+p.r.ID))
		}
		out = append(out, p.found[f.ID]...)
		out = append(out[:from], p.stillOpen(f.ID, out[from:])...)
	}
	return out
}
