package flow

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"filippo.io/age"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/policy"
	"envask/internal/redact"
	"envask/internal/submit"
)

// PackRequest is what to pack.
type PackRequest struct {
	Rounds   []string // none is all since the last archive that was sent
	NewSince string   // a round of which the vendor has the archive: what did not change since stays behind; "" is none
	Format   string   // "" is what the ask wants, else the first of archive.Formats
	Level    string   // one of archive.Levels; "" is the one of the format
	Domains  []string // host names under these are removed too
	Opaque   []string // items whose unreadable files go along unread, on the engineer's word
	Without  []string // items that stay behind, though they were collected
	Split    int64    // bytes of one part, when the archive is larger; 0 does not split
	SignWith string   // path of a private SSH key; "" signs nothing
	// EncryptTo are public keys beside those of the ask. Passphrase asks for one; nil is none.
	EncryptTo  []string
	Passphrase func() (string, error)
}

// Packed is what came of it.
type Packed struct {
	Archive    string               `json:"archive"` // path
	Round      string               `json:"round"`   // or rounds: r1,r2
	NewSince   string               `json:"new_since,omitempty"`
	Size       int64                `json:"size"` // bytes
	SHA256     string               `json:"sha256"`
	Files      int                  `json:"files"`
	Findings   redact.Counts        `json:"findings"`
	Learned    int                  `json:"learned"`
	Proof      redact.Proof         `json:"proof"`
	Weaker     []string             `json:"weaker"`                       // what takes less out than the rules alone
	OpaqueIn   []string             `json:"opaque_in"`                    // went unread
	StillThere []archive.StillThere `json:"values_still_there,omitempty"` // in these or in files that stay as they are
	Remarks    []string             `json:"window_remarks,omitempty"`     // the window was not over, or logs end before it
	OpaqueOut  []string             `json:"opaque_out"`                   // stayed behind, because nobody said otherwise
	Pictures   []string             `json:"pictures,omitempty"`           // of these, with the path at which to look at them
	Lacking    []string             `json:"lacking"`
	Sealed     *Sealed              `json:"sealed,omitempty"`    // the archive, encrypted
	Parts      []archive.Part       `json:"parts,omitempty"`     // of what is sent
	JoinPage   string               `json:"join_page,omitempty"` // says how to join them
	Same       bool                 `json:"same"`                // the archive was there already, byte for byte
	Took       []StageTime          `json:"took"`

	TooLarge      []RouteLimit `json:"too_large,omitempty"` // routes of the ask that do not take it
	Largest       []ItemSize   `json:"largest"`             // the items with most bytes in it, the largest first
	OpenQuestions []string     `json:"open_questions"`      // required ones of the vendor without a fitting answer
}

// StageTime is how long a stage of packing took, see PackProgress.
type StageTime struct {
	Stage   string  `json:"stage"`
	Seconds float64 `json:"seconds"`
}

// ItemSize is how much of an archive one item is, in bytes before packing.
type ItemSize struct {
	Item  string `json:"item"`
	Bytes int64  `json:"bytes"`
}

// RouteLimit is a route of the ask that takes less than was packed.
type RouteLimit struct {
	Route string `json:"route"`
	Limit int64  `json:"limit"` // bytes
}

// measure finds the routes for which what is sent is too large, whole or in its largest part.
func (p *packing) measure(out *Packed) {
	size := out.Size
	if out.Sealed != nil {
		size = out.Sealed.Size
	}
	for i, part := range out.Parts {
		if i == 0 {
			size = 0
		}
		size = max(size, part.Size)
	}
	for _, r := range p.ask.Routes {
		limit := r.Limit
		if limit == 0 && submit.ByMail(r.To) {
			limit = submit.DefaultMailLimit
		}
		if limit > 0 && size > limit {
			out.TooLarge = append(out.TooLarge, RouteLimit{r.Name, limit})
		}
	}
}

// largest gives the five largest items.
func (p *packing) largest() []ItemSize {
	sizes := map[string]int64{}
	for _, x := range p.pieces {
		if !x.out {
			sizes[x.entry.Item] += x.entry.Bytes
		}
	}
	list := []ItemSize{}
	for item, n := range sizes {
		list = append(list, ItemSize{item, n})
	}
	slices.SortFunc(list, func(a, b ItemSize) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), strings.Compare(a.Item, b.Item))
	})
	return list[:min(len(list), 5)]
}

// PackProgress says how far packing is, in bytes of evidence.
type PackProgress struct {
	Stage       string // "learning", "packing", "checking"
	Done, Total int64
}

