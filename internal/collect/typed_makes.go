package collect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/device"
	"envask/internal/durable"
	"envask/internal/patience"
	"envask/internal/reach"
	"envask/internal/round"
)

// typedMaker is an item that makes files on a device.
type typedMaker struct {
	*work
	spec   ask.Run
	typist reach.Typist
	before map[string]bool // files that were there already
	file   progressFile    // where that is kept, for a run that goes on
}

// deviceFile is a file as a device lists it.
type deviceFile struct {
	path string
	size int64
	name string // as it stands in the listing; "" over SFTP
}

// takeTypedMakes types a command that makes files, and takes them: over SFTP, or by the protocol of scp. What it made is what was not there
// before.
func takeTypedMakes(ctx context.Context, w *work, spec ask.Run, typist reach.Typist) error {
	e := round.Entry{Source: spec.Commands[0]}
	line, err := w.fill(ctx, spec.Commands[0], "")
	for _, p := range spec.Makes {
		if strings.HasPrefix(p, "{folder}/") && err == nil {
			err = errors.New("makes: a device has no folder of ours")
		}
	}
	switch {
	case err != nil:
		e.State, e.Reason = round.Failed, err.Error()
	case w.dryRun:
		e.State, e.Reason = round.Taken, fmt.Sprintf("would be typed, and what it makes would be taken: %s", strings.Join(spec.Makes, ", "))
	case !w.budget.reserve(0):
		e.State, e.Reason = round.Skipped, w.budget.why()
	}
	if e.State != "" {
		w.add(e)
		return w.failure()
	}
	e.Source = line
	m := &typedMaker{work: w, spec: spec, typist: typist, before: map[string]bool{},
		file: w.progressOf()}
	if had, ok := w.done.get(line); ok {
		w.add(had)
	} else if err := m.make(ctx, &e); err != nil {
		return err
	}
	if e.State == round.Failed || e.State == round.TimedOut {
		return m.end()
	}
	if err := m.takeAll(ctx); err != nil {
		return err
	}
	return m.end()
}

// make types the command, after what is there already was written down.
func (m *typedMaker) make(ctx context.Context, e *round.Entry) error {
	if err := m.remember(ctx); err != nil {
		if gone := lostBy(m.target, err); gone != nil || transfer.IsOurs(err) {
			return err
		}
		e.State, e.Reason = round.Failed, "not typed, since its files cannot be listed: "+transfer.Plain(err)
		m.add(*e)
		return m.failure()
	}
	x, err := m.typeCommand(ctx, m.spec, m.typist, e.Source)
	if x != nil {
		defer x.remove()
	}
	if err != nil {
		return err
	}
	e.Command, e.State, e.Reason = x.ran, x.state, x.reason
	if err := writeOutput(m.work, "commands/"+m.item.ID+".txt", x.outputs, x.ran, e); err != nil {
		return err
	}
	if err := m.goneWith(x, e); err != nil {
		return err
	}
	m.add(*e)
	return m.failure()
}

// remember writes down which files are there. A run that goes on has it already.
func (m *typedMaker) remember(ctx context.Context) error {
	if m.load() {
		return nil
	}
	there, err := m.list(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, f := range there {
		m.before[f.path] = true
		names = append(names, f.path)
	}
	return m.file.save(names)
}

func (m *typedMaker) load() bool {
	var names []string
	if !m.file.load(&names) {
		return false
	}
	for _, n := range names {
		m.before[n] = true
	}
	return true
}

func (m *typedMaker) end() error {
	if err := m.file.forget(); err != nil {
		return err
	}
	return m.failure()
}

// mostListed bounds how many files a listing may name.
const mostListed = 100_000

// list lists the files that the patterns of makes match: by the command that the ask names, else over SFTP.
func (m *typedMaker) list(ctx context.Context) ([]deviceFile, error) {
	var out []deviceFile
	if m.spec.List == nil {
		var last error
		x := &expander{ctx: ctx, fsys: m.target.FS(), seen: map[string]bool{}, problem: func(_ string, err error) { last = err },
			found: func(name string, info fs.FileInfo) {
				out = append(out, deviceFile{path: reach.Path(name), size: info.Size()})
			}}
		for _, p := range m.spec.Makes {
			if err := x.expand(p); err != nil {
				return nil, err
			}
		}
		if len(out) == 0 && last != nil && !notThere(last) {
			return nil, last
		}
		return out, nil
	}
	text, err := perform(ctx, m.target, device.Step{Type: m.spec.List.Type}, nil)
	if err != nil {
		return nil, err
	}
	like := m.spec.List.Like
	for _, f := range like.FindAllStringSubmatch(text, mostListed) {
		name := f[like.SubexpIndex("name")]
		size, err := strconv.ParseInt(strings.ReplaceAll(f[like.SubexpIndex("size")], ",", ""), 10, 64)
		if p := m.matching(name); p != "" && err == nil {
			out = append(out, deviceFile{p, size, name})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].path < out[j].path })
	return out, nil
}

