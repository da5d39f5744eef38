package flow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/reach"
	"envask/internal/redact"
	"envask/internal/report"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/spill"
	"envask/internal/window"
)

// telling says what is in the archive. Every text that came from a system or a person goes through redaction.
type telling struct {
	*writing
	check  *leakCheck
	e      *redact.Engine
	texts  *vendorText
	m      *archive.Manifest
	files  *spill.List[archive.File]
	left   *spill.List[archive.LeftOut] // sorted
	sizes  map[cellKey]int64            // in the archive, in bytes after redaction
	items  map[string]int64             // in the archive, in bytes before it
	opaque map[cellKey]int              // files that stayed behind, since nobody could read them
	vitals []*piece                     // the newest of each system

	unsorted            *spill.Sorter[archive.LeftOut]
	contents            *contents
	pictures, opaqueOut []string
	looks               []ReviewedPicture
}

func newTelling(w *writing) *telling {
	return &telling{writing: w, check: newLeakCheck(w), e: w.rules.engine(), files: spill.NewList[archive.File](w.tmp),
		left: spill.NewList[archive.LeftOut](w.tmp), sizes: map[cellKey]int64{}, items: map[string]int64{}, opaque: map[cellKey]int{}}
}

// begin begins to tell, once the evidence is written.
func (t *telling) begin(ctx context.Context) (err error) {
	t.texts = t.rules.vendorText(t.e)
	t.m = &archive.Manifest{Complete: true, Redaction: archive.Redaction{Findings: redact.Counts{}, Learned: len(t.rules.known),
		Opaque: []string{}, Disclosed: t.rules.disclosedKinds(), Weaker: t.rules.weaker(t.e)}}
	t.check.ctx = ctx
	t.unsorted = spill.NewSorter(ctx, t.tmp, bySource)
	if t.contents, err = newContents(filepath.Join(t.tmp, "contents")); err != nil {
		return err
	}
	t.check.pieces, err = t.written.Reader()
	return err
}

// end lets go of what is open.
func (t *telling) end() {
	if t.unsorted != nil {
		t.unsorted.Close()
	}
}

// file tells of a file that was read back.
func (t *telling) file(out *archive.Written) error {
	x := t.check.now
	if x == nil || x.Path != out.Name {
		return fmt.Errorf("%s: another file stands in its place", out.Name)
	}
	e, red := t.e, &t.m.Redaction
	f := &archive.File{Path: out.Name, Round: t.sel.roundOf(x.Round), System: x.Entry.System, Item: x.Entry.Item,
		Source: e.String(x.Entry.Source), State: x.Entry.State,
		How: how(t.texts.reason(x.Entry.System, x.Entry.Reason), x.Result.Note), SizeThere: x.Entry.Size, SizeTaken: x.Entry.Bytes,
		Size: out.Size, SHA256: out.SHA256, Modified: x.Entry.ModTime, First: x.Entry.First, Last: x.Entry.Last, Cut: x.Entry.Cut,
		Form: x.Form, Findings: x.Result.Counts, Active: x.Active}
	if x.Renamed {
		f.How = how(f.How, "it has another name here, since not every system can hold its own")
	}
	if x.AsIs {
		f.How = how(f.How, "as it is, on the engineer's word: nothing in it was redacted")
		red.AsIs = append(red.AsIs, out.Name)
	}
	if n := len(x.Result.Unread); n > 0 && !x.Opaque {
		if t.mayGoUnread(x) {
			red.Opaque = append(red.Opaque, members(e, out.Name, x.Result.Unread)...)
		} else {
			f.How = how(f.How, fmt.Sprintf("%d %s in it could not be read and stayed behind", n, plural(n, "file", "files")))
		}
	}
	if x.Opaque {
		red.Opaque = append(red.Opaque, out.Name)
	}
	if ran := x.Entry.Command; ran != nil {
		clean := *ran
		clean.Line = e.String(ran.Line)
		clean.Prompt, clean.Session = "", ""
		f.Command = &clean
	}
	if x.Form == redact.Image {
		t.looks = append(t.looks, ReviewedPicture{File: out.Name, Path: x.raw(), SHA256: out.SHA256})
	}
	if x.Entry.Brought != nil {
		f.Brought = t.brought(x)
	}
	red.Findings.Add(x.Result.Counts)
	t.count(x, out.Size)
	if err := errors.Join(t.unread(x), t.contents.add(t.job, x)); err != nil {
		return err
	}
	return t.files.Add(f)
}

