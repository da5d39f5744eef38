package collect

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect/transfer"
	"envask/internal/durable"
	"envask/internal/late"
	"envask/internal/patience"
	"envask/internal/posix"
	"envask/internal/reach"
	"envask/internal/round"
)

// KindFolder and KindFile are the kinds of what is written on systems, in the ledger.
const (
	KindFolder = "folder" // a folder of ours, with our marker in it
	KindFile   = "file"   // a file that a command made for us
)

// Bounds of waiting for what a command makes.
const (
	firstPoll  = 200 * time.Millisecond
	lastPoll   = 5 * time.Second
	settleWait = 500 * time.Millisecond // a file whose size stays the same so long is whole
	settleMost = 30 * time.Second
)

// making is what is known about a command that makes files, kept in the round's folder: a run that was interrupted, or whose
// connection broke, goes on with it.
type making struct {
	Folder string `json:"folder"` // of ours on the system
	Change string `json:"change"` // its record in the ledger
	// Before are the files that were there already and match the patterns, with what tells them apart (see reach.Identities).
	Before map[string]string `json:"before"`
	Begun  time.Time         `json:"begun"`
	Line   string            `json:"line"` // the command, filled in
}

// maker is one item that makes files on one system.
type maker struct {
	*filesWork
	spec  ask.Run
	run   reach.Runner // of the item: with elevation where it says so
	plain reach.Runner
	state making
	file  progressFile // where the state is kept
	shown string       // the command as entries name it
}

// takeMakes lets a command of the system make files, and takes them.
func takeMakes(ctx context.Context, w *work, spec ask.Run) error {
	run, why := w.runner()
	command := spec.Commands[0]
	e := round.Entry{Source: command}
	line, err := w.fill(ctx, command, "{folder}")
	switch {
	case run == nil:
		e.State, e.Reason = round.Failed, why
	case err != nil:
		e.State, e.Reason = round.Failed, err.Error()
	case w.dryRun:
		e.State, e.Reason = dryMake(ctx, w, spec, run)
	case !w.budget.reserve(0):
		e.State, e.Reason = round.Skipped, w.budget.why()
	}
	if e.State != "" {
		w.add(e)
		return w.failure()
	}
	plain := w.target.(reach.Runner) // else there were no other either
	m := &maker{shown: line, filesWork: newFilesWork(w, ask.Files{Cut: spec.Cut, History: ask.AllHistory, Patterns: spec.Makes}),
		spec: spec, run: run, plain: plain,
		file: w.progressOf()}
	if _, ok := w.done.get(line); ok { // it ran, and what it made is here
		if err := w.done.each(func(e *round.Entry) error { w.add(*e); return nil }); err != nil {
			return &transfer.LocalError{Err: err}
		}
		if m.load() {
			return m.clean(ctx, 0)
		}
		return w.failure()
	}
	return m.make(ctx)
}

// dryMake says what would be done, and whether there is room for it.
func dryMake(ctx context.Context, w *work, spec ask.Run, run reach.Runner) (round.State, string) {
	if w.probing {
		if state, why := lookUp(ctx, run, spec.Commands[0]); state != round.Taken {
			return state, why
		}
		if _, free, err := baseFolder(ctx, run); err != nil {
			return round.Failed, transfer.Plain(err)
		} else if free < spec.Space {
			return round.Failed, fmt.Sprintf("only %s are free there, and it wants %s", bytesText(free), bytesText(spec.Space))
		}
	}
	return round.Taken, fmt.Sprintf("would run, at most %s, and take what it makes: %s", spec.Timeout, strings.Join(spec.Makes, ", "))
}

func (m *maker) load() bool {
	return m.file.load(&m.state) && m.state.Folder != ""
}

