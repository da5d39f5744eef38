package flow

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/redact"
	"envask/internal/report"
)

// PackRequest is what to pack.
type PackRequest struct {
	Round  string   // "" is the newest
	Opaque []string // items whose unreadable files go along unread, on the engineer's word
}

// Packed is what came of it.
type Packed struct {
	Archive   string        `json:"archive"` // path
	Round     string        `json:"round"`
	Size      int64         `json:"size"` // bytes
	SHA256    string        `json:"sha256"`
	Files     int           `json:"files"`
	Findings  redact.Counts `json:"findings"`
	Learned   int           `json:"learned"`
	OpaqueIn  []string      `json:"opaque_in"`  // went unread
	OpaqueOut []string      `json:"opaque_out"` // stayed behind, because nobody said otherwise
	Lacking   []string      `json:"lacking"`
	Same      bool          `json:"same"` // the archive was there already, byte for byte
}

// PackProgress says how far packing is, in bytes of evidence.
type PackProgress struct {
	Stage       string // "learning", "packing", "checking"
	Done, Total int64
}

// Ledger record kinds.
const (
	kindPacked    = "packed"
	kindSubmitted = "submitted"
)

type packedRecord struct {
	Archive string `json:"archive"` // name in out/
	Round   string `json:"round"`
	Size    int64  `json:"size"`
	SHA256  string `json:"sha256"`
	Files   int    `json:"files"`
	Lacking int    `json:"lacking"`
	By      string `json:"by"`
}

// packing is one run of Pack.
type packing struct {
	app     *App
	c       *casefile.Case
	ask     *ask.Ask
	round   *collect.Round
	q       PackRequest
	pieces  []*piece
	left    []archive.LeftOut
	learned *redact.Learned
	table   *redact.Table
	matcher *redact.Matcher
	tmp     string
	total   int64
	done    atomic.Int64
	stage   atomic.Value
	learner sync.Pool // of engines that only learn
	writer  sync.Pool // of engines that replace
}

// piece is one file of evidence on its way into the archive.
type piece struct {
	entry  collect.Entry
	path   string // in the archive
	raw    string // on disk
	form   redact.Form
	opaque bool
	out    bool // opaque, and stays behind
	result redact.Result
}

// Pack redacts a round and writes the archive that is named after the case. Nothing has its final name before it was
// read once more, compared with its checksums and searched for everything that was learned.
func (a *App) Pack(ctx context.Context, c *casefile.Case, q PackRequest) (*Packed, error) {
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	p := &packing{app: a, c: c, q: q}
	p.learner.New = func() any { return redact.NewEngine(redact.Options{Learned: p.learned}) }
	p.writer.New = func() any { return p.engine() }
	if err := p.load(); err != nil {
		return nil, err
	}
	if p.tmp, err = os.MkdirTemp(c.OutDir(), ".packing-"); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	defer os.RemoveAll(p.tmp)
	if err := p.learn(ctx); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	if err := p.aliases(); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	out, err := p.write(ctx)
	if err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	if err := p.settle(w, out); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	return out, nil
}

// load chooses the round and lists its evidence.
func (p *packing) load() error {
	k, err := LoadAsk(p.c.Ask)
	if err != nil {
		return err
	}
	p.ask = k
	p.learned = redact.NewLearned(vocabulary(p.c, k)...)
	for _, id := range p.q.Opaque {
		if k.Item(id) == nil {
			return fault.New(fault.Usage, "--opaque", id, "there is no such item in the ask", "")
		}
	}
	if p.round, err = chooseRound(p.c, p.q.Round); err != nil {
		return err
	}
	taken := map[string]*piece{}
	err = p.round.Entries(func(e collect.Entry) error {
		if e.Name == "" {
			p.left = append(p.left, archive.LeftOut{System: e.System, Item: e.Item, Source: e.Source, State: e.State, Reason: e.Reason, Size: e.Size})
			return nil
		}
		at := e.System + "/" + e.Name
		if other := taken[at]; other != nil {
			p.left = append(p.left, archive.LeftOut{System: e.System, Item: e.Item, Source: e.Source, State: e.State, Size: e.Size,
				Reason: "the same file as of item " + other.entry.Item})
			return nil
		}
		x := &piece{entry: e, raw: filepath.Join(p.round.RawDir(), e.System, filepath.FromSlash(e.Name))}
		taken[at] = x
		p.pieces = append(p.pieces, x)
		p.total += e.Bytes
		return nil
	})
	return fault.Wrap("read the round", p.round.ID, err)
}