// packing is one run of Pack.
type packing struct {
	app    *App
	c      *casefile.Case
	ask    *ask.Ask
	rounds []*collect.Round
	round  *collect.Round    // the newest of them
	since  *collect.Round    // of which the vendor has the archive; nil is none
	same   map[[2]string]int // files by system and item that did not change since then
	view   *CaseView
	of     map[cellKey]*collect.Round // of which round each item is; nil where the engineer chose the rounds
	sent   []*collect.Round           // of which the vendor has archives, and which are not packed again
	heldOf map[string]map[cellKey]int // how many files of each item of a round the sent archives hold
	// arrivedThere is all that they hold.
	arrivedThere map[place]bool
	also         []alsoHeld
	q            PackRequest
	pieces       []*piece
	behind       []*piece // what the vendor has already: it does not go along, but what it teaches counts
	left         []archive.LeftOut
	policy       *policy.Policy
	keep         map[string]redact.Class // disclosed on purpose
	prover       *redact.Prover
	proof        redact.Proof
	samples      sampling
	known        []redact.Value // learned values
	learned      *redact.Learned
	loaded       func() (*redact.Table, error) // the table as it was
	table        *redact.Table
	matcher      *redact.Matcher
	tmp          string
	signer       ssh.Signer // nil signs nothing
	sealTo       []age.Recipient
	keys         []string // public keys of those; none with a passphrase
	format       *archive.Format
	level        archive.Level
	within       map[*collect.Round]func(time.Time) bool // the round's window
	arrived      map[*collect.Round]func() ([]*arrived, error)
	total        int64
	done         atomic.Int64
	stage        atomic.Value
	begun        time.Time // the stage; the first one with what comes before it
	took         []StageTime
	learner      sync.Pool // of engines that only learn
	writer       sync.Pool // of engines that replace
}

// piece is one file of evidence on its way into the archive.
type piece struct {
	entry   collect.Entry
	round   *collect.Round
	earlier bool   // a later round of the archive has another form of it
	path    string // in the archive
	behind  bool   // see packing
	renamed bool   // its name there is another, so that every system can hold it
	form    redact.Form
	opaque  bool
	out     bool   // opaque, and stays behind
	check   string // of a piece learned on arrival, see arrived
	learned bool   // from when it arrived; whether it is still the same is seen when it is written
	active  bool   // a browser might run or draw it
	asIs    bool   // it stays as it is, on the engineer's word
	result  redact.Result
}

// raw is where it lies on the disk.
func (x *piece) raw() string {
	return filepath.Join(x.round.RawDir(), x.entry.System, filepath.FromSlash(x.entry.Name))
}

// Pack redacts a round and writes the archive that is named after the case. Nothing has its final name before it was
// read back, which makes its checksums, and searched for everything that was learned.
func (a *App) Pack(ctx context.Context, c *casefile.Case, q PackRequest) (*Packed, error) {
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	room := make([]byte, headroom)
	p := newPacking(a, c, q)
	go p.loaded() // beside all that comes before it is used
	if err := p.load(); err != nil {
		return nil, err
	}
	if err := a.keepApproved(w, p.ask); err != nil {
		return nil, err
	}
	if p.format, err = archive.FormatOf(orElse(q.Format, p.ask.Format)); err != nil {
		return nil, &fault.Error{Class: fault.Usage, Op: "--format", Err: err}
	}
	if p.level, err = p.format.LevelOf(q.Level); err != nil {
		return nil, &fault.Error{Class: fault.Usage, Op: "--level", Err: err}
	}
	if err := p.checkWithout(); err != nil {
		return nil, err
	}
	if err := p.loadSigner(); err != nil {
		return nil, err
	}
	if err := p.recipients(); err != nil {
		return nil, err
	}
	if err := removeUnfinished(c.OutDir()); err != nil {
		return nil, fault.Wrap("pack", c.OutDir(), err)
	}
	if p.tmp, err = os.MkdirTemp(c.OutDir(), unfinished); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	defer os.RemoveAll(p.tmp)
	if err := p.learn(ctx); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	if err := p.aliases(); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	runtime.KeepAlive(room)
	out, err := p.write(ctx)
	if err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	if err := p.settle(w, out); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	if err := p.seal(ctx, w, out); err != nil {
		return nil, fault.Wrap("encrypt", out.Archive, err)
	}
	if err := p.split(ctx, w, out); err != nil {
		return nil, fault.Wrap("split", out.Archive, err)
	}
	p.measure(out)
	p.end()
	out.Took = p.took
	return out, fault.Wrap("pack", out.Archive, writeCarry(c, out.Archive, out.SHA256))
}

