package collect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"slices"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/durable"
	"envask/internal/extract"
	"envask/internal/patience"
	"envask/internal/reach"
	"envask/internal/reach/web"
	"envask/internal/round"
)

// KindJob is what is asked of a device that works on it by itself, in the ledger: so that a wait can be taken up, and nothing is started
// twice.
const KindJob = "job"

// stepper is one item with steps on one device.
type stepper struct {
	*work
	spec   ask.Steps
	client *web.Client
	state  stepState
	file   progressFile // where the state is kept
	begun  time.Time
}

// stepState is how far the steps came, kept in the round's folder: a run that was interrupted goes on with it.
type stepState struct {
	Step   int                 `json:"step"`
	Values map[string][]string `json:"values"`
	Job    string              `json:"job,omitempty"` // record of the ledger
}

// takeSteps asks the web interface of a device, step by step.
func takeSteps(ctx context.Context, w *work) error {
	browse, ok := w.target.(reach.Browse)
	s := &stepper{work: w, spec: w.item.Spec.(ask.Steps), begun: time.Now()}
	if !ok {
		w.add(round.Entry{Source: "steps", State: round.Failed, Reason: "steps: are for systems with a web interface"})
		return w.failure()
	}
	s.client = browse.Web()
	if w.dryRun {
		s.held(ctx)
		return w.failure()
	}
	if !w.budget.reserve(0) {
		w.add(round.Entry{Source: "steps", State: round.Skipped, Reason: w.budget.why()})
		return w.failure()
	}
	s.file = w.progressOf()
	s.load()
	if err := s.takeUp(); err != nil {
		return err
	}
	if err := s.run(ctx); err != nil || ctx.Err() != nil {
		return errors.Join(ctx.Err(), err)
	}
	return s.end()
}

// run does the steps that were not done yet.
func (s *stepper) run(ctx context.Context) error {
	for s.state.Step < len(s.spec.List) {
		i := s.state.Step
		step := &s.spec.List[i]
		next := i + 1
		var err error
		if step.Depth <= s.req.Depth {
			next, err = s.do(ctx, step, i)
		}
		var local *transfer.LocalError
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.As(err, &local):
			return err
		case err != nil:
			state, reason := stepFailure(err)
			s.add(round.Entry{Source: fmt.Sprintf("step %d: %s %s", i+1, step.Method, step.Path), State: state, Reason: reason})
			s.state = stepState{Step: len(s.spec.List), Job: s.state.Job} // the next try begins anew
			return s.failure()
		}
		s.state.Step = next
		if err := s.file.save(s.state); err != nil {
			return err
		}
	}
	return s.failure()
}

// stepFailure gives the state and reason of a step that did not do.
func stepFailure(err error) (round.State, string) {
	switch {
	case errors.Is(err, web.ErrElsewhere):
		return round.Refused, err.Error()
	case errors.Is(err, web.ErrLogin), errors.Is(err, fs.ErrPermission):
		return round.Denied, err.Error()
	case errors.Is(err, web.ErrSilent), errors.Is(err, errPollTime):
		return round.TimedOut, err.Error()
	}
	return round.Failed, transfer.Plain(err)
}

// do does one step, once for each value of the lists that it uses, and gives the number of the next.
func (s *stepper) do(ctx context.Context, step *ask.WebStep, i int) (next int, err error) {
	if step.Instead != nil {
		taken, err := s.instead(ctx, step.Instead)
		if err != nil {
			return 0, fmt.Errorf("what the device holds: %w", err)
		}
		if taken {
			return i + 1 + step.Instead.Skip, nil
		}
	}
	took := map[string][]string{}
	for _, turn := range s.turns(step) {
		answer, err := s.once(ctx, step, turn)
		if err != nil {
			return 0, err
		}
		if answer == nil {
			continue
		}
		for _, t := range step.Take {
			values, err := t.From.Values(ctx, answer)
			if err == nil && len(values) == 0 {
				err = fmt.Errorf("%s takes nothing from the answer", t.From.Text)
			}
			if err != nil {
				return 0, fmt.Errorf("%s: %w", t.Name, err)
			}
			took[t.Name] = append(took[t.Name], values...)
		}
	}
	for name, values := range took {
		s.state.Values[name] = values
	}
	return i + 1, s.noteJob(step, i)
}

