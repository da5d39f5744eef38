package flow

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/reach"
	"envask/internal/redact"
	"envask/internal/report"
	"envask/internal/window"
)

// manifest says what is in the archive. Every text that came from a system or a person goes through redaction.
func (p *packing) manifest(written []archive.Written, byName map[string]*piece) (*archive.Manifest, error) {
	e := p.engine()
	w := p.round.InZone()
	m := &archive.Manifest{
		Format: archive.ManifestFormat, Envask: p.app.Version, Rules: redact.RulesVersion,
		Case: caseNumber(p.c), Title: e.String(p.c.Title), Vendor: p.c.Vendor, Site: p.c.Site, Ask: p.ask.Name, AskSHA256: p.ask.Digest,
		Window: archive.WindowInfo{Text: w.String(), Zone: w.ZoneName(), Spans: []window.Span{}},
		Rounds: []archive.RoundInfo{},
		Files:  []archive.File{}, LeftOut: []archive.LeftOut{}, Lacking: []string{},
		Clocks: []collect.Clock{}, Redaction: archive.Redaction{Findings: redact.Counts{}, Learned: len(p.known), Opaque: []string{},
			Disclosed: p.disclosedKinds(), Weaker: p.weaker(e)},
	}
	m.Window.Spans = append(m.Window.Spans, w.Spans...)
	if p.round.Context > 0 {
		m.Window.Extra = p.round.Context.String()
	}
	for _, r := range p.rounds {
		remarks, err := roundRemarks(r)
		if err != nil {
			return nil, err
		}
		for _, x := range remarks {
			m.Window.Remarks = append(m.Window.Remarks, e.String(x))
		}
		m.Rounds = append(m.Rounds, archive.RoundInfo{ID: r.ID, Note: e.String(r.Note), Started: r.Started, Ended: r.Ended, Depth: r.Depth,
			Window: r.InZone().String(), AskSHA256: p.otherAsk(r)})
	}
	if p.since != nil {
		m.NewSince = p.since.ID
	}
	for _, c := range p.clocks() {
		c.How = e.String(c.How) // it may tell what a system answered
		m.Clocks = append(m.Clocks, c)
	}
	for _, r := range p.reached() {
		r.Means, r.After = e.String(r.Means), e.String(r.After)
		m.Reached = append(m.Reached, r)
	}
	m.Answers = p.brief().Answers
	texts := p.vendorText(e)
	for _, out := range written {
		x := byName[out.Name]
		f := archive.File{Path: out.Name, Round: p.roundOf(x.round), System: x.entry.System, Item: x.entry.Item,
			Source: e.String(x.entry.Source), State: x.entry.State,
			How: how(texts.reason(x.entry.System, x.entry.Reason), x.result.Note), SizeThere: x.entry.Size, SizeTaken: x.entry.Bytes,
			Size: out.Size, SHA256: out.SHA256,
			Modified: x.entry.ModTime, First: x.entry.First, Last: x.entry.Last, Cut: x.entry.Cut, Form: x.form, Findings: x.result.Counts}
		if x.renamed {
			f.How = how(f.How, "it has another name here, since not every system can hold its own")
		}
		if x.asIs {
			f.How = how(f.How, "as it is, on the engineer's word: nothing in it was redacted")
			m.Redaction.AsIs = append(m.Redaction.AsIs, out.Name)
		}
		if n := len(x.result.Unread); n > 0 && !x.opaque {
			if what := "could not be read and stayed behind"; p.mayGoUnread(x) {
				m.Redaction.Opaque = append(m.Redaction.Opaque, members(e, out.Name, x.result.Unread)...)
			} else {
				f.How = how(f.How, fmt.Sprintf("%d %s in it %s", n, plural(n, "file", "files"), what))
			}
		}
		if x.opaque {
			m.Redaction.Opaque = append(m.Redaction.Opaque, out.Name)
		}
		if ran := x.entry.Command; ran != nil {
			clean := *ran
			clean.Line = e.String(ran.Line)
			f.Command = &clean
		}
		m.Redaction.Findings.Add(x.result.Counts)
		m.Files = append(m.Files, f)
	}
	p.leftOut(m, e)
	return m, p.coverage(m, e)
}