// matching gives the whole path of a listed name that one of the patterns matches; "" for others.
func (m *typedMaker) matching(name string) string {
	for _, p := range m.spec.Makes {
		full := name
		if !strings.HasPrefix(name, "/") {
			full = path.Join(path.Dir(p), name)
		}
		if full == path.Clean(full) && doublestar.MatchUnvalidated(p, full) {
			return full
		}
	}
	return ""
}

// takeAll takes what is there now and was not before, once the sizes stay the same.
func (m *typedMaker) takeAll(ctx context.Context) error {
	if len(m.before) == 0 {
		m.load()
	}
	files, err := m.settled(ctx)
	if err != nil {
		if gone := lostBy(m.target, err); gone != nil || ctx.Err() != nil {
			return errors.Join(ctx.Err(), gone)
		}
		m.add(round.Entry{Source: strings.Join(m.spec.Makes, ", "), State: stateOf(err),
			Reason: "what it made cannot be listed: " + transfer.Plain(err)})
		return m.failure()
	}
	if len(files) == 0 {
		m.add(round.Entry{Source: strings.Join(m.spec.Makes, ", "), State: round.Failed, Reason: "no file matches"})
	}
	m.report(Event{Kind: ItemSize, System: m.sys.Name, Item: m.item.ID, Files: len(files) + 1})
	for _, f := range files {
		e, err := m.takeFile(ctx, f)
		if err != nil {
			return err
		}
		m.add(e)
		if err := m.failure(); err != nil {
			return err
		}
		if e.State == round.Taken {
			if err := m.removeThere(ctx, f); err != nil {
				return err
			}
		}
	}
	return nil
}

func (m *typedMaker) settled(ctx context.Context) ([]deviceFile, error) {
	var was []deviceFile
	for end := time.Now().Add(settleMost); ; {
		all, err := m.list(ctx)
		if err != nil {
			return nil, err
		}
		var now []deviceFile
		for _, f := range all {
			if !m.before[f.path] {
				now = append(now, f)
			}
		}
		same := len(now) == len(was) && len(now) > 0
		for i := range now {
			same = same && now[i] == was[i]
		}
		if same || time.Now().After(end) || len(now) == 0 && was != nil {
			return now, nil
		}
		if was = now; was == nil {
			was = []deviceFile{}
		}
		if err := patience.Wait(ctx, settleWait); err != nil {
			return nil, err
		}
	}
}

// takeFile takes one file. Its size must be the one that the device listed.
func (m *typedMaker) takeFile(ctx context.Context, f deviceFile) (round.Entry, error) {
	e := round.Entry{Source: source(reach.Name(f.path)), Size: f.size, State: round.Taken}
	if had, ok := m.done.get(e.Source); ok {
		return had, nil
	}
	if !m.budget.reserve(f.size) {
		e.State, e.Reason = round.Skipped, m.budget.why()
		return e, nil
	}
	content, how, err := m.fetch(ctx, f)
	if err != nil {
		if gone := lostBy(m.target, err); gone != nil || ctx.Err() != nil {
			return e, errors.Join(ctx.Err(), gone)
		}
		e.State, e.Reason = stateOf(err), transfer.Plain(err)
		return e, nil
	}
	defer content.Close()
	part := m.part()
	defer os.Remove(part) // fails harmlessly after the rename
	var broke error
	n, sum, err := writePart(part, func(out io.Writer) error {
		var copied int64
		copied, broke = io.Copy(out, &counted{r: io.LimitReader(content, f.size+1), count: m.count})
		if transfer.IsOurs(broke) {
			return broke
		}
		if broke == nil && copied != f.size {
			broke = fmt.Errorf("%d bytes came, and the device lists %d", copied, f.size)
		}
		return nil
	})
	switch {
	case err != nil:
		return e, err
	case ctx.Err() != nil:
		return e, ctx.Err()
	case broke != nil:
		if gone := lostBy(m.target, broke); gone != nil {
			return e, gone
		}
		e.State, e.Reason = round.Failed, transfer.Plain(broke)
		return e, nil
	}
	m.budget.spend(n)
	e.Bytes, e.SHA256, e.ModTime, e.Reason = n, sum, time.Now().UTC().Truncate(time.Second), how
	return e, m.settlePlace(part, shortTarget("files/"+SafePath(reach.Name(f.path))), &e)
}

