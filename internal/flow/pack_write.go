package flow

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/cespare/xxhash/v2"

	"envask/internal/archive"
	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/redact"
	"envask/internal/report"
	"envask/internal/seal"
)

func (p *packing) engine() *redact.Engine {
	o := p.options()
	o.Aliases, o.Matcher = p.table, p.matcher
	return redact.NewEngine(o)
}

// name gives each piece its path in the archive: names go through redaction too, and no two become one.
func (p *packing) name() {
	e := p.engine()
	used := map[string]bool{}
	for _, x := range p.pieces {
		path := x.folder() + archiveName(e.String(x.entry.Name))
		free := path
		for n := 2; used[strings.ToLower(free)]; n++ { // some disks ignore case
			free = fmt.Sprintf("%s~%d", path, n)
		}
		used[strings.ToLower(free)] = true
		x.path, x.renamed = free, free != path || path != x.folder()+strings.ReplaceAll(e.String(x.entry.Name), ":", "-")
	}
}

// archiveName takes out of a redacted name what not every file system can hold: colons, and on Windows the names of devices,
// and blanks and dots at the end.
func archiveName(s string) string {
	parts := strings.Split(strings.ReplaceAll(s, ":", "-"), "/")
	for i, part := range parts {
		if stem, _, _ := strings.Cut(part, "."); reservedName.MatchString(stem) {
			part = stem + "~" + part[len(stem):]
		}
		if strings.HasSuffix(part, ".") || strings.HasSuffix(part, " ") {
			part += "~"
		}
		parts[i] = part
	}
	return strings.Join(parts, "/")
}

// reservedName are the names of devices on Windows, whatever their ending.
var reservedName = regexp.MustCompile(`^(?i:con|prn|aux|nul|com[0-9]|lpt[0-9]|conin\$|conout\$) *$`)

// write writes the archive under a name of its own and checks it.
func (p *packing) write(ctx context.Context) (*Packed, error) {
	p.total = 0
	for _, x := range p.pieces {
		p.total += x.entry.Bytes
	}
	p.begin("packing")
	p.name()
	top := p.top()
	if err := p.fits(top + "." + p.format.Name); err != nil {
		return nil, err
	}
	part := filepath.Join(p.tmp, "archive")
	f, err := os.OpenFile(part, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	m, aw, err := p.fill(ctx, f, top)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return nil, err
	}
	size, sum := aw.Sum()
	out := &Packed{Archive: filepath.Join(p.c.OutDir(), top+"."+p.format.Name), Round: roundIDs(p.rounds), NewSince: p.q.NewSince,
		Size: size, SHA256: hex.EncodeToString(sum[:]),
		Files: len(m.Files), Findings: m.Redaction.Findings, Learned: m.Redaction.Learned, Proof: p.proof, Lacking: m.Lacking,
		Weaker:   append([]string{}, p.policy.Weaker()...),
		OpaqueIn: m.Redaction.Opaque, StillThere: m.Redaction.StillThere, Remarks: m.Window.Remarks, OpaqueOut: []string{},
		OpenQuestions: append([]string{}, p.brief().Open()...), Largest: p.largest()}
	for _, x := range p.pieces {
		where := x.entry.System + ": " + x.entry.Source
		if x.form == redact.Image { // nobody but a person can say what it shows
			where += " (a picture, to look at: " + x.raw() + ")"
			if !x.out {
				out.Pictures = append(out.Pictures, where)
			}
		}
		if p.without(x) {
			continue
		}
		if x.out {
			out.OpaqueOut = append(out.OpaqueOut, where+" (item "+x.entry.Item+")")
		} else if !p.mayGoUnread(x) {
			for _, u := range x.result.Unread {
				out.OpaqueOut = append(out.OpaqueOut, where+": "+u+" (item "+x.entry.Item+")")
			}
		}
	}
	return out, nil
}

// fill writes the archive and reads it back: first the evidence, then what says what it is.
func (p *packing) fill(ctx context.Context, f archive.Storage, top string) (*archive.Manifest, *archive.Writer, error) {
	var sources []archive.Source
	byName := map[string]*piece{}
	for _, x := range p.pieces {
		if !x.out {
			byName[x.path] = x
			sources = append(sources, archive.Source{Name: x.path, ModTime: x.entry.ModTime,
				Write: func(w io.Writer) error { return p.redact(ctx, x, w) }})
		}
	}
	check := p.leakCheck(ctx, byName)
	aw := archive.NewWriter(f, top, p.tmp, p.format, p.level, check.inspect)
	if err := aw.Add(ctx, sources); err != nil {
		return nil, nil, err
	}
	p.begin("checking")
	written, err := aw.Written(ctx)
	if err = errors.Join(err, check.result()); err != nil {
		return nil, nil, err
	}
	m, err := p.manifest(written, byName)
	if err != nil {
		return nil, nil, err
	}
	for _, s := range check.stillThere() {
		s.File = p.engine().String(s.File)
		m.Redaction.StillThere = append(m.Redaction.StillThere, s)
	}
	own := []archive.Source{
		{Name: archive.BriefName, ModTime: p.round.Ended, Write: p.brief().Write},
		{Name: archive.PageName, ModTime: p.round.Ended, Write: func(w io.Writer) error { return report.Page(w, p.page(m)) }},
		{Name: archive.ManifestName, ModTime: p.round.Ended, Write: m.Write},
	}
	if p.signer != nil {
		m.SignedBy = seal.Signer(p.signer.PublicKey())
		own = append(own, archive.Source{Name: archive.SignatureName, ModTime: p.round.Ended,
			Write: func(w io.Writer) error { return p.sign(w, m) }})
	}
	if err := aw.Add(ctx, own); err != nil {
		return nil, nil, err
	}
	return m, aw, errors.Join(aw.Close(ctx, p.round.Ended), check.result())
}

