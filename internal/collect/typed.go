package collect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/device"
	"envask/internal/late"
	"envask/internal/posix"
	"envask/internal/reach"
	"envask/internal/round"
)

// sessionTries is how often a command is typed when the conversation ends in its middle.
const sessionTries = 2

// typeCommand types a command on a device. Where the conversation ends in the middle it is begun again, once, and the answer comes anew.
func (w *work) typeCommand(ctx context.Context, spec ask.Run, typist reach.Typist, command string) (x *executed, err error) {
	session, raw, err := w.session()
	if err != nil {
		return nil, err
	}
	defer raw.Close()
	anew := ""
	for try := 1; ; try++ {
		if x != nil {
			x.remove()
		}
		typing, cancel := context.WithCancel(ctx)
		x = &executed{}
		if x.outputs, err = w.tails(spec, cancel); err != nil {
			cancel()
			return x, err
		}
		begun := time.Now()
		x.ran = &round.Ran{Line: command, Started: begun.UTC().Truncate(time.Millisecond), Typed: true, Session: session}
		w.report(Event{Kind: Waiting, System: w.sys.Name, Item: w.item.ID})
		a, err := typist.Type(typing, reach.Typing{Step: device.Step{Type: command, Timeout: spec.Timeout}, Answers: spec.Answers,
			Most: spec.Most, Out: x.outputs[0], Raw: raw, Hide: w.hide})
		cancel()
		x.ran.Exit, x.ran.Prompt, x.ran.Took = a.Exit, a.Prompt, time.Since(begun).Round(time.Millisecond)
		if a.Exit >= 0 {
			x.ran.Typed, x.ran.Prompt = false, ""
		}
		if ctx.Err() != nil {
			return x, ctx.Err()
		}
		if err := w.failure(); err != nil {
			return x, err
		}
		if x.err = err; errors.Is(err, reach.ErrLost) && lost(w.target) == nil && try < sessionTries {
			anew = fmt.Sprintf("the session ended after %s of the answer (%s); it was begun again, and the answer is from its beginning",
				humanize.IBytes(uint64(max(a.Bytes, 0))), transfer.Plain(err))
			continue
		}
		if err := raw.err; err != nil {
			return x, transfer.Ours(err)
		}
		how := commandAnswer{outputs: x.outputs, exit: max(a.Exit, 0), err: err, timeout: spec.Timeout, fine: spec.Fine,
			required: w.item.Required, typed: true, device: typist.Description()}
		x.state, x.reason = how.judge()
		x.reason = round.Join(anew, x.reason)
		return x, nil
	}
}

// rawSession is where the session of an item is kept as it came. It is beside the evidence for doubt, and is never packed.
type rawSession struct {
	f   *os.File
	err error // the first of writing
}

func (r *rawSession) Write(b []byte) (int, error) {
	if _, err := r.f.Write(b); err != nil && r.err == nil {
		r.err = err
	}
	return len(b), nil
}

func (r *rawSession) Close() error { return r.f.Close() }

// SessionFolder is where sessions with devices are kept as they came, below a system's folder.
const SessionFolder = "sessions"

// session opens the file for the raw session of the item.
func (w *work) session() (name string, raw *rawSession, err error) {
	name = SessionFolder + "/" + w.item.ID + ".txt"
	file := w.final(name)
	if err := os.MkdirAll(strings.TrimSuffix(file, w.item.ID+".txt"), 0o700); err != nil {
		return "", nil, transfer.Ours(err)
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return "", nil, transfer.Ours(err)
	}
	return name, &rawSession{f: f}, nil
}

// deviceRefusals are lines with which command lines of devices refuse a command, besides those of shells. Only short answers are held
// against them.
var deviceRefusals = late.Pattern(`(?i)^\W*((error|fail(ed|ure)?)\b\W*)?(permission denied|access denied|` +
	`not (authori[sz]ed|permitted|supported)|(the )?(command|feature|operation|option) (is )?(not |un)(supported|available|allowed|` +
	`permitted|known)|un(known|recogni[sz]ed|supported) (command|keyword|option|action|word|input)|syntax error|` +
	`invalid (command|input|keyword|argument|word)|(incomplete|ambiguous|bad) command)\b`)

// refusedBy gives the line with which a device refused a command; "" is an answer.
func refusedBy(d *device.Description, text string, short bool) string {
	for i, l := range strings.Split(text, "\n") {
		l = strings.TrimSpace(l)
		if l != "" && (d.Refused(l) || short && i < refusalLines && deviceRefusals().MatchString(l)) {
			return l
		}
	}
	return ""
}

// stepTimeout bounds a step that runs in a shell, unless it says otherwise.
const stepTimeout = time.Minute

// stepAnswer is how much of the output of a step is looked at, in bytes.
const stepAnswer = 1 << 20

// perform does one step on a system: it is typed where that has a command line, and run in the shell elsewhere. text is what it printed.
func perform(ctx context.Context, target reach.System, step device.Step, raw io.Writer) (text string, err error) {
	out := &stepText{Head: transfer.Head{Room: stepAnswer}}
	if typist, ok := target.(reach.Typist); ok {
		_, err = typist.Type(ctx, reach.Typing{Step: step, Out: out, Raw: raw, Talk: raw != nil})
		text = out.String()
		if why := refusedBy(typist.Description(), text[:min(len(text), refusalBytes)], len(text) < refusalBytes); err == nil && why != "" {
			err = fmt.Errorf("the device refused it: %s", why)
		}
	} else {
		text, err = performInShell(ctx, target, step, out)
	}
	if err == nil && step.Expect != nil && !step.Expect.MatchString(text) {
		err = errors.New(withText(fmt.Sprintf("its output is not like %s", step.Expect), firstLine(text)))
	}
	return text, err
}

func performInShell(ctx context.Context, target reach.System, step device.Step, out *stepText) (string, error) {
	run, ok := target.(reach.Runner)
	switch {
	case !ok:
		return "", errors.New("this system cannot run commands")
	case len(step.Answers) > 0:
		return "", errors.New("answers: are for devices with a command line")
	}
	timeout := step.Timeout
	if timeout == 0 {
		timeout = stepTimeout
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	exit, err := run.Run(ctx, posix.Shell(step.Type), out, out)
	if err == nil && exit != 0 {
		err = fmt.Errorf("exit code %d: %s", exit, firstLine(out.String()))
	}
	return out.String(), err
}

// stepText is the beginning of an output that comes from two sides.
type stepText struct {
	mu sync.Mutex
	transfer.Head
}

func (h *stepText) Write(b []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.Head.Write(b)
}