// headroom is never touched, so it takes no memory. The garbage collector counts it nevertheless, and does not go through what is
// learned while everything waits for it, nor again and again through the little that redaction keeps.
const headroom = 40 << 20 // bytes

// unfinished begins the names of the folders in which archives are made.
const unfinished = ".packing-"

// removeUnfinished removes what a run left that was killed: the case has one writer at a time.
func removeUnfinished(dir string) error {
	list, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, x := range list {
		if x.IsDir() && strings.HasPrefix(x.Name(), unfinished) {
			err = errors.Join(err, os.RemoveAll(filepath.Join(dir, x.Name())))
		}
	}
	return err
}

func newPacking(a *App, c *casefile.Case, q PackRequest) *packing {
	p := &packing{app: a, c: c, q: q, same: map[[2]string]int{}, within: map[*collect.Round]func(time.Time) bool{},
		arrived: map[*collect.Round]func() ([]*arrived, error){}, begun: time.Now(), format: &archive.Formats[0]}
	p.loaded = sync.OnceValues(func() (*redact.Table, error) { return redact.LoadTable(c.AliasFile()) })
	p.learner.New = func() any {
		o := p.options()
		o.Learned = redact.NewLearned()
		return &learner{redact.NewEngine(o), o.Learned}
	}
	p.writer.New = func() any { return p.engine() }
	return p
}

// load chooses the round and lists its evidence.
func (p *packing) load() error {
	k, err := p.app.approvedAsk(p.c)
	if err != nil {
		return err
	}
	p.ask = k
	if err = p.chooseOfCase(); err != nil {
		return err
	}
	for _, r := range p.rounds {
		p.arrived[r] = sync.OnceValues(func() ([]*arrived, error) { return readArrived(r) })
		go p.arrived[r]() // beside what comes before it is used
	}
	said := vocabulary(p.c, k)
	p.learned = redact.NewLearned(said...)
	if p.policy, err = p.app.policy(p.c, k, p.q.Domains); err != nil {
		return err
	}
	p.keep = disclosed(k, p.c.Brief, redact.Options{Config: p.policy.Config()})
	if err := p.addLiterals(said); err != nil {
		return err
	}
	if err := p.app.addOwnSecrets(p.c, p.learned, said); err != nil {
		return err
	}
	p.prover = redact.NewProver(p.policy.Config())
	for _, id := range p.q.Opaque {
		if k.Item(id) == nil {
			return fault.New(fault.Usage, "--opaque", id, "there is no such item in the ask", "")
		}
	}
	if err := p.loadRounds(); err != nil {
		return err
	}
	for _, x := range p.pieces {
		p.learned.AddCommon(redact.PathWords(x.entry.Source)...)
	}
	return nil
}

// addLiterals adds the texts that must not leave. What every archive of the case says cannot be one of them.
func (p *packing) addLiterals(said []string) error {
	hosts := map[string]bool{}
	if s, err := LoadSite(p.c.Systems); err == nil {
		for _, h := range hostsOf(s) {
			hosts[h.Text] = true
		}
	}
	text := strings.Join(said, "\n")
	for _, l := range p.policy.Literals {
		leaks, err := redact.FindLeaks(redact.NewMatcher([]redact.Value{l}), strings.NewReader(text))
		switch {
		case err != nil:
			return err
		case len(leaks) == 0:
			p.learned.Add(l)
		case !hosts[l.Text]: // a host may be called like an item
			return fault.New(fault.Usage, policy.FileName, fmt.Sprintf("literals: %q", l.Text),
				"stands in what every archive of this case says (the ask, the systems file, the words of page and manifest)",
				"give a longer text, or an expression")
		}
	}
	return nil
}

// without says whether the engineer wants a piece to stay behind. It is learned from all the same: what it shows next to a key
// may stand bare in what goes.
func (p *packing) without(x *piece) bool { return slices.Contains(p.q.Without, x.entry.Item) }

// checkWithout makes sure that what is to stay behind has names of the ask.
func (p *packing) checkWithout() error {
	for _, id := range p.q.Without {
		if p.ask.Item(id) == nil && id != "vitals" {
			var known []string
			for _, it := range p.ask.Items {
				known = append(known, it.ID)
			}
			return fault.New(fault.Usage, "--without", id, "the ask names no such item; known: "+strings.Join(known, ", "), "")
		}
	}
	return nil
}

func (p *packing) begin(stage string) {
	p.end()
	p.stage.Store(stage)
	p.done.Store(0)
	p.app.report(PackProgress{stage, 0, p.total})
}