// redact writes one piece as it goes into the archive.
func (p *packing) redact(ctx context.Context, x *piece, w io.Writer) (err error) {
	f, err := os.Open(x.raw())
	if err != nil {
		return err
	}
	defer f.Close()
	var in io.Reader = durable.Told(ctx, f, p.progress)
	if x.learned {
		sum := xxhash.New()
		in = io.TeeReader(in, sum)
		defer func() {
			if err == nil {
				if _, err = io.Copy(io.Discard, in); err == nil {
					err = x.unchanged(sum, x.check)
				}
			}
		}()
	}
	head := &headOf{w: w}
	defer func() { x.active = head.active() }()
	if x.asIs {
		_, err := io.Copy(head, in)
		return err
	}
	engine := p.writer.Get().(*redact.Engine)
	defer p.writer.Put(engine)
	src := p.source(x)
	src.Sampler = func(s redact.Sample) { p.samples.take(x, s) }
	x.result, err = engine.File(head, in, src)
	return err
}

func (p *packing) brief() brief.Brief {
	e := p.engine()
	b := brief.Brief{Case: caseNumber(p.c), Title: e.String(p.c.Title), Vendor: p.c.Vendor, Site: p.c.Site,
		Window:    p.round.InZone().String(),
		Questions: p.ask.Questions, Answers: map[string]string{}}
	for id, text := range p.c.Brief {
		b.Answers[id] = e.String(text)
	}
	return b
}

func caseNumber(c *casefile.Case) string { return orElse(c.Number, c.Name) }

// inBraces are the placeholders of an archive's name; which there are is checked when the ask is read.
var inBraces = regexp.MustCompile(`\{[^{}]*\}`)

var notInName = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// maxArchiveName is the longest name of an archive without its ending, in bytes.
const maxArchiveName = 150

// top gives the archive's name as the ask wants it.
func (p *packing) top() string {
	w := p.round.InZone()
	from, to := "all", "all"
	if t, ok := w.First(); ok {
		from = t.In(w.Zone).Format("20060102T1504")
	}
	if t, ok := w.Last(); ok {
		to = t.In(w.Zone).Format("20060102T1504")
	}
	answers := p.brief().Answers
	texts := map[string]string{"case": caseNumber(p.c), "site": p.c.Site, "system": p.onlySystem(),
		"round": p.inName(), "from": from, "to": to,
		"date": p.round.Ended.In(w.Zone).Format("20060102"), "vendor": p.c.Vendor, "ask": p.ask.Name, "product": p.ask.Name}
	name := inBraces.ReplaceAllStringFunc(p.ask.Archive, func(word string) string {
		word = word[1 : len(word)-1]
		if id, ok := strings.CutPrefix(word, "answer:"); ok {
			return answers[id]
		}
		return texts[word]
	})
	name = strings.Trim(notInName.ReplaceAllString(name, "-"), "-.")
	return name[:min(len(name), maxArchiveName)]
}

// onlySystem gives the system that all evidence is from, or says that there are several.
func (p *packing) onlySystem() string {
	only := ""
	for _, x := range p.pieces {
		if only != "" && only != x.entry.System {
			return "several"
		}
		only = x.entry.System
	}
	return only
}

// fits holds the archive's name against the vendor's rule for names.
func (p *packing) fits(name string) error {
	k := p.ask
	switch {
	case k.NameLike != nil && !k.NameLike.MatchString(name):
		return fault.New(fault.Usage, "pack", name, fmt.Sprintf("%s wants names of archives that look like %s", k.Vendor, k.NameLike),
			"change case: archive: in "+k.File+", or the case's number")
	case k.NameMax > 0 && len(name) > k.NameMax:
		return fault.New(fault.Usage, "pack", name, fmt.Sprintf("the name has %d characters; %s takes %d at most", len(name), k.Vendor,
			k.NameMax), "shorten case: archive: in "+k.File)
	}
	return nil
}