// noteJob writes down what a device works on by itself, as soon as it is known what that is called: the values that a step took and that
// the next one asks about again and again.
func (s *stepper) noteJob(step *ask.WebStep, i int) error {
	if s.state.Job != "" || len(step.Take) == 0 || i+1 >= len(s.spec.List) || s.spec.List[i+1].Poll == nil {
		return nil
	}
	id := strings.Join(s.state.Values[step.Take[0].Name], ", ")
	change, err := s.changes.BeginOf(KindJob, s.sys.Name, s.item.ID, step.Take[0].Name+" "+id)
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	s.state.Job = change.ID
	return nil
}

// takeUp goes on with a job that stands in the ledger, where a run ended before more than that was written down.
func (s *stepper) takeUp() error {
	if s.state.Job != "" {
		return nil
	}
	pending, err := s.changes.Pending()
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	for _, change := range pending {
		if change.Kind != KindJob || change.Where != s.sys.Name || change.Path != s.item.ID {
			continue
		}
		name, id, _ := strings.Cut(change.Of, " ")
		i := slices.IndexFunc(s.spec.List, func(w ask.WebStep) bool { return len(w.Take) == 1 && w.Take[0].Name == name })
		if i < 0 || s.state.Step > i { // the ask was changed: nothing waits for it
			if err := s.changes.Done(change.ID, "given up"); err != nil {
				return &transfer.LocalError{Err: err}
			}
			continue
		}
		s.state.Step, s.state.Job = i+1, change.ID
		s.state.Values[name] = strings.Split(id, ", ")
		return s.file.save(s.state)
	}
	return nil
}

// turn is one choice of the values that are lists.
type turn map[string]string

// mostTurns bounds how often one step is done.
const mostTurns = 100_000

// turns gives all of them; without lists it is one.
func (s *stepper) turns(step *ask.WebStep) []turn {
	out := []turn{{}}
	for _, name := range stepNames(step) {
		values := s.state.Values[name]
		if len(values) < 2 {
			continue
		}
		var more []turn
		for _, t := range out {
			for _, v := range values {
				if len(more) == mostTurns {
					break
				}
				next := turn{name: v}
				for k, x := range t {
					next[k] = x
				}
				more = append(more, next)
			}
		}
		out = more
	}
	return out
}