// unread notes what in a piece could not be read, and pictures: nobody but a person can say what they show.
func (t *telling) unread(x *piece) error {
	where := x.Entry.System + ": " + x.Entry.Source
	if x.Form == redact.Image {
		where += " (a picture, to look at: " + x.raw() + ")"
		if !x.Out {
			t.pictures = append(t.pictures, where)
		}
	}
	switch {
	case t.without(x):
	case x.Out:
		t.opaqueOut = append(t.opaqueOut, where+" (item "+x.Entry.Item+")")
	case !t.mayGoUnread(x):
		for _, u := range x.Result.Unread {
			t.opaqueOut = append(t.opaqueOut, where+": "+u+" (item "+x.Entry.Item+")")
			if err := t.behindOf(x, ": "+u, round.Refused, unreadReason, 0); err != nil {
				return err
			}
		}
	}
	return nil
}

// behindOf notes that a piece, or a member of it, is not in the archive.
func (t *telling) behindOf(x *piece, member string, state round.State, reason string, size int64) error {
	return t.unsorted.Add(archive.LeftOut{System: x.Entry.System, Item: x.Entry.Item, Source: t.e.String(x.Entry.Source) + member,
		State: state, Reason: reason, Size: size})
}

// count takes a piece of the archive into account.
func (t *telling) count(x *piece, size int64) {
	t.sizes[x.cell()] += size
	t.items[x.Entry.Item] += x.Entry.Bytes
	for _, a := range x.Also { // one file that several items name
		if a.Item != x.Entry.Item {
			t.sizes[cellKey{a.System, a.Item}] += size
		}
	}
	if x.Entry.Item == ask.Vitals && !x.Earlier {
		t.vitals = append(t.vitals, x)
	}
}

// largest gives the five largest items.
func (t *telling) largest() []ItemSize {
	list := []ItemSize{}
	for item, n := range t.items {
		size := ItemSize{Item: item, Bytes: n}
		if it := t.ask.Item(item); it != nil {
			size.Advice = it.Advice
		}
		list = append(list, size)
	}
	slices.SortFunc(list, func(a, b ItemSize) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), strings.Compare(a.Item, b.Item))
	})
	return list[:min(len(list), 5)]
}

// manifest says the rest, once all files are told of.
func (t *telling) manifest() error {
	m, e, s := t.m, t.e, t.sel
	w := s.round.InZone()
	m.Format, m.Envask, m.Rules = archive.ManifestFormat, t.app.Version, redact.RulesVersion
	m.Case, m.Title, m.Vendor, m.Site = caseNumber(t.c), e.String(t.c.Title), t.c.Vendor, t.c.Site
	m.Ask, m.AskSHA256, m.Answers = t.ask.Name, t.ask.Digest, t.brief().Answers
	m.Window = archive.WindowInfo{Text: w.String(), Zone: w.ZoneName(), Spans: append([]window.Span{}, w.Spans...)}
	if s.round.Context > 0 {
		m.Window.Extra = s.round.Context.String()
	}
	m.Rounds, m.Lacking, m.Clocks = []archive.RoundInfo{}, []string{}, []round.Clock{}
	for _, r := range s.rounds {
		remarks, err := roundRemarks(r)
		if err != nil {
			return err
		}
		for _, x := range remarks {
			m.Window.Remarks = append(m.Window.Remarks, e.String(x))
		}
		m.Rounds = append(m.Rounds, archive.RoundInfo{ID: r.ID, Note: e.String(r.Note), Started: r.Started, Ended: r.Ended, Depth: r.Depth,
			Window: r.InZone().String(), AskSHA256: t.otherAsk(r)})
	}
	m.Elsewhere = t.elsewhere()
	if s.since != nil {
		m.NewSince = s.since.ID
	}
	for _, c := range s.clocks() {
		c.How = e.String(c.How) // it may tell what a system answered
		m.Clocks = append(m.Clocks, c)
	}
	for _, r := range s.reached() {
		r.Means, r.After, r.Remark = e.String(r.Means), e.String(r.After), e.String(r.Remark)
		m.Reached = append(m.Reached, r)
	}
	for _, x := range s.members() {
		m.Members = append(m.Members, t.membersOf(x))
	}
	for _, still := range t.check.stillThere() {
		still.File = e.String(still.File)
		m.Redaction.StillThere = append(m.Redaction.StillThere, still)
	}
	m.FilesFrom, m.LeftOutFrom = t.files.Each, t.left.Each
	if err := t.leftOut(); err != nil {
		return err
	}
	return t.coverage()
}

