package flow

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/cespare/xxhash/v2"
	"golang.org/x/crypto/ssh"

	"envask/internal/archive"
	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/late"
	"envask/internal/redact"
	"envask/internal/report"
	"envask/internal/seal"
	"envask/internal/spill"
)

// writing writes the archive.
type writing struct {
	*evidence
	format  *archive.Format
	level   archive.Level
	signer  ssh.Signer         // nil signs nothing
	names   *spill.Hashes      // paths that are given, in small letters
	written *spill.List[piece] // what is in the archive, in its order
	stayed  *spill.List[piece] // what is not
	news    string             // since an archive of the case was sent
}

func newWriting(v *evidence, format *archive.Format, level archive.Level, signer ssh.Signer) *writing {
	return &writing{evidence: v, format: format, level: level, signer: signer, names: spill.NewHashes(),
		written: spill.NewList[piece](v.tmp), stayed: spill.NewList[piece](v.tmp)}
}

// name gives a piece its path in the archive: names go through redaction too, and no two become one.
func (w *writing) name(e *redact.Engine, x *piece) {
	name := e.String(x.Entry.Name)
	path := x.folder() + archiveName(name)
	free := path
	for n := 2; !w.claim(free); n++ {
		free = fmt.Sprintf("%s~%d", path, n)
	}
	x.Path, x.Renamed = free, free != path || path != x.folder()+strings.ReplaceAll(name, ":", "-")
}

// claim takes a path, if nobody has it. Some disks ignore case.
func (w *writing) claim(path string) bool {
	return !w.names.Put([]byte(strings.ToLower(path)))
}