// fetch opens a file: over SFTP, where the device serves that, else by the protocol of scp.
func (m *typedMaker) fetch(ctx context.Context, f deviceFile) (io.ReadCloser, string, error) {
	file, err := reach.OpenResolved(m.target.FS(), reach.Name(f.path))
	if err == nil {
		return file, "made by the command, over SFTP", nil
	}
	if fetcher, ok := m.target.(reach.Fetcher); ok {
		content, _, e := fetcher.Fetch(ctx, f.path)
		if e == nil {
			return content, "made by the command, by the protocol of scp", nil
		}
		err = e
	}
	return nil, "", err
}

// removeThere removes what was taken from the device, by the command that the ask names. It stands in the ledger first.
func (m *typedMaker) removeThere(ctx context.Context, f deviceFile) error {
	if m.spec.RemoveBy == nil {
		return nil
	}
	step := *m.spec.RemoveBy
	name, err := reach.Word(ctx, m.target, f.path)
	if strings.HasPrefix(f.path, "/") { // a word begins with a letter or a digit
		name, err = reach.Word(ctx, m.target, f.path[1:])
		name = "/" + name
	}
	if err != nil {
		m.add(round.Entry{Source: "remove " + source(reach.Name(f.path)), State: round.Skipped, Special: true, Reason: err.Error()})
		return m.failure()
	}
	step.Type = strings.ReplaceAll(step.Type, "{file}", name)
	change, err := m.changes.BeginSteps(m.sys.Name, m.item.ID+" "+f.path, []device.Undo{{Step: step, Restored: m.gone(f)}})
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	durable.Point("before a file on a device is removed")
	if err := m.removed(ctx, f, change.Do); err != nil {
		if gone := lostBy(m.target, err); gone != nil || ctx.Err() != nil {
			return errors.Join(ctx.Err(), gone)
		}
		m.add(round.Entry{Source: "remove " + source(reach.Name(f.path)), State: round.Skipped, Special: true,
			Reason: "not removed from the device (" + transfer.Plain(err) + "); envask tidy tries again"})
		return m.failure()
	}
	if err := m.changes.Done(change.ID, "removed"); err != nil {
		return &transfer.LocalError{Err: err}
	}
	return nil
}

// gone is how it is seen that a file was removed: the listing does not name it any more.
func (m *typedMaker) gone(f deviceFile) *device.Restored {
	if m.spec.List == nil {
		return nil
	}
	named := `(?m)(^|[^\w./-])` + regexp.QuoteMeta(f.name) + `([^\w./-]|$)`
	return &device.Restored{Type: m.spec.List.Type, Unlike: regexp.MustCompile(named)}
}

// removed removes a file, and makes sure that it is gone.
func (m *typedMaker) removed(ctx context.Context, f deviceFile, do []device.Undo) error {
	if err := PutBack(ctx, m.target, do); err != nil || m.spec.List != nil {
		return err
	}
	switch _, err := m.target.FS().Lstat(reach.Name(f.path)); {
	case err == nil:
		return errors.New("it is still there")
	case notThere(err):
		return nil
	default:
		return err
	}
}

// counted counts what is read.
type counted struct {
	r     io.Reader
	count func(int64)
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.count(int64(n))
	return n, err
}
