package flow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/archive"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/redact"
	"envask/internal/spill"
	"envask/internal/submit"
)

// leakCheck searches what was read back of an archive for every learned original.
type leakCheck struct {
	w      *writing
	ctx    context.Context
	finder *redact.LeakFinder
	pieces *spill.Reader[piece] // of what is in the archive, in its order; the program's own files come behind
	now    *piece               // the one that is read; nil is one of those
	leaks  []string
	still  []archive.StillThere // what stands in files that nobody redacted, on the engineer's word
}

func newLeakCheck(w *writing) *leakCheck {
	return &leakCheck{w: w, finder: redact.NewLeakFinder(w.rules.matcher, w.rules.options())}
}

// inspect looks at one file.
func (c *leakCheck) inspect(name string, r io.Reader) (err error) {
	c.now, err = c.pieces.Next()
	if err != nil && err != io.EOF {
		return err
	}
	x := c.now
	found, err := c.finder.Find(durable.Told(c.ctx, r, c.w.progress), name)
	word := x != nil && (x.Opaque || x.AsIs)
	for _, l := range found {
		if !word {
			c.leaks = append(c.leaks, fmt.Sprintf("%s at byte %d (rule %s)", inMember(name, l.Member), l.Offset, l.Rule))
		}
	}
	for hit, n := range c.finder.Hits() {
		switch {
		case word || x != nil && hit.Unread:
			c.still = append(c.still, archive.StillThere{File: inMember(name, hit.Member), Rule: hit.Rule, Count: n})
		case hit.Unread:
			c.leaks = append(c.leaks, fmt.Sprintf("%s (rule %s)", inMember(name, hit.Member), hit.Rule))
		}
	}
	return err
}

// stillThere gives what stands in files that nobody redacted, in a fixed order.
func (c *leakCheck) stillThere() []archive.StillThere {
	slices.SortFunc(c.still, func(a, b archive.StillThere) int {
		return cmp.Or(strings.Compare(a.File, b.File), strings.Compare(a.Rule, b.Rule))
	})
	return c.still
}

// result says what was found so far.
func (c *leakCheck) result() error {
	if len(c.leaks) == 0 {
		return nil
	}
	return fault.New(fault.Refused, "leak check", "", "a value that must not leave is still on the system: "+strings.Join(c.leaks, "; "),
		"the archive was not kept; please report the file's form, without the value")
}

// inMember names a file, or a member of it.
func inMember(name, member string) string {
	if member == "" {
		return name
	}
	return name + ", in it " + member
}

// settle gives the archive its final name. One that was sent is never overwritten.
func (p *packing) settle(w *casefile.Writer, out *Packed) error {
	// No alias that the archive uses may be missing from the table, or another original could get it later.
	if err := saveTable(p.writing.rules.table, p.c.AliasFile()); err != nil {
		return err
	}
	sent, err := sentArchives(p.c)
	if err != nil {
		return err
	}
	base := archive.TrimEnding(out.Archive)
	ending := "." + p.writing.format.Name
	if p.encrypts() {
		ending += plainEnding
		out.Archive += plainEnding
	}
	for n := 2; ; n++ {
		sum, was := sent[filepath.Base(out.Archive)]
		if !was || sum == out.SHA256 {
			break
		}
		out.Archive = fmt.Sprintf("%s-%d%s", base, n, ending)
	}
	if n := filepath.Base(out.Archive); n != filepath.Base(base)+ending {
		p.app.note("an archive of that name was sent already and stays; this one is %s", n)
	}
	part := p.writing.part()
	out.Same = casefile.SameContent(part, out.Archive)
	durable.Point("before the archive")
	if err := os.Rename(part, out.Archive); err != nil {
		return err
	}
	durable.Point("after the archive")
	if err := durable.SyncDir(p.c.OutDir()); err != nil {
		return err
	}
	if err := errors.Join(p.writing.saveReview(out), out.contents.save(p.c, out.SHA256)); err != nil {
		return err
	}
	return w.Ledger.Append(kindPacked, packedRecord{Archive: filepath.Base(out.Archive), Round: out.Round, Since: out.NewSince,
		Size: out.Size, SHA256: out.SHA256, Files: out.Files,
		Lacking: len(out.Lacking), Ask: p.ask.Digest, Encrypt: p.keys, Passphrase: p.q.Passphrase != nil, By: p.app.Who,
		Answers: answerSums(p.c)})
}

// sentArchives gives the archives of a case that were sent: name to SHA-256.
func sentArchives(c *casefile.Case) (map[string]string, error) {
	sent := map[string]string{}
	err := c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindSubmitted {
			return nil
		}
		var s submit.Receipt
		if err := json.Unmarshal(r.Data, &s); err != nil {
			return err
		}
		name, sum := s.Plain()
		sent[name] = sum
		return nil
	})
	return sent, err
}
