package flow

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/policy"
	"envask/internal/redact"
)

// RedactRequest is what to redact outside of a case's archive.
type RedactRequest struct {
	Case    *casefile.Case // whose aliases to use; nil: a table for this run
	Table   string         // file of a table of aliases, made when it is not there; not together with Case
	Files   []string
	Domains []string // host names under these are removed too
	Dir     string   // folder that receives the files under their given paths; "" writes to Out
	In      io.Reader
	Out     io.Writer
}

// Redacted is what came of it.
type Redacted struct {
	Counts  redact.Counts
	Opaque  []string          // files that cannot be read, and were not written
	targets map[string]string // names that were written, and of which input
	Notes   []string
}

// Redact redacts files, or a stream. Files are read twice, so that what is learned in one is removed from all, and so is a short stream;
// a longer one is read once.
func (a *App) Redact(ctx context.Context, q RedactRequest) (*Redacted, error) {
	defer calm()() // the few collections of garbage would take 3 % of the time
	if q.Case != nil {
		w, err := a.write(q.Case)
		if err != nil {
			return nil, err
		}
		defer w.Close()
	}
	r, err := a.redaction(ctx, q)
	if err != nil {
		return nil, err
	}
	if len(q.Files) > 0 || q.In != nil {
		// Where the home cannot be written to, members of containers that are too long for memory cannot be read.
		if tmp, done, err := a.Home.Temp(); err == nil {
			defer done()
			r.tmp = tmp
		}
	}
	res := &Redacted{Counts: redact.Counts{}}
	err = r.all(ctx, q, res)
	if err == nil && r.file != "" {
		err = saveTable(r.table, r.file)
	}
	if err == nil && len(res.Opaque) > 0 {
		err = fault.New(fault.Incomplete, "redact", strings.Join(res.Opaque, ", "), "cannot be read (opaque), and was not written",
			"what cannot be read cannot be redacted")
	}
	return res, err
}

// redaction is what is known before anything is read.
type redaction struct {
	policy  *policy.Policy
	file    string // of the table, "" is none
	table   *redact.Table
	keep    []string // disclosed on purpose
	learned *redact.Learned
	tmp     string // folder for temporary files
}

func (a *App) redaction(ctx context.Context, q RedactRequest) (r *redaction, err error) {
	r = &redaction{file: q.Table, table: redact.NewTable(), learned: redact.NewLearned()}
	if q.Case != nil {
		r.file = q.Case.AliasFile()
	}
	if r.file != "" {
		if r.table, err = redact.LoadTable(r.file); err != nil {
			return nil, fault.Wrap("read the aliases", "", err)
		}
	}
	if q.Case != nil {
		if err := a.ofCase(ctx, r, q); err != nil {
			return nil, err
		}
	} else if r.policy, err = loadPolicy(filepath.Join(a.Home.Dir, policy.FileName)); err != nil {
		return nil, err
	} else {
		own, _ := a.ownSecrets(nil)
		r.learned.Add(own...)
		r.policy = policy.Merge(r.policy, &policy.Policy{Domains: q.Domains})
	}
	for _, l := range r.policy.Literals {
		r.learned.Add(l)
	}
	r.learned.AddOthers(r.policy.Config().Identities(r.table)...)
	return r, nil
}

// ofCase redacts as packing does: by what the ask, the engineer and the site say, and with all that the case has learned.
func (a *App) ofCase(ctx context.Context, r *redaction, q RedactRequest) error {
	k, err := a.approvedAsk(q.Case)
	if err != nil {
		return err
	}
	if r.policy, err = a.policy(q.Case, k, nil); err != nil {
		return err
	}
	said := vocabulary(q.Case, k)
	r.learned = redact.NewLearned(said...)
	if err := a.addOwnSecrets(q.Case, r.learned, said); err != nil {
		return err
	}
	if err := remember(ctx, q.Case, nil, r.policy.Digest(), r.learned); err != nil {
		return fault.Wrap("read the rounds", q.Case.Name, err)
	}
	if len(q.Domains) > 0 {
		r.policy = policy.Merge(r.policy, &policy.Policy{Domains: q.Domains})
	}
	for text := range disclosed(k, q.Case.Brief, redact.Options{Config: r.policy.Config()}) {
		r.keep = append(r.keep, text)
	}
	return nil
}

func (r *redaction) all(ctx context.Context, q RedactRequest, res *Redacted) error {
	o := redact.Options{TempDir: r.tmp, Aliases: r.table, Config: r.policy.Config(), Keep: r.keep}
	learned, table := r.learned, r.table
	if len(q.Files) == 0 {
		return r.stream(ctx, q, o, res)
	}
	o.Aliases, o.Learned = nil, learned
	learner := redact.NewEngine(o)
	if q.Dir != "" {
		for _, name := range q.Files {
			if _, err := below(q.Dir, filepath.ToSlash(name)); err != nil {
				return fault.Wrap("redact", name, err)
			}
		}
	}
	var readable []string
	for _, name := range q.Files {
		var seen redact.Result
		if err := withFile(ctx, name, func(r io.Reader) (err error) {
			seen,
				err = learner.File(nil, r, redact.Source{Name: name})
			return err
		}); err != nil {
			return fault.Wrap("redact", name, err)
		}
		if seen.Unreadable() {
			res.add(name, redact.Result{Form: seen.Form, Inner: seen.Inner, Note: seen.Note})
			continue
		}
		learned.AddCommon(redact.PathWords(name)...)
		readable = append(readable, name)
	}
	o.Aliases, o.Learned, o.Matcher = table, nil, matcherOf(learned, table)
	engine := redact.NewEngine(o)
	for _, name := range readable {
		if err := redactOne(ctx, q, engine, name, res); err != nil {
			return fault.Wrap("redact", name, err)
		}
	}
	return nil
}

