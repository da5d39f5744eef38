package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"

	"envask/internal/device"
	"envask/internal/late"
	"envask/internal/reach/console"
	"envask/internal/site"
)

// Type types a step. A conversation that ended since the last one is begun again; one that ends in the middle is ErrLost.
func (c *Console) Type(ctx context.Context, t Typing) (Answer, error) {
	c.talk.Lock()
	defer c.talk.Unlock()
	if c.exec != execRefused && c.session == nil && !t.Talk && len(t.Answers)+len(t.Step.Answers) == 0 && t.Prompt == nil {
		answer, no, err := c.execute(ctx, t)
		if !no {
			return answer, err
		}
		c.exec = execRefused
	}
	if c.session == nil || c.session.Broken() != nil {
		if err := c.open(ctx); err != nil {
			if ctx.Err() != nil {
				return Answer{Exit: -1}, ctx.Err()
			}
			return Answer{Exit: -1}, c.setLost(errors.New(why(err)))
		}
	}
	return c.do(ctx, t)
}

// do types a step in the conversation that is open.
func (c *Console) do(ctx context.Context, t Typing) (Answer, error) {
	step := console.Step{Type: t.Step.Type, Prompt: t.Prompt, Silence: t.Timeout, Most: t.Most, Learn: t.learn, Hide: t.Hide}
	if step.Silence == 0 {
		step.Silence = c.desc.Silence
	}
	if step.Silence == 0 {
		step.Silence = device.DefaultSilence
	}
	var done []func(outcome)
	for _, r := range append(t.Step.Answers[:len(t.Step.Answers):len(t.Step.Answers)], t.Answers...) {
		reply := console.Reply{When: r.When, Text: r.Press}
		switch {
		case r.Secret != "":
			text, end, err := c.secret(r.Secret)
			if err != nil {
				return Answer{Exit: -1}, err
			}
			done = append(done, end)
			reply.Text, reply.Secret = text+"\r", true
		case r.Press == "":
			reply.Text = r.Give + "\r"
		}
		step.Answers = append(step.Answers, reply)
	}
	said, err := c.session.Do(ctx, step, t.Out, t.Raw)
	how := notKnown
	var mode *console.ModeError
	switch {
	case err == nil:
		how = worked
	case errors.Is(err, console.ErrAsked), errors.As(err, &mode):
		how = refused
	}
	for _, end := range done {
		end(how)
	}
	a := Answer{Prompt: said.Prompt, First: said.First, Exit: -1, Bytes: said.Bytes}
	switch {
	case err == nil:
		return a, nil
	case ctx.Err() != nil:
		return a, ctx.Err()
	case errors.Is(err, console.ErrEnded):
		if c.isClosed() {
			return a, c.setLost(err)
		}
		return a, fmt.Errorf("%w: %w", ErrLost, err) // the next step begins a new conversation
	case errors.Is(err, console.ErrSilent), errors.Is(err, console.ErrTooLong):
		return a, &saidError{err, ErrSilent}
	}
	return a, err
}

// saidError is an error of a class of ours, in the words of what said it.
type saidError struct{ err, class error }

func (e *saidError) Error() string   { return e.err.Error() }
func (e *saidError) Unwrap() []error { return []error{e.err, e.class} }

func (c *Console) isClosed() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.closed
}

// secret reads a secret that a step gives. One that was refused is not given again in this run, to any device.
func (c *Console) secret(place string) (text string, done func(outcome), err error) {
	at, ok := c.sys.SecretAt(place)
	if !ok {
		return "", nil, fmt.Errorf("%w %s: write it under secrets: of %s, as env:NAME or file:PATH", ErrSecret, place, c.sys.Name)
	}
	if c.oldSecret[at] { // it worked here; the same secret may be given twice in one step
		text, err := c.d.Secret(at)
		return text, func(outcome) {}, err
	}
	text, done, err = c.d.use(c.sys.Name, at)
	if err == nil {
		c.oldSecret[at] = true
		end := done
		done = func(how outcome) {
			if how != worked {
				delete(c.oldSecret, at)
			}
			end(how)
		}
	}
	return text, done, err
}

// outcome is what became of a secret that was given.
type outcome int

const (
	notKnown outcome = iota // the connection broke before it was seen
	worked
	refused
)

