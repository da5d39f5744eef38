package flow

import (
	"context"
	"encoding/hex"
	"hash/maphash"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/go-json-experiment/json/v1"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/policy"
	"envask/internal/redact"
	"envask/internal/round"
)

// Redaction learns from the evidence while it arrives, in the shadow of the systems and the network, so that packing reads
// it once. What was learned is kept beside the round as places (file, offset, length), never as values.

// arrivals learns from files as they are taken.
type arrivals struct {
	tmp    string // folder for temporary files
	config redact.Config
	policy *policy.Policy
	digest string
	ctx    context.Context
	stop   context.CancelFunc
	queue  chan round.Entry
	left   chan struct{} // closed when all workers are done
	mu     sync.Mutex
	round  *round.Round
	out    *os.File
	known  map[valueHash]bool    // what the lines of out say already
	own    func() []redact.Value // secrets that we hold; more are known as a person types them in
}

// valueHash stands for a value: a round can have millions, and here only whether they are the same matters.
type valueHash [2]uint64

var valueSeeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

func hashOf(v redact.Value) (h valueHash) {
	for i, seed := range valueSeeds {
		h[i] = maphash.Comparable(seed, v)
	}
	return h
}

// sighting is the first place of a value in a file.
type sighting struct {
	value  redact.Value
	offset int64 // bytes
}

// arrivalQueue bounds how many files wait to be learned from; those beyond it are learned from when they are packed.
const arrivalQueue = 4096

// learnArriving begins to learn. Without a policy that can be read nothing is learned, and packing says why.
func (a *App) learnArriving(ctx context.Context, w *casefile.Writer, k *ask.Ask) *arrivals {
	pol, err := a.policy(w.Case, k, nil)
	if err != nil {
		return nil
	}
	tmp, err := w.Temp()
	if err != nil {
		return nil // a full disk: packing learns
	}
	l := &arrivals{tmp: tmp, config: pol.Config(), policy: pol, digest: pol.Digest(), queue: make(chan round.Entry, arrivalQueue),
		left: make(chan struct{}), known: map[valueHash]bool{},
		own: a.growingSecrets(w.Case)}
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
func (l *arrivals) begun(r *round.Round) {
	l.mu.Lock()
	defer l.mu.Unlock()
	out, err := os.OpenFile(filepath.Join(r.Dir(), arrivedFile), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err == nil {
		l.round, l.out = r, out
	}
}

// taken is told of every file. It never waits.
func (l *arrivals) taken(e round.Entry) {
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
		a.note("still analysing collected files")
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
	var engine *redact.Engine
	held := -1
	for e := range l.queue {
		if own := l.own(); len(own) != held {
			held = len(own)
			o := redact.Options{Config: l.config, TempDir: l.tmp, Learned: redact.NewLearned()}
			if held > 0 {
				o.Matcher = redact.NewMatcher(own)
			}
			engine = redact.NewEngine(o)
		}
		if l.ctx.Err() != nil {
			continue
		}
		l.mu.Lock()
		round := l.round
		l.mu.Unlock()
		if round == nil || l.policy.Stays(e.Source) || l.policy.Stays(e.System+"/"+e.Name) {
			continue
		}
		if got, seen, ok := l.learn(engine, filepath.Join(round.RawDir(), e.System, filepath.FromSlash(e.Name)), e); ok {
			l.keep(got, seen)
		}
	}
}

// learn reads one file. Only plain texts are kept in which all values stand as they read: what is in a container or a code, or written in
// escapes, has no place in the file, and is learned again when it is packed.
func (l *arrivals) learn(engine *redact.Engine, file string, e round.Entry) (got arrived, seen []sighting, ok bool) {
	f, err := os.Open(file)
	if err != nil {
		return got, nil, false
	}
	defer f.Close()
	once := map[redact.Value]bool{}
	check, coded := xxhash.New(), false
	in := io.TeeReader(durable.Until(l.ctx, f), check)
	res, err := engine.File(nil, in, redact.Source{Name: e.Name, Place: func(v redact.Value, offset int64) {
		if coded = coded || offset < 0; !once[v] && offset >= 0 {
			once[v] = true
			seen = append(seen, sighting{v, offset})
		}
	}})
	if err == nil {
		_, err = io.Copy(io.Discard, in)
	}
	got = arrived{System: e.System, Name: e.Name, SHA256: e.SHA256, Check: hex.EncodeToString(check.Sum(nil)), Rules: l.digest,
		Form: res.Form, Places: []places{}}
	return got, seen, err == nil && res.Form == redact.Plain && !coded && len(seen) <= maxPlaces
}

// maxPlaces bounds how many different values of one file are kept, and of how many of a round it is known that they are.
const maxPlaces = 1_000_000

// keep writes down where the values stand that no line before says.
func (l *arrivals) keep(got arrived, seen []sighting) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.out == nil {
		return
	}
	for _, s := range seen {
		if h := hashOf(s.value); !l.known[h] {
			got.put(s.value, s.offset)
			if len(l.known) < maxPlaces {
				l.known[h] = true
			}
		}
	}
	if data, err := json.Marshal(got); err == nil {
		_, err = l.out.Write(append(data, '\n'))
		if err != nil { // what is not kept is learned again, and so is all that builds on it
			l.out.Close()
			l.out = nil
		}
	}
}
