package flow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/compare"
	"envask/internal/fault"
	"envask/internal/policy"
	"envask/internal/redact"
	"envask/internal/round"
	"envask/internal/seal"
)

// CompareRequest names two states of a site.
type CompareRequest struct {
	// Before and Now are a round (r1), a round of another case (26031407/r1), the word baseline, or the path of an archive or a
	// folder. "" is the newest baseline of the site, else the round before, and the newest round.
	Before, Now string
	Case        string // name of the case; "" is the one used last
	Unmask      bool   // show secrets too
}

// Compared is what came of it.
type Compared struct {
	Before SideView `json:"a"`
	Now    SideView `json:"b"`
	*compare.Result
	Notes []string `json:"notes"` // what makes the comparison say less than it could
}

// SideView says what one side is.
type SideView struct {
	Name     string    `json:"name"`
	At       time.Time `json:"at,omitzero"`
	Baseline bool      `json:"baseline,omitempty"`
	Redacted bool      `json:"redacted"`
	Files    int       `json:"files"`
}

// CompareProgress says how far comparing is, in files.
type CompareProgress struct{ Done, Total int }

// baselineWord names the newest baseline of a site.
const baselineWord = "baseline"

// comparing is one run of Compare.
type comparing struct {
	app   *App
	c     *casefile.Case // nil until one is needed
	name  string
	notes []string
	done  []func()
}

// Compare says what differs between two rounds, archives or folders.
func (a *App) Compare(ctx context.Context, q CompareRequest) (*Compared, error) {
	x := &comparing{app: a, name: q.Case}
	defer func() {
		for _, f := range x.done {
			f()
		}
	}()
	if q.Now == "" || q.Before == "" {
		if err := x.choose(&q); err != nil {
			return nil, err
		}
	}
	out := &Compared{}
	before, now, err := x.sides(ctx, q, out)
	if err != nil {
		return nil, err
	}
	if out.Before.Redacted != out.Now.Redacted {
		x.notes = append(x.notes,
			"one side is redacted and the other as it was taken: names, addresses and secrets differ for that reason alone")
	}
	o := compare.Options{Progress: func(done, total int) { a.report(CompareProgress{done, total}) }}
	if !q.Unmask {
		if o.Hide, err = x.hide(); err != nil {
			return nil, err
		}
	}
	out.Result, err = compare.Compare(ctx, before, now, o)
	if ctx.Err() != nil {
		return nil, &fault.Error{Class: fault.Interrupted, Op: "compare", Err: errors.New("interrupted")}
	}
	out.Notes = append([]string{}, x.notes...)
	return out, fault.Wrap("compare", q.Before, err)
}

// hide gives what takes secrets out of a text; names and addresses stay, for the engineer knows them.
func (x *comparing) hide() (func(string) string, error) {
	config := redact.Config{}
	if x.c != nil {
		k, err := x.app.approvedAsk(x.c)
		if err != nil {
			k = &ask.Ask{Redaction: &policy.Policy{}} // rounds can be compared without: then the rules alone count
		}
		pol, err := x.app.policy(x.c, k, nil)
		if err != nil {
			return nil, err
		}
		config = pol.Config()
	} else if pol, err := loadPolicy(filepath.Join(x.app.Home.Dir, policy.FileName)); err == nil {
		config = pol.Config()
	}
	config.Classes = map[redact.Class]redact.Treatment{}
	for _, r := range redact.Rules {
		if r.Class != redact.Secret {
			config.Classes[r.Class] = redact.Keep
		}
	}
	e := redact.NewEngine(redact.Options{Config: config})
	return func(text string) string { return strings.TrimSuffix(e.String(text+"\n"), "\n") }, nil
}

func (x *comparing) needCase() (*casefile.Case, error) {
	if x.c == nil {
		c, err := x.app.Case(x.name)
		if err != nil {
			return nil, err
		}
		x.c = c
	}
	return x.c, nil
}

// choose fills in what was not named: the newest round, and of what came before it the newest baseline of the site.
func (x *comparing) choose(q *CompareRequest) error {
	c, err := x.needCase()
	if err != nil {
		return err
	}
	rounds, err := round.List(c)
	if err != nil {
		return fault.Wrap("read the rounds", c.Name, err)
	}
	rounds = slices.DeleteFunc(rounds, func(r *round.Round) bool { return !r.Finished() })
	if q.Now == "" {
		if len(rounds) == 0 {
			return fault.New(fault.Usage, "compare", c.Name, "the case has no finished round",
				"run envask collect first, or name two rounds, archives or folders")
		}
		q.Now = rounds[len(rounds)-1].ID
	}
	if q.Before != "" {
		return nil
	}
	if of, r, err := x.baseline(q.Now); err != nil {
		return err
	} else if r != nil {
		q.Before = of.Name + "/" + r.ID
		return nil
	}
	i := slices.IndexFunc(rounds, func(r *round.Round) bool { return r.ID == q.Now })
	if i < 1 {
		return fault.New(fault.Usage, "compare", c.Name, "there is nothing before "+q.Now+
			" to compare with: no baseline of the site, and no earlier round", "envask collect --baseline takes one before the next change")
	}
	q.Before = rounds[i-1].ID
	return nil
}