// use gives a secret, and what has to be told how it went: until it worked once it is tried on one system at a time, and never again after
// it was refused.
func (d *Dialer) use(system string, secret site.Secret) (text string, done func(outcome), err error) {
	c := d.credential(secret)
	c.mu.Lock()
	if by := c.refusedBy; by != "" {
		c.mu.Unlock()
		return "", func(outcome) {}, fmt.Errorf("%w: the password was refused by %s before and is not tried again", ErrLogin, by)
	}
	if text, err = d.Secret(secret); err != nil {
		c.mu.Unlock()
		return "", func(outcome) {}, err
	}
	if c.good {
		c.mu.Unlock()
		return text, func(outcome) {}, nil
	}
	return text, func(how outcome) {
		c.good = how == worked
		if how == refused {
			c.refusedBy = system
		}
		c.mu.Unlock()
	}, nil
}

// noExec are the words with which devices answer an exec request that they do not take.
var noExec = late.Pattern(`(?i)\bexec(ution)? (requests?|commands?|mode) (is|are) not (supported|allowed|permitted|enabled)`)

// mostHeldBack is how much of the first answer is held back until it is known whether the request was taken, in bytes.
const mostHeldBack = 2 << 10

// execute sends a step as an exec request. no says that the device takes none.
func (c *Console) execute(ctx context.Context, t Typing) (a Answer, no bool, err error) {
	quiet := t.Timeout
	if quiet == 0 {
		quiet = max(c.desc.Silence, device.DefaultSilence)
	}
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	watch := time.AfterFunc(quiet, cancel)
	defer watch.Stop()
	if t.Most > 0 {
		end := time.AfterFunc(t.Most, cancel)
		defer end.Stop()
	}
	out := &execOutput{to: t.Out, hold: c.exec == execUnknown, heard: func() { watch.Reset(quiet) }}
	var raw io.Writer = io.Discard
	if t.Raw != nil {
		raw = t.Raw
	}
	exit, err := c.line.run(inner, t.Step.Type, io.MultiWriter(out, raw), io.MultiWriter(out, raw))
	if c.exec == execUnknown && (errors.Is(err, errNotStarted) || noExec().Match(out.held.Bytes())) {
		return Answer{}, true, nil
	}
	if e := out.release(); err == nil {
		err = e
	}
	a = Answer{First: out.first.String(), Exit: exit, Bytes: out.bytes}
	switch {
	case err == nil || errors.Is(err, errNoExit):
		c.exec = execTaken
		return a, false, nil
	case ctx.Err() != nil:
		return a, false, ctx.Err()
	case inner.Err() != nil:
		return a, false, &saidError{fmt.Errorf("%w for %s", console.ErrSilent, quiet), ErrSilent}
	}
	return a, false, err
}

// execOutput takes the answer to an exec request: carriage returns are left out.
type execOutput struct {
	to    io.Writer
	hold  bool
	held  bytes.Buffer
	first bytes.Buffer
	bytes int64
	heard func()
}

func (o *execOutput) Write(b []byte) (int, error) {
	o.heard()
	clean := bytes.ReplaceAll(b, []byte("\r\n"), []byte("\n"))
	if o.first.Len() < mostHeldBack {
		o.first.Write(clean[:min(len(clean), mostHeldBack)])
	}
	if o.hold {
		o.held.Write(clean)
		if o.held.Len() > mostHeldBack {
			return len(b), o.release()
		}
		return len(b), nil
	}
	return len(b), o.pass(clean)
}

func (o *execOutput) pass(b []byte) error {
	o.bytes += int64(len(b))
	if o.to == nil {
		return nil
	}
	_, err := o.to.Write(b)
	return err
}

func (o *execOutput) release() error {
	held := bytes.Clone(o.held.Bytes())
	o.hold = false
	o.held.Reset()
	return o.pass(held)
}

// nothingFS is the file system of a device that offers none.
type nothingFS struct{ why error }

func (n nothingFS) Open(name string) (fs.File, error) {
	return nil, &fs.PathError{Op: "open", Path: name, Err: n.why}
}

func (n nothingFS) ReadDir(name string) ([]fs.DirEntry, error) {
	return nil, &fs.PathError{Op: "read", Path: name, Err: n.why}
}

func (n nothingFS) ReadLink(name string) (string, error) {
	return "", &fs.PathError{Op: "read", Path: name, Err: n.why}
}

func (n nothingFS) Lstat(name string) (fs.FileInfo, error) {
	return nil, &fs.PathError{Op: "look", Path: name, Err: n.why}
}

// plainPathName is a path that a device's own programs take as one word.
var plainPathName = late.Pattern(`^[A-Za-z0-9_./:=@%+,~][A-Za-z0-9_./:=@%+,~-]*$`)