// end takes down how long the stage took.
func (p *packing) end() {
	if stage, ok := p.stage.Load().(string); ok {
		p.took = append(p.took, StageTime{stage, time.Since(p.begun).Round(time.Millisecond).Seconds()})
		p.begun = time.Now()
	}
}

func (p *packing) progress(n int64) {
	p.app.report(PackProgress{p.stage.Load().(string), p.done.Add(n), p.total})
}

// learn reads everything once, so that what stands next to a key in one file is known in all others. It also makes sure
// that the evidence is still what was collected.
func (p *packing) learn(ctx context.Context) error {
	var beside errgroup.Group
	beside.Go(p.learnTexts)
	beside.Go(func() error { return remember(p.c, p.rounds, p.policy.Digest(), p.learned) })
	if err := errors.Join(p.fromArrival(), beside.Wait()); err != nil {
		return err
	}
	p.total = 0
	all := slices.Concat(p.pieces, p.behind)
	for _, x := range all {
		if !x.learned {
			p.total += x.entry.Bytes
		}
	}
	p.begin("learning")
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, x := range all {
		if inner.Err() != nil {
			break
		}
		if x.learned {
			continue
		}
		g.Go(func() error { return p.learnPiece(inner, x) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}

// learnTexts learns from what is said beside the evidence.
func (p *packing) learnTexts() error {
	l := p.learner.Get().(*learner)
	defer p.learner.Put(l)
	for _, text := range p.texts() {
		if _, err := l.engine.Text(nil, strings.NewReader(text)); err != nil {
			return err
		}
	}
	p.learned.Add(l.learned.Take()...)
	return nil
}

// texts gives what goes into manifest, page and brief besides the evidence.
func (p *packing) texts() []string {
	texts := []string{p.c.Title}
	for _, r := range p.rounds {
		texts = append(texts, r.Note)
	}
	for _, x := range p.pieces {
		texts = append(texts, x.entry.Source, x.entry.Name, x.entry.Reason)
	}
	for _, l := range p.left {
		texts = append(texts, l.Source, l.Reason)
	}
	for _, cell := range p.joinedCoverage() {
		texts = append(append(texts, cell.Reason), cell.Notes...)
	}
	for _, answer := range p.c.Brief {
		texts = append(texts, answer)
	}
	return texts
}

func (p *packing) learnPiece(ctx context.Context, x *piece) error {
	f, err := os.Open(x.raw())
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	tee := io.TeeReader(durable.Told(ctx, f, p.progress), sum)
	var res redact.Result
	if !x.asIs {
		l := p.learner.Get().(*learner)
		defer p.learner.Put(l)
		if res, err = l.engine.File(nil, tee, p.source(x)); err != nil {
			return fmt.Errorf("%s: %w", x.raw(), err)
		}
		if values := l.learned.Take(); !res.Unreadable() { // what a rule hits in binary by chance teaches nothing
			p.learned.Add(values...)
		}
	}
	if _, err := io.Copy(io.Discard, tee); err != nil {
		return err
	}
	if err := x.unchanged(sum, x.entry.SHA256); err != nil {
		return err
	}
	x.form, x.result = res.Form, res
	x.opaque = res.Unreadable()
	x.out = x.opaque && !p.mayGoUnread(x) || p.without(x)
	return nil
}

// unchanged makes sure that what was read is what was collected.
func (x *piece) unchanged(sum hash.Hash, want string) error {
	if hex.EncodeToString(sum.Sum(nil)) != want {
		return fault.New(fault.Refused, "", x.raw(), "it was changed since it was collected",
			"collect it again (envask collect makes a new round)")
	}
	return nil
}

// options gives what all engines of this packing have in common.
func (p *packing) options() redact.Options {
	o := redact.Options{Config: p.policy.Config(), TempDir: p.tmp}
	for text := range p.keep {
		o.Keep = append(o.Keep, text)
	}
	return o
}

func (p *packing) mayGoUnread(x *piece) bool { return slices.Contains(p.q.Opaque, x.entry.Item) }

// learner is an engine that only learns, and what it learned from one file.
type learner struct {
	engine  *redact.Engine
	learned *redact.Learned
}

// source says what is known of a piece. Packets are bound to the window like the lines of a log.
func (p *packing) source(x *piece) redact.Source {
	src := redact.Source{Name: x.entry.Name, Unread: p.mayGoUnread(x), Opaque: x.form == redact.Opaque}
	if it := p.ask.Item(x.entry.Item); it != nil {
		if f, ok := it.Spec.(ask.Files); ok && f.Cut == "none" {
			return src
		}
	}
	src.Within = p.within[x.round]
	return src
}