func chooseRound(c *casefile.Case, id string) (*collect.Round, error) {
	rounds, err := collect.Rounds(c)
	if err != nil {
		return nil, fault.Wrap("read the rounds", c.Name, err)
	}
	if id == "" && len(rounds) > 0 {
		id = rounds[len(rounds)-1].ID
	}
	for _, r := range rounds {
		if r.ID != id {
			continue
		}
		if !r.Finished() {
			return nil, fault.New(fault.Usage, "pack round", id, "it is unfinished", "run envask collect to go on with it, or choose another with --round")
		}
		return r, nil
	}
	if len(rounds) == 0 {
		return nil, fault.New(fault.Usage, "pack", c.Name, "nothing was collected yet", "run envask collect first")
	}
	return nil, fault.New(fault.Usage, "--round", id, "there is no such round", "envask show lists them")
}

func (p *packing) begin(stage string) {
	p.stage.Store(stage)
	p.done.Store(0)
	p.app.report(PackProgress{stage, 0, p.total})
}

func (p *packing) progress(n int64) {
	p.app.report(PackProgress{p.stage.Load().(string), p.done.Add(n), p.total})
}

// learn reads everything once, so that what stands next to a key in one file is known in all others. It also makes sure
// that the evidence is still what was collected.
func (p *packing) learn(ctx context.Context) error {
	p.begin("learning")
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, x := range p.pieces {
		if inner.Err() != nil {
			break
		}
		g.Go(func() error { return p.learnPiece(inner, x) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	engine := redact.NewEngine(redact.Options{Learned: p.learned})
	for _, text := range p.texts() {
		if _, err := engine.Text(nil, strings.NewReader(text)); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// texts gives what goes into manifest, page and brief besides the evidence.
func (p *packing) texts() []string {
	texts := []string{p.c.Title, p.round.Note}
	for _, x := range p.pieces {
		texts = append(texts, x.entry.Source)
	}
	for _, l := range p.left {
		texts = append(texts, l.Source)
	}
	return texts
}

func (p *packing) learnPiece(ctx context.Context, x *piece) error {
	f, err := os.Open(x.raw)
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	tee := io.TeeReader(&progressReader{ctx: ctx, r: f, told: p.progress}, sum)
	engine := p.learner.Get().(*redact.Engine)
	defer p.learner.Put(engine)
	res, err := engine.File(nil, tee)
	if err != nil {
		return fmt.Errorf("%s: %w", x.raw, err)
	}
	if _, err := io.Copy(io.Discard, tee); err != nil {
		return err
	}
	if hex.EncodeToString(sum.Sum(nil)) != x.entry.SHA256 {
		return fault.New(fault.Refused, "", x.raw, "it was changed since it was collected", "collect it again (envask collect makes a new round)")
	}
	x.form = res.Form
	x.opaque = res.Form == redact.Opaque || res.Inner == redact.Opaque
	x.out = x.opaque && !slices.Contains(p.q.Opaque, x.entry.Item)
	return nil
}

type progressReader struct {
	ctx  context.Context
	r    io.Reader
	told func(int64)
}

func (r *progressReader) Read(b []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := r.r.Read(b)
	if n > 0 {
		r.told(int64(n))
	}
	return n, err
}

// aliases gives every identity its alias and writes the table down, before anything can be sent that uses it.
func (p *packing) aliases() error {
	table, err := redact.LoadTable(p.c.AliasFile())
	if err != nil {
		return err
	}
	p.table = table
	values := p.learned.Values()
	table.Give(values)
	p.matcher = redact.NewMatcher(values)
	return saveTable(table, p.c.AliasFile())
}

func saveTable(t *redact.Table, file string) error {
	if !t.Changed() {
		return nil
	}
	data, err := t.Marshal()
	if err != nil {
		return err
	}
	return casefile.WriteFile(file, data, 0o600)
}

func (p *packing) engine() *redact.Engine {
	return redact.NewEngine(redact.Options{Aliases: p.table, Matcher: p.matcher})
}

// name gives each piece its path in the archive: names go through redaction too, and no two become one.
func (p *packing) name() {
	e := p.engine()
	used := map[string]bool{}
	for _, x := range p.pieces {
		path := "systems/" + x.entry.System + "/" + archiveName(e.String(x.entry.Name))
		free := path
		for n := 2; used[strings.ToLower(free)]; n++ { // some disks ignore case
			free = fmt.Sprintf("%s~%d", path, n)
		}
		used[strings.ToLower(free)] = true
		x.path = free
	}
}

// archiveName takes out of a redacted name what not every file system can hold.
func archiveName(s string) string { return strings.ReplaceAll(s, ":", "-") }

// write writes the archive under a name of its own and checks it.
func (p *packing) write(ctx context.Context) (*Packed, error) {
	p.begin("packing")
	p.name()
	top := p.top()
	part := filepath.Join(p.tmp, "archive")
	f, err := os.OpenFile(part, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	m, err := p.fill(ctx, f, top)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return nil, err
	}
	rep, err := p.check(part)
	if err != nil {
		return nil, err
	}
	out := &Packed{Archive: filepath.Join(p.c.OutDir(), top+".tar.gz"), Round: p.round.ID, Size: rep.Size, SHA256: rep.SHA256,
		Files: len(m.Files), Findings: m.Redaction.Findings, Learned: m.Redaction.Learned, Lacking: m.Lacking,
		OpaqueIn: m.Redaction.Opaque, OpaqueOut: []string{}}
	for _, x := range p.pieces {
		if x.out {
			out.OpaqueOut = append(out.OpaqueOut, x.entry.System+": "+x.entry.Source+" (item "+x.entry.Item+")")
		}
	}
	return out, nil
}

func (p *packing) fill(ctx context.Context, f io.Writer, top string) (*archive.Manifest, error) {
	aw := archive.NewWriter(f, top, p.tmp)
	var sources []archive.Source
	byName := map[string]*piece{}
	for _, x := range p.pieces {
		if !x.out {
			byName[x.path] = x
			sources = append(sources, archive.Source{Name: x.path, ModTime: x.entry.ModTime, Write: func(w io.Writer) error { return p.redact(ctx, x, w) }})
		}
	}
	if err := aw.Add(ctx, sources); err != nil {
		return nil, err
	}
	m := p.manifest(aw.Written(), byName)
	err := aw.Add(ctx, []archive.Source{
		{Name: archive.BriefName, ModTime: p.round.Ended, Write: p.brief},
		{Name: archive.PageName, ModTime: p.round.Ended, Write: func(w io.Writer) error { return report.Page(w, m) }},
		{Name: archive.ManifestName, ModTime: p.round.Ended, Write: func(w io.Writer) error {
			enc := json.NewEncoder(w)
			enc.SetIndent("", "  ")
			return enc.Encode(m)
		}},
	})
	if err != nil {
		return nil, err
	}
	return m, aw.Close(ctx, p.round.Ended)
}

// redact writes one piece as it goes into the archive.
func (p *packing) redact(ctx context.Context, x *piece, w io.Writer) error {
	f, err := os.Open(x.raw)
	if err != nil {
		return err
	}
	defer f.Close()
	in := &progressReader{ctx: ctx, r: f, told: p.progress}
	if x.opaque {
		_, err := io.Copy(w, in)
		return err
	}
	engine := p.writer.Get().(*redact.Engine)
	defer p.writer.Put(engine)
	x.result, err = engine.File(w, in)
	return err
}

func (p *packing) brief(w io.Writer) error {
	e := p.engine()
	b := brief.Brief{Case: caseNumber(p.c), Title: e.String(p.c.Title), Vendor: p.c.Vendor, Site: p.c.Site, Window: p.round.InZone().String(),
		Questions: p.ask.Questions, Answers: map[string]string{}}
	for id, text := range p.c.Brief {
		b.Answers[id] = e.String(text)
	}
	return b.Write(w)
}

func caseNumber(c *casefile.Case) string { return orElse(c.Number, c.Name) }

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
	name := strings.NewReplacer("{case}", caseNumber(p.c), "{site}", p.c.Site, "{round}", p.round.ID, "{from}", from, "{to}", to,
		"{vendor}", p.c.Vendor, "{ask}", p.ask.Name).Replace(p.ask.Archive)
	name = strings.Trim(notInName.ReplaceAllString(name, "-"), "-.")
	return name[:min(len(name), maxArchiveName)]
}

// check reads the archive once: checksums, and every learned original.
func (p *packing) check(part string) (*archive.Report, error) {
	p.begin("checking")
	var leaks []string
	rep, err := archive.VerifyFile(part, func(name string, r io.Reader) error {
		found, err := redact.FindLeaks(p.matcher, r)
		for _, l := range found {
			if x := p.byPath(name); x != nil && x.opaque {
				p.app.note("%s (opaque, sent on your word) holds a value of rule %s at byte %d", name, l.Rule, l.Offset)
				continue
			}
			leaks = append(leaks, fmt.Sprintf("%s at byte %d (rule %s)", name, l.Offset, l.Rule))
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	if len(leaks) > 0 {
		return nil, fault.New(fault.Refused, "leak check", "", "a value that must not leave is still there: "+strings.Join(leaks, "; "),
			"the archive was not kept; please report the file's form, without the value")
	}
	if !rep.Good() {
		d := rep.Differences[0]
		return nil, fmt.Errorf("the archive does not agree with its own checksums: %s %s: %s", d.Path, d.What, d.Why)
	}
	return rep, nil
}

func (p *packing) byPath(name string) *piece {
	for _, x := range p.pieces {
		if x.path == name {
			return x
		}
	}
	return nil
}

// settle gives the archive its final name. One that was sent is never overwritten.
func (p *packing) settle(w *casefile.Writer, out *Packed) error {
	sent, err := sentArchives(p.c)
	if err != nil {
		return err
	}
	base := strings.TrimSuffix(out.Archive, ".tar.gz")
	for n := 2; ; n++ {
		sum, was := sent[filepath.Base(out.Archive)]
		if !was || sum == out.SHA256 {
			break
		}
		out.Archive = fmt.Sprintf("%s-%d.tar.gz", base, n)
	}
	if n := filepath.Base(out.Archive); n != filepath.Base(base)+".tar.gz" {
		p.app.note("an archive of that name was sent already and stays; this one is %s", n)
	}
	if sum, err := fileSum(out.Archive); err == nil && sum == out.SHA256 {
		out.Same = true
	}
	if err := os.Rename(filepath.Join(p.tmp, "archive"), out.Archive); err != nil {
		return err
	}
	if err := casefile.SyncDir(p.c.OutDir()); err != nil {
		return err
	}
	return w.Ledger.Append(kindPacked, packedRecord{filepath.Base(out.Archive), out.Round, out.Size, out.SHA256, out.Files, len(out.Lacking), p.app.Who})
}

func fileSum(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// sentArchives gives the archives of a case that were sent: name to SHA-256.
func sentArchives(c *casefile.Case) (map[string]string, error) {
	sent := map[string]string{}
	err := c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindSubmitted {
			return nil
		}
		var s struct {
			Name   string `json:"name"`
			SHA256 string `json:"sha256"`
		}
		if err := json.Unmarshal(r.Data, &s); err != nil {
			return err
		}
		sent[s.Name] = s.SHA256
		return nil
	})
	return sent, err
}
