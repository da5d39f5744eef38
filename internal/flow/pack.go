package flow

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/redact"
	"envask/internal/redact/prove"
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
	Proof      prove.Proof          `json:"proof"`
	Weaker     []string             `json:"weaker"`                       // what takes less out than the rules alone
	OpaqueIn   []string             `json:"opaque_in"`                    // went unread
	StillThere []archive.StillThere `json:"values_still_there,omitempty"` // in these or in files that stay as they are
	Remarks    []string             `json:"window_remarks,omitempty"`     // the window was not over, or logs end before it
	OpaqueOut  []string             `json:"opaque_out"`                   // stayed behind, because nobody said otherwise
	looks      []ReviewedPicture    // pictures that go along
	Pictures   []string             `json:"pictures,omitempty"` // of these, with the path at which to look at them
	Lacking    []string             `json:"lacking"`
	Sealed     *Sealed              `json:"sealed,omitempty"`    // the archive, encrypted
	Parts      []archive.Part       `json:"parts,omitempty"`     // of what is sent
	JoinPage   string               `json:"join_page,omitempty"` // says how to join them
	Same       bool                 `json:"same"`                // the archive was there already, byte for byte
	Took       []StageTime          `json:"took"`
	asIs       []string             // files that stay as they are
	contents   *contents

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
	Item   string `json:"item"`
	Bytes  int64  `json:"bytes"`
	Advice string `json:"advice,omitempty"` // of the ask: how to make it smaller
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

// PackProgress says how far packing is, in bytes of evidence.
type PackProgress struct {
	Stage       string // "learning", "packing", "checking"
	Done, Total int64
}

// packing is one run of Pack: its archive, and what comes beside it.
type packing struct {
	*job
	writing *writing
	sealTo  []age.Recipient
	keys    []string // public keys of those; none with a passphrase
}

// Pack redacts a round and writes the archive that is named after the case. Nothing has its final name before it was
// read back, which makes its checksums, and searched for everything that was learned.
func (a *App) Pack(ctx context.Context, c *casefile.Case, q PackRequest) (*Packed, error) {
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	defer calm()()
	k, err := a.approvedAsk(c)
	if err != nil {
		return nil, err
	}
	p := newPacking(a, c, k, q)
	sel, rules := &selection{job: p.job}, newRuleset(p.job)
	if err := p.prepare(w, sel, rules); err != nil {
		return nil, err
	}
	if err := removeUnfinished(c.OutDir()); err != nil {
		return nil, fault.Wrap("pack", c.OutDir(), err)
	}
	if p.tmp, err = os.MkdirTemp(c.OutDir(), unfinished); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	defer durable.RemoveAll(p.tmp)
	out, err := p.run(ctx, w, &evidence{job: p.job, sel: sel, rules: rules})
	if err != nil {
		return nil, err
	}
	p.end()
	out.Took = p.took
	return out, fault.Wrap("pack", out.Archive, writeCarry(c, out.Archive, out.SHA256))
}

func newPacking(a *App, c *casefile.Case, k *ask.Ask, q PackRequest) *packing {
	j := &job{app: a, c: c, ask: k, q: q, meter: meter{report: a.report, begun: time.Now()}}
	return &packing{job: j, writing: &writing{format: &archive.Formats[0]}}
}

// prepare makes sure that packing can begin: of what is asked for, nothing may turn out to be impossible at its end.
func (p *packing) prepare(w *casefile.Writer, sel *selection, rules *ruleset) (err error) {
	if err := sel.choose(); err != nil {
		return err
	}
	if err := rules.load(); err != nil {
		return err
	}
	if err := rules.keepLinks(sel.rounds); err != nil {
		return err
	}
	if err := p.checkRequest(); err != nil {
		return err
	}
	if err := p.app.keepApproved(w, p.ask); err != nil {
		return err
	}
	if p.writing.format, err = archive.FormatOf(orElse(p.q.Format, p.ask.Format)); err != nil {
		return &fault.Error{Class: fault.Usage, Op: "--format", Err: err}
	}
	if p.writing.level, err = p.writing.format.LevelOf(p.q.Level); err != nil {
		return &fault.Error{Class: fault.Usage, Op: "--level", Err: err}
	}
	if p.writing.signer, err = p.signer(); err != nil {
		return err
	}
	return p.recipients()
}

// run goes through the stages.
func (p *packing) run(ctx context.Context, w *casefile.Writer, v *evidence) (*Packed, error) {
	if err := v.load(ctx); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	if err := v.learn(ctx); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	if err := v.rules.aliases(); err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	p.writing = newWriting(v, p.writing.format, p.writing.level, p.writing.signer)
	var err error
	if p.writing.news, err = briefNews(v.c, v.sel.rounds); err != nil {
		return nil, fault.Wrap("read the ledger", v.c.Name, err)
	}
	out, err := p.writing.write(ctx)
	if err != nil {
		return nil, fault.Wrap("pack", "", err)
	}
	defer out.contents.close()
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
	return out, nil
}

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
			err = errors.Join(err, durable.RemoveAll(filepath.Join(dir, x.Name())))
		}
	}
	return err
}