// baseline finds the newest baseline of the case's site, in this case or any other; but is the round that it is not.
func (x *comparing) baseline(but string) (of *casefile.Case, best *round.Round, err error) {
	c, err := x.needCase()
	if err != nil {
		return nil, nil, err
	}
	list, err := x.app.Home.Cases()
	if err != nil {
		return nil, nil, fault.Wrap("list the cases", x.app.Home.Dir, err)
	}
	for _, l := range list {
		if l.Err != nil || l.Case.Site != c.Site {
			continue
		}
		rounds, err := round.List(l.Case)
		if err != nil {
			continue // a broken case does not keep others from being compared
		}
		for _, r := range rounds {
			if r.Baseline && r.Finished() && (l.Case.Name != c.Name || r.ID != but) && (best == nil || r.Ended.After(best.Ended)) {
				of, best = l.Case, r
			}
		}
	}
	return of, best, nil
}

// side reads one side.
func (x *comparing) side(ctx context.Context, ref string, v *SideView) (*compare.Side, error) {
	if ref == baselineWord {
		c, r, err := x.baseline("")
		if err != nil {
			return nil, err
		}
		if r == nil {
			return nil, fault.New(fault.Usage, "compare", ref, "there is no baseline of this site", "envask collect --baseline takes one")
		}
		return x.round(c, r, v)
	}
	name, id, other := strings.Cut(ref, "/")
	if !other {
		name, id = "", ref
	}
	if strings.HasPrefix(id, "r") && casefile.CheckName(orElse(name, "x")) == nil && isRound(id) {
		c, err := x.needCase()
		if err == nil && name != "" && name != c.Name {
			c, err = x.app.Home.Open(name)
		}
		if err == nil {
			if r, err := round.Load(c, id); err == nil {
				return x.round(c, r, v)
			}
		}
		if _, statErr := os.Stat(ref); statErr != nil {
			if err != nil {
				return nil, err
			}
			return nil, fault.New(fault.Usage, "compare", ref, "there is no such round in case "+c.Name, "envask show lists them")
		}
	}
	return x.path(ctx, ref, v)
}

func isRound(id string) bool {
	digits := strings.TrimPrefix(id, "r")
	return digits != "" && strings.Trim(digits, "0123456789") == ""
}

func (x *comparing) round(c *casefile.Case, r *round.Round, v *SideView) (*compare.Side, error) {
	if !r.Finished() {
		return nil, fault.New(fault.Usage, "compare", r.ID, "the round is unfinished", "run envask collect to resume it")
	}
	*v = SideView{Name: "round " + r.ID + " of case " + c.Name, At: r.Started, Baseline: r.Baseline}
	s := &compare.Side{Files: map[compare.Key]*compare.File{}, Facts: map[string]collect.Vitals{}}
	err := r.Entries(func(e round.Entry) error {
		if e.Name == "" {
			return nil
		}
		file := filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name))
		s.Files[compare.Key{System: e.System, Path: e.Name}] = &compare.File{Item: e.Item, Size: e.Bytes, SHA256: e.SHA256,
			Log: e.Cut != nil || !e.First.IsZero() || compare.LooksLikeLog(e.Name),
			Open: func() (io.ReadCloser, error) {
				f, err := os.Open(file)
				if errors.Is(err, os.ErrNotExist) {
					err = errors.New("its raw evidence was removed by tidy")
				}
				return f, err
			}}
		if e.Item == ask.Vitals {
			s.AddFacts(e.System, file)
		}
		return nil
	})
	v.Files = len(s.Files)
	s.AskedFor(r.Coverage)
	return s, fault.Wrap("read the round", r.ID, err)
}

// path reads an archive or a folder.
func (x *comparing) path(ctx context.Context, name string, v *SideView) (*compare.Side, error) {
	if strings.HasSuffix(name, seal.Ending) {
		return nil, fault.New(fault.Usage, "compare", name, "it is encrypted", "decrypt it first")
	}
	dir, skipped, done, err := x.app.unpackedDir(ctx, name)
	if err != nil {
		return nil, err
	}
	x.done = append(x.done, done)
	if skipped > 0 {
		x.notes = append(x.notes, fmt.Sprintf("%s: %d links and special files are not compared", name, skipped))
	}
	s, err := compare.Folder(dir)
	if err != nil {
		return nil, fault.Wrap("look into", name, err)
	}
	if len(s.Files) == 0 {
		return nil, fault.New(fault.Usage, "compare", name, "there are no files in it", "")
	}
	*v = SideView{Name: name, Files: len(s.Files)}
	for _, pattern := range []string{archive.ManifestName, "*/" + archive.ManifestName} {
		if found, err := filepath.Glob(filepath.Join(dir, pattern)); err == nil && len(found) == 1 {
			v.Redacted = true
		}
	}
	return s, nil
}