// vocabulary gives the texts whose words stand in every archive of a case: the names that the ask and the systems file give, and
// our own page and manifest. A user called like an item cannot be removed everywhere; the approval sheet says which words of an
// ask these are.
func vocabulary(c *casefile.Case, k *ask.Ask) []string {
	sample, err := json.Marshal(archive.Manifest{Files: []archive.File{{Command: &collect.Ran{Output: "-"},
		Cut: &collect.CutInfo{Unpacked: "-", Notes: []string{"-"}}, Last: time.Now(), First: time.Now(), Modified: time.Now(), How: "-",
		Findings: redact.Counts{"-": 1}, Round: "-"}},
		LeftOut: []archive.LeftOut{{Size: 1, Round: "-"}}, NewSince: "-", Clocks: []collect.Clock{{Synchronised: "-"}},
		Rounds: []archive.RoundInfo{{Note: "-"}}, Title: "-", SignedBy: "-", Answers: map[string]string{"-": "-"},
		Window:    archive.WindowInfo{Extra: "-", Spans: []window.Span{{}}, Remarks: []string{"-"}},
		Reached:   []collect.Place{{Served: reach.Served{After: "-", Noisy: true}}},
		Groups:    []collect.GroupResult{{Why: "-", Lacking: []string{"-"}}},
		Redaction: archive.Redaction{StillThere: []archive.StillThere{{}}},
		Coverage: collect.Coverage{{Code: "-", Unmet: []string{"-"}, Together: "-", Required: true, Reason: "-", Left: 1,
			Took: 1, Notes: []string{"-"}}}})
	if err != nil {
		panic(err) // plain values always marshal
	}
	texts := append([]string{string(sample), report.Text(), c.Site, caseNumber(c)}, k.Words()...)
	for _, s := range collect.States {
		texts = append(texts, string(s))
	}
	for _, r := range redact.Rules {
		texts = append(texts, r.Name)
	}
	for _, code := range append(slices.Clone(collect.Codes), codeOpaque, codeLeftOut, codeNotSent, codeSent) {
		texts = append(texts, string(code))
	}
	if s, err := LoadSite(c.Systems); err == nil { // a broken systems file does not keep a round from being packed
		for _, sys := range s.Systems {
			texts = append(texts, sys.Name, strings.Join(sys.Roles, " "))
		}
	}
	return texts
}

// otherAsk gives the SHA-256 of the ask by which a round was collected, where that is another version than the archive is packed by.
func (p *packing) otherAsk(r *collect.Round) string {
	if r.Digest == p.ask.Digest {
		return ""
	}
	return r.Digest
}

// members names files within a file.
func members(e *redact.Engine, name string, list []string) []string {
	var out []string
	for _, m := range list {
		out = append(out, name+": "+e.String(m))
	}
	return out
}

// disclosedKinds counts what stays readable on purpose.
func (p *packing) disclosedKinds() map[string]int {
	kinds := map[string]int{}
	for _, class := range p.keep {
		kinds[string(class)]++
	}
	if n := len(p.policy.Disclosed) + len(p.policy.Never); n > 0 {
		kinds["listed by the engineer"] = n
	}
	return kinds
}

// weaker says what takes less out than the rules alone, without the values that it is about.
func (p *packing) weaker(e *redact.Engine) []string {
	bare := *p.policy
	bare.Never, bare.Disclosed = nil, nil
	var out []string
	for _, w := range bare.Weaker() {
		out = append(out, e.String(w))
	}
	return out
}

func how(reason, note string) string {
	if reason != "" && note != "" {
		return reason + "; " + note
	}
	return reason + note
}

// sizesIn gives the size of each item in the archive, in bytes after redaction.
func (p *packing) sizesIn(m *archive.Manifest) map[cellKey]int64 {
	sizes, byPath := map[cellKey]int64{}, map[string]int64{}
	for i := range m.Files {
		f := &m.Files[i]
		sizes[cellKey{f.System, f.Item}] += f.Size
		byPath[f.Path] = f.Size
	}
	for _, a := range p.also { // one file that several items name
		if a.Item != a.in.entry.Item {
			sizes[cellKey{a.System, a.Item}] += byPath[a.in.path]
		}
	}
	return sizes
}

