package flow

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"envask/internal/ask"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/policy"
	"envask/internal/redact"
	"envask/internal/redact/prove"
)

// ruleset is by what a run of Pack redacts: what the ask, the engineer and the site say, and what was learned.
type ruleset struct {
	*job
	policy  *policy.Policy
	keep    map[string]redact.Class // disclosed on purpose
	prover  *prove.Prover
	proof   prove.Proof
	samples sampling
	tally   tally
	within  map[string]func(time.Time) bool // the window of each round
	learned *redact.Learned
	known   []redact.Value                // learned values that do not stay readable
	loaded  func() (*redact.Table, error) // the table as it was
	table   *redact.Table
	matcher *redact.Matcher
	learner sync.Pool // of engines that only learn
	writer  sync.Pool // of engines that replace
}

// learner is an engine that only learns, and what it learned from one file.
type learner struct {
	engine  *redact.Engine
	learned *redact.Learned
}

func newRuleset(j *job) *ruleset {
	r := &ruleset{job: j, within: map[string]func(time.Time) bool{}}
	r.loaded = sync.OnceValues(func() (*redact.Table, error) { return redact.LoadTable(j.c.AliasFile()) })
	r.learner.New = func() any {
		o := r.options()
		o.Learned = redact.NewLearned()
		return &learner{redact.NewEngine(o), o.Learned}
	}
	r.writer.New = func() any { return r.engine() }
	return r
}

// load reads what is said before any evidence is read.
func (r *ruleset) load() (err error) {
	go r.loaded() // beside all that comes before it is used
	said := vocabulary(r.c, r.ask)
	r.learned = redact.NewLearned(said...)
	if r.policy, err = r.app.policy(r.c, r.ask, r.q.Domains); err != nil {
		return err
	}
	r.keep = disclosed(r.ask, r.c.Brief, redact.Options{Config: r.policy.Config()})
	if err := r.addLiterals(said); err != nil {
		return err
	}
	r.prover = prove.NewProver(r.policy.Config())
	return r.app.addOwnSecrets(r.c, r.learned, said)
}

// addLiterals adds the texts that must not leave. What every archive of the case says cannot be one of them.
func (r *ruleset) addLiterals(said []string) error {
	hosts := map[string]bool{}
	if s, err := LoadSite(r.c.Systems); err == nil {
		for _, h := range append(hostsOf(s), accountsOf(s)...) {
			hosts[h.Text] = true
		}
	}
	text := strings.Join(said, "\n")
	for _, l := range r.policy.Literals {
		leaks, err := redact.FindLeaks(redact.NewMatcher([]redact.Value{l}), strings.NewReader(text))
		switch {
		case err != nil:
			return err
		case len(leaks) == 0:
			r.learned.Add(l)
		case !hosts[l.Text]: // a host may be called like an item
			return fault.New(fault.Usage, policy.FileName, fmt.Sprintf("literals: %q", l.Text),
				"stands in what every archive of this case says (the ask, the systems file, the words of page and manifest)",
				"give a longer text, or an expression")
		}
	}
	return nil
}

// options gives what all engines of this packing have in common.
func (r *ruleset) options() redact.Options {
	o := redact.Options{Config: r.policy.Config(), TempDir: r.tmp}
	for text := range r.keep {
		o.Keep = append(o.Keep, text)
	}
	return o
}

// engine gives one that replaces.
func (r *ruleset) engine() *redact.Engine {
	o := r.options()
	o.Aliases, o.Matcher = r.table, r.matcher
	return redact.NewEngine(o)
}

// asIs says whether a file stays as it is, by the engineer's word.
func (r *ruleset) asIs(system, source, name string) bool {
	return r.policy.Stays(source) || r.policy.Stays(system+"/"+name)
}

// source says what is known of a piece. Packets are bound to the window like the lines of a log.
func (r *ruleset) source(x *piece) redact.Source {
	src := redact.Source{Name: x.Entry.Name, Unread: r.mayGoUnread(x), Opaque: x.Form == redact.Opaque}
	if it := r.ask.Item(x.Entry.Item); it != nil {
		if f, ok := it.Spec.(ask.Files); ok && f.Cut == "none" {
			return src
		}
	}
	src.Within = r.within[x.Round]
	return src
}

// aliases gives every identity its alias and writes the table down, before anything can be sent that uses it; and it proves that the
// rules take out what they should.
func (r *ruleset) aliases() error {
	table, err := r.loaded()
	if err != nil {
		return err
	}
	r.table = table
	var beside errgroup.Group
	var made []redact.Value
	var missed []string
	beside.Go(func() (err error) {
		made, missed, err = r.prover.Learn(r.options())
		return err
	})
	stays := func(v redact.Value) bool { _, ok := r.keep[v.Text]; return ok }
	all, first := r.learned.Everything()
	all, first = slices.DeleteFunc(all, stays), slices.DeleteFunc(first, stays)
	r.known = slices.DeleteFunc(r.learned.Values(), stays)
	if err := beside.Wait(); err != nil {
		return err
	}
	beside.Go(func() error { table.Give(first); return nil })
	r.matcher = redact.NewMatcher(slices.Concat(all, made))
	_ = beside.Wait()
	o := r.options()
	o.Aliases, o.Matcher = r.table, r.matcher
	if r.proof, err = r.prover.Check(o, missed); err != nil {
		return err
	}
	if len(r.proof.Missed) > 0 {
		return fault.New(fault.Refused, "prove the redaction", "", fmt.Sprintf("test secrets were removed in %d of %d notations: %s",
			r.proof.Caught, r.proof.Notations, strings.Join(r.proof.Missed[:min(len(r.proof.Missed), mostMissed)], "; ")),
			"the archive was not written; a rule of redaction.yaml may be in the way")
	}
	return saveTable(table, r.c.AliasFile())
}

// mostMissed bounds how many notations an error names.
const mostMissed = 8

func saveTable(t *redact.Table, file string) error {
	if !t.Changed() {
		return nil
	}
	data, err := t.Marshal()
	if err != nil {
		return err
	}
	return durable.WriteFile(file, data, 0o600)
}

// disclosedKinds counts what stays readable on purpose.
func (r *ruleset) disclosedKinds() map[string]int {
	kinds := map[string]int{}
	for _, class := range r.keep {
		kinds[string(class)]++
	}
	if n := len(r.policy.Disclosed) + len(r.policy.Never); n > 0 {
		kinds["listed by the engineer"] = n
	}
	return kinds
}

// weaker says what takes less out than the rules alone, without the values that it is about.
func (r *ruleset) weaker(e *redact.Engine) []string {
	bare := *r.policy
	bare.Never, bare.Disclosed = nil, nil
	var out []string
	for _, w := range bare.Weaker() {
		out = append(out, e.String(w))
	}
	return out
}