// make runs the command, or goes on with it, and takes what it makes.
func (m *maker) make(ctx context.Context) error {
	if !m.load() {
		if ok, err := m.begin(ctx); err != nil || !ok {
			return err
		}
	}
	durable.Point("before our folder is on record")
	if err := m.onRecord(); err != nil {
		return err
	}
	durable.Point("before a command is started")
	if err := m.start(ctx); err != nil {
		return err
	}
	durable.Point("after a command was started")
	e := round.Entry{Source: m.shown, Command: &round.Ran{Line: m.state.Line, Started: m.state.Begun, Exit: -1}}
	exit, err := m.wait(ctx)
	if err != nil {
		return err
	}
	e.Command.Exit, e.Command.Took = exit, time.Since(m.state.Begun).Round(time.Millisecond)
	files, err := m.results(ctx)
	if err != nil {
		return err
	}
	switch {
	case exit < 0:
		e.State, e.Reason = round.TimedOut, fmt.Sprintf("stopped after %s", m.spec.Timeout)
	case exit == 127 && len(files) == 0:
		e.State, e.Reason = round.Failed, "exit code 127, no such command"
	case exit == 126 && len(files) == 0:
		e.State, e.Reason = round.Failed, "exit code 126, the command cannot be executed"
	case len(files) == 0:
		e.State, e.Reason = round.Failed, fmt.Sprintf("no file matches %s (exit code %d)", strings.Join(m.spec.Makes, ", "), exit)
	case exit != 0:
		e.State, e.Reason = round.Taken, fmt.Sprintf("exit code %d", exit)
	default:
		e.State = round.Taken
	}
	m.report(Event{Kind: ItemSize, System: m.sys.Name, Item: m.item.ID, Files: len(files) + 1})
	left, err := m.takeAllOf(ctx, files)
	if err == nil {
		err = m.removeTaken(ctx)
	}
	if err != nil {
		return err
	}
	if left > 0 && e.State == round.Taken {
		e.State, e.Reason = round.Failed, "not every file it made could be taken"
	}
	if err := m.output(ctx, &e); err != nil {
		return err
	}
	m.add(e)
	if err := m.failure(); err != nil {
		return err
	}
	return m.clean(ctx, left)
}

// begin makes our folder and starts the command. ok is false when it cannot be; an entry says why.
func (m *maker) begin(ctx context.Context) (ok bool, err error) {
	refuse := func(s round.State, why string) (bool, error) {
		m.add(round.Entry{Source: m.spec.Commands[0], State: s, Reason: why})
		return false, m.failure()
	}
	base, free, err := baseFolder(ctx, m.plain)
	if err != nil {
		if gone := lostBy(m.target, err); gone != nil {
			return false, gone
		}
		return refuse(stateOf(err), transfer.Plain(err))
	}
	if free < m.spec.Space {
		return refuse(round.Failed, fmt.Sprintf("not run: only %s are free in %s, and it wants %s", bytesText(free),
			base, bytesText(m.spec.Space)))
	}
	id := make([]byte, 6)
	_, _ = rand.Read(id) // it never fails
	m.state = making{Folder: path.Join(base, "envask-"+hex.EncodeToString(id)), Before: map[string]string{}}
	if m.state.Line, err = m.fill(ctx, m.spec.Commands[0], m.state.Folder+"/made"); err != nil {
		return refuse(round.Failed, err.Error())
	}
	if err := m.before(ctx); err != nil {
		return false, err
	}
	m.state.Begun = time.Now().UTC().Truncate(time.Millisecond)
	return true, m.file.save(m.state) // before the ledger's record: who is killed between the two finds the record again by the folder
}

// onRecord makes sure that our folder stands in the ledger before it is made.
func (m *maker) onRecord() error {
	if m.state.Change != "" {
		return nil
	}
	change, err := m.changes.Begin(KindFolder, m.sys.Name, m.state.Folder)
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	m.state.Change = change.ID
	return m.file.save(m.state)
}

// start starts the command apart from the connection: that may break, and the command goes on. One that was started already, by
// a run that did not come further, is left as it is.
func (m *maker) start(ctx context.Context) error {
	line := m.state.Line
	if m.item.Elevated && (m.sys.Elevate != "" || !m.item.ElevatedIfGiven) {
		line = m.sys.Elevation() + " sh -c " + posix.Word(line)
	}
	_, err := shellText(ctx, m.plain, startInFolder(m.state.Folder, line))
	if err != nil {
		if gone := lostBy(m.target, err); gone != nil {
			return gone
		}
		return fmt.Errorf("make a folder of ours: %w", err)
	}
	return nil
}