// stepNames lists the placeholders of a step, each once.
func stepNames(step *ask.WebStep) (out []string) {
	texts := []string{step.Path}
	for _, list := range [][]ask.Pair{step.Query, step.Headers, step.Form, step.Parts} {
		for _, p := range list {
			texts = append(texts, p.Text)
		}
	}
	var walk func(any)
	walk = func(tree any) {
		switch x := tree.(type) {
		case string:
			texts = append(texts, x)
		case []any:
			for _, y := range x {
				walk(y)
			}
		case map[string]any:
			for _, y := range x {
				walk(y)
			}
		}
	}
	walk(step.JSON)
	for _, t := range texts {
		for _, name := range ask.WebNames(t) {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// label names a turn in paths and as a member; "" where nothing is repeated.
func (t turn) label() string {
	var values []string
	for _, name := range sortedKeys(t) {
		values = append(values, t[name])
	}
	return strings.Join(values, "/")
}

func sortedKeys(t turn) []string {
	var keys []string
	for k := range t {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// once does a step for one turn. The answer is nil where it was downloaded and nothing of it is looked at.
func (s *stepper) once(ctx context.Context, step *ask.WebStep, t turn) (*extract.Answer, error) {
	switch {
	case step.Poll != nil:
		return s.poll(ctx, step, t)
	case step.Download != nil:
		return nil, s.download(ctx, step, t)
	}
	res, err := s.ask(ctx, step, t)
	if err != nil {
		return nil, err
	}
	answer, err := res.Whole()
	if err != nil {
		return nil, err
	}
	return answer, s.expected(ctx, step, res, answer)
}

// errPollTime says that a job did not end in time.
var errPollTime = errors.New("it did not end in time")

// pollMisses is how often in a row an answer may fail: a device is busy, or restarts its interface.
const pollMisses = 5

// poll asks again and again until the device says that it is done.
func (s *stepper) poll(ctx context.Context, step *ask.WebStep, t turn) (*extract.Answer, error) {
	begun, misses := time.Now(), 0
	for {
		answer, done, err := s.pollOnce(ctx, step, t, time.Since(begun))
		var stop *jobFailed
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case errors.As(err, &stop), errors.Is(err, web.ErrElsewhere), errors.Is(err, web.ErrLogin):
			return nil, err
		case err != nil:
			if misses++; misses > pollMisses {
				return nil, err
			}
		case done:
			return answer, nil
		default:
			misses = 0
		}
		if time.Since(begun) >= step.Poll.Most {
			return nil, fmt.Errorf("%w (%s)", errPollTime, step.Poll.Most)
		}
		durable.Point("while a job is waited for")
		if err := patience.Wait(ctx, step.Poll.Every); err != nil {
			return nil, err
		}
	}
}

// jobFailed says that the device itself says that a job failed.
type jobFailed struct{ why string }

func (e *jobFailed) Error() string { return e.why }

func (s *stepper) pollOnce(ctx context.Context, step *ask.WebStep, t turn, took time.Duration) (*extract.Answer, bool, error) {
	res, err := s.ask(ctx, step, t)
	if err != nil {
		return nil, false, err
	}
	answer, err := res.Whole()
	if err != nil {
		return nil, false, err
	}
	if res.Status == http.StatusNotFound || res.Status == http.StatusGone {
		return nil, false, &jobFailed{fmt.Sprintf("the device does not know it any more (%d)", res.Status)}
	}
	if err := s.expected(ctx, step, res, answer); err != nil {
		return nil, false, err
	}
	if p := step.Poll.Progress; p != nil {
		text, _, _ := p.First(ctx, answer)
		s.report(Event{Kind: Waiting, System: s.sys.Name, Item: s.item.ID, Took: took, Reason: text})
	} else {
		s.report(Event{Kind: Waiting, System: s.sys.Name, Item: s.item.ID, Took: took})
	}
	if f := step.Poll.Failed; f != nil {
		if failed, err := f.Holds(ctx, answer); failed && err == nil {
			return nil, false, &jobFailed{withText("the device says that it failed", firstLine(string(answer.Body)))}
		}
	}
	done, err := step.Poll.Until.Holds(ctx, answer)
	return answer, done, err
}

// held says what would be asked, and what the device holds already.
func (s *stepper) held(ctx context.Context) {
	e := round.Entry{Source: "steps", State: round.Taken, Reason: fmt.Sprintf("would ask %d steps", len(s.spec.List))}
	for _, step := range s.spec.List {
		if step.Instead == nil {
			continue
		}
		list, err := s.earlier(ctx, step.Instead)
		if err != nil {
			e.State, e.Reason = stepFailure(err)
			break
		}
		for i, x := range list {
			if i == mostHeldShown {
				s.add(round.Entry{Source: "held", State: round.Taken, Special: true, Reason: fmt.Sprintf("and %d more", len(list)-i)})
				break
			}
			fits := "older than " + step.Instead.Within.String()
			if x.fits {
				fits = "would be taken instead of a new one"
			}
			if i > 0 && x.fits {
				fits = "newer ones come first"
			}
			s.add(round.Entry{Source: "held on the device: " + x.text, State: round.Taken, Special: true,
				Reason: "made " + x.made.UTC().Format(time.RFC3339) + "; " + fits})
		}
	}
	s.add(e)
}

// mostHeldShown bounds how many earlier collections of a device are listed.
const mostHeldShown = 20

func (s *stepper) load() {
	if !s.file.load(&s.state) || s.state.Step > len(s.spec.List) {
		s.state = stepState{}
	}
	if s.state.Values == nil {
		s.state.Values = map[string][]string{}
	}
	// What only reads is asked again: files that are here are not fetched anew, and what is missing is told again.
	for i := s.state.Step; i > 0 && s.spec.List[i-1].Method == http.MethodGet && s.spec.List[i-1].Poll == nil; i-- {
		s.state.Step = i - 1
	}
}

// end forgets how far the steps came, and strikes off the job.
func (s *stepper) end() error {
	if s.state.Job != "" {
		if err := s.changes.Done(s.state.Job, "fetched, or given up"); err != nil {
			return &transfer.LocalError{Err: err}
		}
	}
	if err := s.file.forget(); err != nil {
		return err
	}
	return s.failure()
}
