package flow

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/policy"
	"envask/internal/redact"
)

// Redaction learns from the evidence while it arrives, in the shadow of the systems and the network, so that packing reads
// it once. What was learned is kept beside the round as places (file, offset, length), never as values.

const arrivedFile = "learned.jsonl"

// arrived is what was learned from one file. It holds good for these bytes and these rules alone.
type arrived struct {
	System string      `json:"system"`
	Name   string      `json:"name"`
	SHA256 string      `json:"sha256"`
	Check  string      `json:"check"` // XXH64 of the same bytes: packing sees with it, and quickly, that they are still the same
	Rules  string      `json:"rules"` // digest of what was redacted by
	Form   redact.Form `json:"form"`
	Places []place     `json:"places"`
}

// place is where a learned value stands first in a file.
type place struct {
	Offset int64        `json:"at"`
	Length int          `json:"n"`
	Class  redact.Class `json:"class"`
	Rule   string       `json:"rule"`
}

// arrivals learns from files as they are taken.
type arrivals struct {
	config redact.Config
	policy *policy.Policy
	digest string
	ctx    context.Context
	stop   context.CancelFunc
	queue  chan collect.Entry
	left   chan struct{} // closed when all workers are done
	mu     sync.Mutex
	round  *collect.Round
	out    *os.File
}

// arrivalQueue bounds how many files wait to be learned from; those beyond it are learned from when they are packed.
const arrivalQueue = 4096

// learnArriving begins to learn. Without a policy that can be read nothing is learned, and packing says why.
func (a *App) learnArriving(ctx context.Context, c *casefile.Case, k *ask.Ask) *arrivals {
	pol, err := a.policy(c, k, nil)
	if err != nil {
		return nil
	}
	l := &arrivals{config: pol.Config(), policy: pol, digest: pol.Digest(), queue: make(chan collect.Entry, arrivalQueue), left: make(chan struct{})}
	l.ctx, l.stop = context.WithCancel(ctx)
	var workers sync.WaitGroup
	for range max(1, runtime.GOMAXPROCS(0)/2) { // receiving goes first
		workers.Go(l.work)
	}
	go func() {
		workers.Wait()
		close(l.left)
	}()
	return l
}

// begun is told which round it is.
func (l *arrivals) begun(r *collect.Round) {
	l.mu.Lock()
	defer l.mu.Unlock()
	out, err := os.OpenFile(filepath.Join(r.Dir(), arrivedFile), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err == nil {
		l.round, l.out = r, out
	}
}

// taken is told of every file. It never waits.
func (l *arrivals) taken(e collect.Entry) {
	if e.Name == "" || e.SHA256 == "" {
		return
	}
	select {
	case l.queue <- e:
	default:
	}
}

// shadow is how long learning may go on behind a collection before somebody is told why that does not end.
const shadow = time.Second

// end waits until all that came was learned from; when the collection was interrupted, the rest is left to packing.
func (l *arrivals) end(a *App) {
	close(l.queue)
	select {
	case <-l.left:
	case <-time.After(shadow):
		a.note("the evidence came faster than redaction learns from it; it goes on for a moment")
		<-l.left
	}
	l.stop()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.out != nil {
		l.out.Close()
	}
}

func (l *arrivals) work() {
	engine := redact.NewEngine(redact.Options{Config: l.config, Learned: redact.NewLearned()})
	for e := range l.queue {
		if l.ctx.Err() != nil {
			continue
		}
		l.mu.Lock()
		round := l.round
		l.mu.Unlock()
		if round == nil || l.policy.Stays(e.Source) || l.policy.Stays(e.System+"/"+e.Name) {
			continue
		}
		if got, ok := l.learn(engine, filepath.Join(round.RawDir(), e.System, filepath.FromSlash(e.Name)), e); ok {
			l.keep(got)
		}
	}
}

// learn reads one file. Only plain texts are kept: what is in a container has no place in the file.
func (l *arrivals) learn(engine *redact.Engine, file string, e collect.Entry) (got arrived, ok bool) {
	f, err := os.Open(file)
	if err != nil {
		return got, false
	}
	defer f.Close()
	seen := map[redact.Value]bool{}
	got = arrived{System: e.System, Name: e.Name, SHA256: e.SHA256, Rules: l.digest, Places: []place{}}
	check := xxhash.New()
	in := io.TeeReader(&progressReader{ctx: l.ctx, r: f}, check)
	res, err := engine.File(nil, in, redact.Source{Name: e.Name, Place: func(v redact.Value, offset int64) {
		if !seen[v] {
			seen[v] = true
			got.Places = append(got.Places, place{offset, len(v.Text), v.Class, v.Rule})
		}
	}})
	if err == nil {
		_, err = io.Copy(io.Discard, in)
	}
	got.Form, got.Check = res.Form, hex.EncodeToString(check.Sum(nil))
	return got, err == nil && res.Form == redact.Plain && len(seen) <= maxPlaces
}

// maxPlaces bounds how many different values of one file are kept.
const maxPlaces = 1_000_000

func (l *arrivals) keep(got arrived) {
	data, err := json.Marshal(got)
	if err != nil {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.out != nil {
		_, _ = l.out.Write(append(data, '\n')) // what is not kept is learned again
	}
}

// fromArrival takes what was learned on arrival, as far as it still holds. A torn or foreign line is left out: that file is
// learned from again.
func (p *packing) fromArrival() error {
	for _, r := range p.rounds {
		if err := p.fromArrivalOf(r); err != nil {
			return err
		}
	}
	return nil
}

func (p *packing) fromArrivalOf(r *collect.Round) error {
	pieces := map[string]*piece{}
	for _, x := range p.pieces {
		if x.round == r {
			pieces[x.entry.System+"/"+x.entry.Name] = x
		}
	}
	digest := p.policy.Digest()
	return learnedFrom(r, func(got arrived) {
		if x := pieces[got.System+"/"+got.Name]; x != nil && !x.learned && !x.asIs && x.entry.SHA256 == got.SHA256 && got.Rules == digest {
			x.learned = p.takePlaces(x, got)
		}
	})
}

// takePlaces reads the values at their places.
func (p *packing) takePlaces(x *piece, got arrived) bool {
	f, err := os.Open(x.raw)
	if err != nil {
		return false
	}
	defer f.Close()
	var values []redact.Value
	for _, at := range got.Places {
		if at.Length < 1 || at.Length > redact.MaxLearned {
			return false
		}
		buf := make([]byte, at.Length)
		if _, err := f.ReadAt(buf, at.Offset); err != nil {
			return false
		}
		values = append(values, redact.Value{Text: string(buf), Class: at.Class, Rule: at.Rule})
	}
	for _, v := range values {
		p.learned.Add(v)
	}
	x.form, x.check = got.Form, got.Check
	return true
}