// shellText runs a script and gives what it prints; an exit code other than 0 is an error.
func shellText(ctx context.Context, run reach.Runner, script string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	out, errOut := transfer.Head{Room: 1 << 20}, transfer.Head{Room: 64 << 10}
	exit, err := run.Run(ctx, posix.Shell(script), &out, &errOut)
	if err == nil && exit != 0 {
		err = fmt.Errorf("exit code %d: %s", exit, firstLine(errOut.String()))
	}
	return out.String(), err
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n")
	return s[:min(len(s), 200)]
}

var dfLine = late.Pattern(`(?m)^\S.*\s(\d+)\s+(\d+)\s+(-?\d+)\s+\d+%\s+(/.*)$`)

// baseFolder finds a folder on the system in which ours can be made, and how many bytes are free there.
func baseFolder(ctx context.Context, run reach.Runner) (dir string, free int64, err error) {
	out, err := shellText(ctx, run, `for d in "$TMPDIR" /var/tmp /tmp; do
if [ -n "$d" ] && [ -d "$d" ] && [ -w "$d" ]; then echo "in $d"; df -Pk "$d" 2>/dev/null || df -k "$d"; exit 0; fi
done
echo 'neither /var/tmp nor /tmp can be written to' >&2; exit 1`)
	if err != nil {
		return "", 0, err
	}
	first, rest, _ := strings.Cut(out, "\n")
	dir, ok := strings.CutPrefix(first, "in /")
	if !ok {
		return "", 0, errors.New("the system does not tell where a folder can be made")
	}
	free = 1 << 62 // where df cannot be read the command itself will tell
	if f := dfLine().FindStringSubmatch(rest); f != nil {
		if n, err := strconv.ParseInt(f[3], 10, 64); err == nil {
			free = n << 10
		}
	}
	return "/" + dir, free, nil
}

// wait waits until the command is over and gives its exit code; -1 when it was stopped because it took too long.
func (m *maker) wait(ctx context.Context) (int, error) {
	f := posix.Word(m.state.Folder)
	script := "cd " + f + "/ours && if [ -f exit ]; then cat exit; elif [ ! -f pid ] || kill -0 $(cat pid) 2>/dev/null; then echo " +
		"running; else sleep 1; if [ -f exit ]; then cat exit; " +
		"elif kill -0 $(cat pid) 2>/dev/null; then echo running; else echo gone; fi; fi"
	for pause, failed := firstPoll, 0; ; pause = min(pause*3/2, lastPoll) {
		out, err := shellText(ctx, m.run, script)
		text := strings.TrimSpace(out)
		exit, notNumber := strconv.Atoi(text)
		switch {
		case ctx.Err() != nil:
			return 0, ctx.Err()
		case err == nil && notNumber == nil:
			return exit, nil
		case err == nil && text == "gone":
			return 137, nil // it was killed, or the system was restarted
		case err != nil:
			if gone := lostBy(m.target, err); gone != nil {
				return 0, gone
			}
			if failed++; failed > 3 {
				return 0, fmt.Errorf("ask whether the command is over: %w", err)
			}
		}
		if took := time.Since(m.state.Begun); took > m.spec.Timeout {
			_, _ = shellText(ctx, m.run, "p=$(cat "+f+"/ours/pid) && { kill -KILL -- -$p || kill -KILL $p; } 2>/dev/null")
			return -1, nil
		} else {
			m.report(Event{Kind: Waiting, System: m.sys.Name, Item: m.item.ID, Took: took})
		}
		if err := patience.Wait(ctx, pause); err != nil {
			return 0, err
		}
	}
}

// metaChars have a meaning in patterns.
var metaChars = late.Pattern(`[*?\[{]`)

// placed gives a pattern of makes as it is on the system.
func (m *maker) placed(p string) string {
	if rest, ok := strings.CutPrefix(p, "{folder}/"); ok {
		p = metaChars().ReplaceAllString(m.state.Folder, "[$0]") + "/made/" + rest // its name is no pattern
	}
	return m.at(p)
}