// vocabulary gives the texts whose words stand in every archive of a case: the names that the ask and the systems file give, and
// our own page and manifest. A user called like an item cannot be removed everywhere; the approval sheet says which words of an
// ask these are.
func vocabulary(c *casefile.Case, k *ask.Ask) []string {
	sample, err := json.Marshal(archive.Manifest{Files: []archive.File{{Command: &round.Ran{Output: "-"},
		Cut: &round.CutInfo{Unpacked: "-", Notes: []string{"-"}}, Last: time.Now(), First: time.Now(), Modified: time.Now(), How: "-",
		Findings: redact.Counts{"-": 1}, Round: "-", Brought: &archive.Brought{Type: "-", About: "-", Note: "-", Boxes: 1, More: 1,
			Requests: []archive.Request{{Why: "-"}}}}},
		LeftOut: []archive.LeftOut{{Size: 1, Round: "-"}}, NewSince: "-", Clocks: []round.Clock{{Synchronised: "-"}},
		Rounds: []archive.RoundInfo{{Note: "-"}}, Title: "-", SignedBy: "-", Answers: map[string]string{"-": "-"},
		Window:    archive.WindowInfo{Extra: "-", Spans: []window.Span{{}}, Remarks: []string{"-"}},
		Reached:   []round.Place{{Served: reach.Served{After: "-", Noisy: true, Remark: "-"}}},
		Groups:    []round.GroupResult{{Why: "-", Lacking: []string{"-"}}},
		Members:   []round.Members{{Fellows: []round.Fellow{{Address: "-"}}, Absent: []string{"-"}, Reason: "-"}},
		Elsewhere: []archive.Elsewhere{{Size: 1, SHA256: "-", Note: "-"}},
		Redaction: archive.Redaction{StillThere: []archive.StillThere{{}}},
		Coverage: round.Coverage{{Code: "-", Unmet: []string{"-"}, Together: "-", Required: true, Reason: "-", Left: 1,
			Took: 1, Notes: []string{"-"}}}})
	if err != nil {
		panic(err) // plain values always marshal
	}
	texts := append([]string{string(sample), report.Text(), c.Site, caseNumber(c), site.Case}, k.Words()...)
	for _, t := range ask.FileTypes {
		texts = append(texts, t.Name, t.Means)
	}
	for _, s := range round.States {
		texts = append(texts, string(s))
	}
	for _, r := range redact.Rules {
		texts = append(texts, r.Name)
	}
	for _, code := range append(slices.Clone(round.Codes), codeOpaque, codeLeftOut, codeNotSent, codeSent) {
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
func (t *telling) otherAsk(r *round.Round) string {
	if r.Digest == t.ask.Digest {
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

func how(reason, note string) string {
	if reason != "" && note != "" {
		return reason + "; " + note
	}
	return reason + note
}

// bySource sorts what was left out.
func bySource(a, b *archive.LeftOut) int {
	return cmp.Or(strings.Compare(a.System, b.System), strings.Compare(a.Item, b.Item), strings.Compare(a.Source, b.Source),
		strings.Compare(a.Round, b.Round), strings.Compare(a.Reason, b.Reason))
}

// unreadReason is why something stays behind that nobody could read.
const unreadReason = "it cannot be read by the redaction (opaque), and nobody said that it may go unread"

// leftOut lists what is not in the archive.
func (t *telling) leftOut() error {
	err := t.evidence.left.Each(func(l *archive.LeftOut) error {
		l.Source, l.Reason = t.e.String(l.Source), t.texts.reason(l.System, l.Reason)
		return t.unsorted.Add(*l)
	})
	if err != nil {
		return err
	}
	err = t.stayed.Each(func(x *piece) error {
		if err := t.unread(x); err != nil {
			return err
		}
		if t.without(x) {
			return t.behindOf(x, "", round.Skipped, withoutReason, x.Entry.Size)
		}
		t.opaque[x.cell()]++
		return t.behindOf(x, "", round.Refused, unreadReason, x.Entry.Size)
	})
	if err != nil {
		return err
	}
	return t.unsorted.Each(t.left.Add)
}

// Codes of cells that only an archive has.
const (
	codeOpaque  round.Code = "opaque"      // files that nobody could read stay behind
	codeLeftOut round.Code = "left-out"    // on the engineer's word
	codeNotSent round.Code = "not-sent"    // files stayed out of the archive that the vendor has
	codeSent    round.Code = "sent-before" // the vendor has it in an earlier archive
)

// withoutReason is why something stays behind that the engineer left out.
const withoutReason = "left out of the archive on the engineer's word"

// coverage copies the table of the rounds. What was collected but stays behind because it is opaque counts as refused here.
func (t *telling) coverage() (err error) {
	m, e := t.m, t.e
	for _, cell := range t.evidence.coverage() {
		k := cellKey{cell.System, cell.Item}
		if n := t.opaque[k]; n > 0 {
			cell.Files -= n
			cell.State, cell.Code = round.Refused, codeOpaque
			cell.Reason = fmt.Sprintf("%d opaque %s left out: redaction cannot read %s", n,
				plural(n, "file was", "files were"), plural(n, "it", "them"))
		}
		if slices.Contains(t.q.Without, cell.Item) {
			cell.State, cell.Code, cell.Files, cell.Bytes, cell.Reason = round.Skipped, codeLeftOut, 0, 0, withoutReason
		}
		cell.Reason = t.texts.reason(cell.System, cell.Reason)
		cell.Notes, cell.Unmet = t.reasons(cell.System, cell.Notes), t.reasons(cell.System, cell.Unmet)
		if size, packed := t.sizes[k]; packed {
			cell.Bytes = size
		}
		cell.Together = e.String(cell.Together)
		m.Coverage = append(m.Coverage, cell)
		if cell.Lacking() {
			m.Lacking = append(m.Lacking, lackingText(cell))
		}
	}
	if m.Groups, err = caseGroups(t.ask, slices.Concat(t.sel.sent, t.sel.rounds), m.Coverage); err != nil {
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

// membersOf gives what a system said about its fellows, as the vendor may read it.
func (t *telling) membersOf(x round.Members) round.Members {
	e := t.e
	out := round.Members{System: x.System, ID: x.ID, Reason: t.texts.reason(x.System, x.Reason)}
	for _, f := range x.Fellows {
		out.Fellows = append(out.Fellows, round.Fellow{Name: e.String(f.Name), Address: e.String(f.Address), Listed: f.Listed})
	}
	for _, n := range x.Absent {
		out.Absent = append(out.Absent, e.String(n))
	}
	return out
}

// reasons gives several reasons as the vendor may read them.
func (t *telling) reasons(system string, list []string) []string {
	out := make([]string, len(list))
	for i, text := range list {
		out[i] = t.texts.reason(system, text)
	}
	return out
}