// matcherOf gives what finds all that was learned and what follows from it, and gives the identities of it their aliases.
func matcherOf(learned *redact.Learned, table *redact.Table) *redact.Matcher {
	all, first := learned.Everything()
	table.Give(first)
	return redact.NewMatcher(all)
}

// shortInput is up to how many bytes of standard input are read twice, as files are: they fit in memory.
const shortInput = 1 << 20

// stream redacts standard input. A short one is learned from first, as a file is; of a longer one nothing can be read again.
func (r *redaction) stream(ctx context.Context, q RedactRequest, o redact.Options, res *Redacted) error {
	const name = "standard input"
	in := durable.Until(ctx, q.In)
	begin := make([]byte, shortInput+1)
	n, err := io.ReadFull(in, begin)
	begin = begin[:n]
	short := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
	if err != nil && !short {
		return fault.Wrap("redact", name, err)
	}
	if short {
		o.Aliases, o.Learned = nil, r.learned
		seen, err := redact.NewEngine(o).File(nil, bytes.NewReader(begin), redact.Source{})
		if err != nil {
			return fault.Wrap("redact", name, err)
		}
		if seen.Unreadable() {
			res.add(name, redact.Result{Form: seen.Form, Inner: seen.Inner, Note: seen.Note})
			return nil
		}
		in = bytes.NewReader(begin)
	} else {
		in = io.MultiReader(bytes.NewReader(begin), in)
	}
	o.Aliases, o.Learned, o.Matcher = r.table, nil, matcherOf(r.learned, r.table)
	got, err := redact.NewEngine(o).File(q.Out, in, redact.Source{Once: !short})
	if err != nil {
		return fault.Wrap("redact", name, err)
	}
	if !short && got.Unreadable() && len(got.Counts) > 0 {
		return fault.New(fault.Incomplete, "redact", name, "is binary, though it begins like text: what was written may be damaged",
			"give it as a file: that is looked at before anything is written")
	}
	res.add(name, got)
	return nil
}

func (res *Redacted) add(name string, r redact.Result) {
	res.Counts.Add(r.Counts)
	if r.Unreadable() {
		res.Opaque = append(res.Opaque, name)
	}
	for _, u := range r.Unread {
		res.Opaque = append(res.Opaque, name+": "+u)
	}
	if r.Note != "" {
		res.Notes = append(res.Notes, name+": "+r.Note)
	}
}

// freeTarget gives the name under which a file is written: two inputs never take one name, also where a disk ignores case.
func (res *Redacted) freeTarget(target, of string) string {
	if res.targets == nil {
		res.targets = map[string]string{}
	}
	free := target
	for n := 2; ; n++ {
		was, taken := res.targets[strings.ToLower(free)]
		if !taken || was == filepath.Clean(of) {
			break
		}
		free = fmt.Sprintf("%s~%d", target, n)
	}
	if free != target {
		res.Notes = append(res.Notes, fmt.Sprintf("%s: written as %s, since %s is the output of another file", of, free, target))
	}
	res.targets[strings.ToLower(free)] = filepath.Clean(of)
	return free
}

func withFile(ctx context.Context, name string, use func(io.Reader) error) error {
	f, err := durable.OpenRegular(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return use(durable.Until(ctx, f))
}

func redactOne(ctx context.Context, q RedactRequest, e *redact.Engine, name string, res *Redacted) error {
	if q.Dir == "" {
		return withFile(ctx, name, func(r io.Reader) error {
			got, err := e.File(q.Out, r, redact.Source{Name: name})
			res.add(name, got)
			return err
		})
	}
	target, err := below(q.Dir, e.String(filepath.ToSlash(name)))
	if err != nil {
		return err
	}
	target = res.freeTarget(target, name)
	if err := os.MkdirAll(filepath.Dir(target), 0o750); err != nil {
		return err
	}
	out, err := os.CreateTemp(filepath.Dir(target), ".redacting-*")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name()) // fails harmlessly after the rename
	var got redact.Result
	err = withFile(ctx, name, func(r io.Reader) error { got, err = e.File(out, r, redact.Source{Name: name}); return err })
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return err
	}
	res.add(name, got)
	if got.Unreadable() {
		return nil
	}
	return os.Rename(out.Name(), target)
}

// below puts a given path below a folder. A path that leads out of it is refused.
func below(dir, name string) (string, error) {
	name = strings.TrimPrefix(filepath.ToSlash(filepath.Clean(name)), "/")
	if len(name) > 1 && name[1] == ':' {
		name = name[:1] + name[2:]
	}
	if name == ".." || strings.HasPrefix(name, "../") {
		return "", fmt.Errorf("its path leads out of the folder %s; give it from where it is", dir)
	}
	return filepath.Join(dir, filepath.FromSlash(strings.ReplaceAll(name, ":", "-"))), nil
}