// expand finds what the patterns of makes match now.
func (m *maker) expand(ctx context.Context, each func(match)) error {
	var last error
	x := &expander{ctx: ctx, fsys: m.target.FS(), seen: map[string]bool{},
		found:   func(name string, info fs.FileInfo) { each(match{name: name, info: info}) },
		problem: func(_ string, err error) { last = err }}
	for _, p := range m.spec.Makes {
		if err := x.expand(m.placed(p)); err != nil {
			return err
		}
	}
	return lostBy(m.target, last)
}

var sumLine = late.Pattern(`(?m)^\\?([0-9a-f]{64})\b`)

// compare compares what arrived with the checksum on the system, where that can make one.
func (m *maker) compare(ctx context.Context, x match, e *round.Entry) {
	out, err := shellText(ctx, m.run, "command -v sha256sum >/dev/null || exit 9; sha256sum "+posix.Word(reach.Path(x.name)))
	sum := sumLine().FindStringSubmatch(out)
	switch {
	case err != nil || sum == nil:
		e.Reason = round.Join(e.Reason, "the system cannot compute a checksum to compare with")
	case sum[1] != e.SHA256:
		e.State, e.Reason = round.Failed, "checksum differs from the one on the system"
	default:
		e.Reason = round.Join(e.Reason, "SHA-256 verified against the system")
	}
}

// output keeps what the command printed.
func (m *maker) output(ctx context.Context, e *round.Entry) error {
	var outputs [2]*transfer.Tail
	for i, name := range []string{"out", "err"} {
		t, err := transfer.NewTail(m.round.PartDir(), m.spec.Max)
		if err != nil {
			return err
		}
		defer t.Remove()
		outputs[i] = t
		f, err := reach.OpenResolved(m.target.FS(), reach.Name(m.state.Folder+"/ours/"+name))
		if err != nil {
			continue
		}
		_, err = io.Copy(t, f)
		f.Close()
		if transfer.IsOurs(err) {
			return err
		}
		if gone := lostBy(m.target, err); err != nil && gone != nil {
			return gone
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return writeOutput(m.work, "commands/"+m.item.ID+".txt", outputs, e.Command, e)
}

// clean removes our folder, unless something in it could not be taken.
func (m *maker) clean(ctx context.Context, left int) error {
	f := posix.Word(m.state.Folder)
	switch {
	case left > 0:
		m.add(round.Entry{Source: m.state.Folder, State: round.Skipped, Special: true,
			Reason: "left on the system, since not all of it could be taken; envask tidy removes it"})
		return m.failure()
	case m.spec.Keep && m.insideOnly():
		if err := m.changes.Done(m.state.Change, "kept, as the ask says"); err != nil {
			return &transfer.LocalError{Err: err}
		}
		return m.file.forget()
	}
	durable.Point("before our folder is removed")
	if _, err := shellText(ctx, m.run, RemoveFolder(m.state.Folder)); err != nil {
		if gone := lostBy(m.target, err); gone != nil {
			return gone
		}
		m.add(round.Entry{Source: m.state.Folder, State: round.Skipped, Special: true,
			Reason: "could not be removed from the system (" + transfer.Plain(err) + "); envask tidy tries again: " + f})
		return m.failure()
	}
	durable.Point("after our folder was removed")
	if err := m.changes.Done(m.state.Change, "removed"); err != nil {
		return &transfer.LocalError{Err: err}
	}
	return m.file.forget()
}

// insideOnly says whether all that is made stands in our folder.
func (m *maker) insideOnly() bool {
	for _, p := range m.spec.Makes {
		if strings.HasPrefix(p, "{folder}/") {
			return true
		}
	}
	return false
}

// Making gives the ledger's numbers of what the collection would go on with: folders of ours in which a command works.
func (c *Collector) Making(of *casefile.Case) (map[string]bool, error) {
	out := map[string]bool{}
	rounds, err := round.List(of)
	if err != nil || len(rounds) == 0 || !c.goesOn(rounds[len(rounds)-1]) {
		return out, err
	}
	files, err := filepath.Glob(filepath.Join(rounds[len(rounds)-1].Dir(), progressFolder, "*.json"))
	for _, f := range files {
		var m making
		if progressFile(f).load(&m) {
			out[m.Change] = true
		}
	}
	return out, err
}