// archiveName takes out of a redacted name what not every file system can hold: colons, and on Windows the names of devices,
// and blanks and dots at the end.
func archiveName(s string) string {
	parts := strings.Split(strings.ReplaceAll(s, ":", "-"), "/")
	for i, part := range parts {
		if stem, _, _ := strings.Cut(part, "."); reservedName().MatchString(stem) {
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
var reservedName = late.Pattern(`^(?i:con|prn|aux|nul|com[0-9]|lpt[0-9]|conin\$|conout\$) *$`)

// write writes the archive under a name of its own and checks it.
func (w *writing) write(ctx context.Context) (*Packed, error) {
	w.begin("packing", w.bytes)
	top := w.top()
	if err := w.fits(top + "." + w.format.Name); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(w.part(), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	t := newTelling(w)
	aw := archive.NewWriter(f, top, w.tmp, w.format, w.level, t.check.inspect)
	defer aw.Discard()
	defer t.end()
	if err = w.fill(ctx, aw, t); err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		t.contents.close()
		return nil, err
	}
	size, sum := aw.Sum()
	m := t.m
	out := &Packed{Archive: filepath.Join(w.c.OutDir(), top+"."+w.format.Name), Round: roundIDs(w.sel.rounds), NewSince: w.q.NewSince,
		Size: size, SHA256: hex.EncodeToString(sum[:]),
		Files: t.files.Len(), Findings: m.Redaction.Findings, Learned: m.Redaction.Learned, Proof: w.rules.proof, Lacking: m.Lacking,
		Weaker:   append([]string{}, w.rules.policy.Weaker()...),
		OpaqueIn: m.Redaction.Opaque, StillThere: m.Redaction.StillThere, Remarks: m.Window.Remarks, OpaqueOut: []string{},
		OpenQuestions: append([]string{}, w.brief().Open()...), Largest: t.largest(), asIs: m.Redaction.AsIs,
		Pictures: t.pictures, looks: t.looks, contents: t.contents}
	out.OpaqueOut = append(out.OpaqueOut, t.opaqueOut...)
	return out, nil
}

// part is where the archive lies until it has its name.
func (w *writing) part() string { return filepath.Join(w.tmp, "archive") }

// sources gives the pieces that go, as the archive takes them.
func (w *writing) sources(ctx context.Context) iter.Seq2[archive.Source, error] {
	return func(yield func(archive.Source, error) bool) {
		e := w.rules.engine()
		err := w.pieces.Each(func(x *piece) error {
			w.name(e, x)
			if x.Out {
				return w.stayed.Add(x)
			}
			if !yield(archive.Source{Name: x.Path, ModTime: x.Entry.ModTime,
				Write: func(out io.Writer) error { return w.redact(ctx, x, out) },
				Done:  func() error { return w.written.Add(x) }}, nil) {
				return errEnough
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			yield(archive.Source{Name: "the evidence"}, err)
		}
	}
}

// errEnough ends going through a list of which nobody wants the rest.
var errEnough = errors.New("enough")

// fill writes the archive and reads it back: first the evidence, then what says what it is.
func (w *writing) fill(ctx context.Context, aw *archive.Writer, t *telling) error {
	if err := aw.Add(ctx, w.sources(ctx)); err != nil {
		return err
	}
	w.names = nil // all are given
	w.begin("checking", w.bytes)
	if err := t.begin(ctx); err != nil {
		return err
	}
	err := aw.ReadBack(ctx, t.file)
	if err = errors.Join(err, t.check.result()); err != nil {
		return err
	}
	if err := t.manifest(); err != nil {
		return err
	}
	at := w.sel.round.Ended
	own := []archive.Source{
		{Name: archive.BriefName, ModTime: at, Write: w.brief().Write},
		{Name: archive.PageName, ModTime: at, Write: func(out io.Writer) error { return report.Page(out, t.page()) }},
		{Name: archive.ManifestName, ModTime: at, Write: t.m.Write},
	}
	if w.signer != nil {
		t.m.SignedBy = seal.Signer(w.signer.PublicKey())
		own = append(own, archive.Source{Name: archive.SignatureName, ModTime: at,
			Write: func(out io.Writer) error { return w.sign(out, t.m) }})
	}
	if err := aw.Add(ctx, archive.Sources(own...)); err != nil {
		return err
	}
	return errors.Join(aw.Close(ctx, at), t.check.result())
}

// redact writes one piece as it goes into the archive.
func (w *writing) redact(ctx context.Context, x *piece, out io.Writer) (err error) {
	f, err := os.Open(x.raw())
	if err != nil {
		return err
	}
	defer f.Close()
	var in io.Reader = durable.Told(ctx, f, w.progress)
	if x.Learned {
		sum := xxhash.New()
		in = io.TeeReader(in, sum)
		defer func() {
			if err == nil {
				if _, err = io.Copy(io.Discard, in); err == nil {
					err = x.unchanged(sum, x.Check)
				}
			}
		}()
	}
	head := &headOf{w: out}
	defer func() { x.Active = head.active() || activeNames[strings.ToLower(path.Ext(x.Path))] }()
	if x.AsIs {
		_, err := io.Copy(head, in)
		return err
	}
	engine := w.rules.writer.Get().(*redact.Engine)
	defer w.rules.writer.Put(engine)
	src := w.rules.source(x)
	src.Sampler = func(s redact.Sample) { w.rules.samples.take(x, s) }
	src.Tally = w.rules.tally.of(x)
	x.Result, err = engine.File(head, in, src)
	return err
}

func (w *writing) brief() brief.Brief {
	e := w.rules.engine()
	b := brief.Brief{Case: caseNumber(w.c), Title: e.String(w.c.Title), Vendor: w.c.Vendor, Site: w.c.Site,
		Window: w.sel.round.InZone().String(),
		News:   e.String(w.news),
		Ask:    w.ask, Answers: map[string]string{}, From: map[string]string{}}
	for id, text := range w.c.Brief {
		b.Answers[id] = e.String(text)
	}
	for id, text := range w.c.BriefFrom {
		b.From[id] = e.String(text)
	}
	return b
}

func caseNumber(c *casefile.Case) string { return orElse(c.Number, c.Name) }

// inBraces are the placeholders of an archive's name; which there are is checked when the ask is read.
var inBraces = late.Pattern(`\{[^{}]*\}`)

var notInName = late.Pattern(`[^A-Za-z0-9._-]+`)

// maxArchiveName is the longest name of an archive without its ending, in bytes.
const maxArchiveName = 150

// top gives the archive's name as the ask wants it.
func (w *writing) top() string {
	in := w.sel.round.InZone()
	from, to := "all", "all"
	if t, ok := in.First(); ok {
		from = t.In(in.Zone).Format("20060102T1504")
	}
	if t, ok := in.Last(); ok {
		to = t.In(in.Zone).Format("20060102T1504")
	}
	answers := w.brief().Answers
	texts := map[string]string{"case": caseNumber(w.c), "site": w.c.Site, "system": w.system,
		"round": w.sel.inName(), "from": from, "to": to,
		"date": w.sel.round.Ended.In(in.Zone).Format("20060102"), "vendor": w.c.Vendor, "ask": w.ask.Name, "product": w.ask.Name}
	name := inBraces().ReplaceAllStringFunc(w.ask.Archive, func(word string) string {
		word = word[1 : len(word)-1]
		if id, ok := strings.CutPrefix(word, "answer:"); ok {
			return answers[id]
		}
		return texts[word]
	})
	name = strings.Trim(notInName().ReplaceAllString(name, "-"), "-.")
	return name[:min(len(name), maxArchiveName)]
}

// fits holds the archive's name against the vendor's rule for names.
func (w *writing) fits(name string) error {
	k := w.ask
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
