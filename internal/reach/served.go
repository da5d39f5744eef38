package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"envask/internal/fault"
	"envask/internal/posix"
	"envask/internal/site"
)

// Served says how a system is reached.
type Served struct {
	Way   string `json:"way"`             // key of the way that served
	Means string `json:"means"`           // how files are read over it
	After string `json:"after,omitempty"` // why the ways that come before it did not serve
	Noisy bool   `json:"noisy,omitempty"` // its shell prints when it starts
	// Remark is what has to be known of what comes by it, such as that an archive is cut off.
	Remark string `json:"remark,omitempty"`
}

// Serving is what a system offers that can say how it is reached.
type Serving interface{ Served() Served }

// serving keeps how a system is reached; systems embed it.
type serving struct {
	mu     sync.Mutex
	served Served
}

// Served says how the system is reached.
func (s *serving) Served() Served {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.served
}

func (s *serving) note(change func(*Served)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change(&s.served)
}

// Near says whether a system's files are on this machine, so that reading them again costs nothing.
func Near(s System) bool {
	v, ok := s.(Serving)
	return ok && (v.Served().Way == "local" || v.Served().Way == "folder")
}

// Own says whether a system is this machine itself.
func Own(s System) bool {
	v, ok := s.(Serving)
	return ok && v.Served().Way == "local"
}

// Open reaches a system by the first of its ways that serves. Only what another way may heal leads to the next: an untrusted
// host key does not.
func (d *Dialer) Open(ctx context.Context, s *site.System) (System, error) {
	var tried []string
	for i, key := range s.Ways {
		system, err := d.open(ctx, s, key)
		if err == nil {
			if v, ok := system.(interface{ note(func(*Served)) }); ok {
				v.note(func(served *Served) { served.Way, served.After = key, strings.Join(tried, "; ") })
			}
			return system, nil
		}
		if ctx.Err() != nil || i == len(s.Ways)-1 || errors.Is(err, ErrHostKey) {
			return nil, afterOthers(s, tried, err)
		}
		tried = append(tried, key+": "+why(err))
	}
	return nil, fmt.Errorf("system %q has no way to reach it", s.Name)
}

func (d *Dialer) open(ctx context.Context, s *site.System, key string) (System, error) {
	for _, w := range ways {
		if w.Key == key {
			return w.Open(ctx, d, s)
		}
	}
	return nil, fmt.Errorf("%q is no way to reach a system", key)
}

// why gives an error without the system's name, which stands beside it.
func why(err error) string {
	var f *fault.Error
	if errors.As(err, &f) {
		return f.Err.Error()
	}
	return err.Error()
}

// afterOthers adds to the error of the last way what became of those before.
func afterOthers(s *site.System, tried []string, err error) error {
	if len(tried) == 0 {
		return err
	}
	return &fault.Error{Target: s.Name, Err: fmt.Errorf("%s: %w", strings.Join(tried, "; "), err), Hint: fault.HintOf(err)}
}

// niced puts the limit on how much commands take in front of a command line.
func niced(nice int, command string) string {
	if nice == 0 {
		return command
	}
	return fmt.Sprintf("nice -n %d sh -c %s", nice, posix.Word(command))
}

// unnoised takes away what a noisy shell prints before a command begins.
type unnoised struct {
	pass
}

func newUnnoised(mark string, to io.Writer) *unnoised {
	return &unnoised{pass{mark: []byte(mark + "\n"), to: to}}
}