func (p *packing) leftOut(m *archive.Manifest, e *redact.Engine) {
	texts := p.vendorText(e)
	for _, l := range p.left {
		l.Source, l.Reason = e.String(l.Source), texts.reason(l.System, l.Reason)
		m.LeftOut = append(m.LeftOut, l)
	}
	for _, x := range p.pieces {
		if p.without(x) {
			m.LeftOut = append(m.LeftOut, archive.LeftOut{System: x.entry.System, Item: x.entry.Item, Source: e.String(x.entry.Source),
				State: collect.Skipped, Reason: withoutReason, Size: x.entry.Size})
			continue
		}
		if x.out {
			m.LeftOut = append(m.LeftOut, archive.LeftOut{System: x.entry.System, Item: x.entry.Item, Source: e.String(x.entry.Source),
				State: collect.Refused, Reason: "it cannot be read by the redaction (opaque), and nobody said that it may go unread",
				Size: x.entry.Size})
			continue
		}
		if p.mayGoUnread(x) {
			continue
		}
		for _, u := range x.result.Unread {
			m.LeftOut = append(m.LeftOut, archive.LeftOut{System: x.entry.System, Item: x.entry.Item,
				Source: e.String(x.entry.Source) + ": " + u,
				State:  collect.Refused, Reason: "it cannot be read by the redaction (opaque), and nobody said that it may go unread"})
		}
	}
	sort.SliceStable(m.LeftOut, func(i, j int) bool {
		a, b := &m.LeftOut[i], &m.LeftOut[j]
		if a.System != b.System {
			return a.System < b.System
		}
		if a.Item != b.Item {
			return a.Item < b.Item
		}
		return a.Source < b.Source
	})
}

// Codes of cells that only an archive has.
const (
	codeOpaque  collect.Code = "opaque"      // files that nobody could read stay behind
	codeLeftOut collect.Code = "left-out"    // on the engineer's word
	codeNotSent collect.Code = "not-sent"    // files stayed out of the archive that the vendor has
	codeSent    collect.Code = "sent-before" // the vendor has it in an earlier archive
)

// withoutReason is why something stays behind that the engineer left out.
const withoutReason = "left out of the archive on the engineer's word"

// coverage copies the round's table. What was collected but stays behind because it is opaque counts as refused here.
func (p *packing) coverage(m *archive.Manifest, e *redact.Engine) (err error) {
	opaque := map[[2]string]int{}
	for _, x := range p.pieces {
		if x.out && !p.without(x) {
			opaque[[2]string{x.entry.System, x.entry.Item}]++
		}
	}
	texts, sizes := p.vendorText(e), p.sizesIn(m)
	for _, cell := range p.joinedCoverage() {
		if n := opaque[[2]string{cell.System, cell.Item}]; n > 0 {
			cell.Files -= n
			cell.State, cell.Code = collect.Refused, codeOpaque
			cell.Reason = fmt.Sprintf("%d opaque %s left out: redaction cannot read %s", n,
				plural(n, "file was", "files were"), plural(n, "it", "them"))
		}
		if slices.Contains(p.q.Without, cell.Item) {
			cell.State, cell.Code, cell.Files, cell.Bytes, cell.Reason = collect.Skipped, codeLeftOut, 0, 0, withoutReason
		}
		cell.Reason = texts.reason(cell.System, cell.Reason)
		notes := make([]string, len(cell.Notes))
		for i, n := range cell.Notes {
			notes[i] = texts.reason(cell.System, n)
		}
		cell.Notes = notes
		unmet := make([]string, len(cell.Unmet))
		for i, n := range cell.Unmet {
			unmet[i] = texts.reason(cell.System, n)
		}
		if size, packed := sizes[cellKey{cell.System, cell.Item}]; packed {
			cell.Bytes = size
		}
		cell.Unmet, cell.Together = unmet, e.String(cell.Together)
		m.Coverage = append(m.Coverage, cell)
		if cell.Lacking() {
			m.Lacking = append(m.Lacking, lackingText(cell))
		}
	}
	if m.Groups, err = caseGroups(p.ask, slices.Concat(p.sent, p.rounds), m.Coverage); err != nil {
		return err
	}
	for i := range m.Groups {
		g := &m.Groups[i]
		for j, l := range g.Lacking {
			g.Lacking[j] = e.String(l)
		}
		for _, l := range g.Lacking {
			m.Lacking = append(m.Lacking, fmt.Sprintf("group %s: %s", g.Name, l))
		}
	}
	m.Complete = len(m.Lacking) == 0
	return nil
}
