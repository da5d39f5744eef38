package reach

import (
	"context"
	"envask/internal/patience"
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// A server allows so many sessions on one connection (OpenSSH's MaxSessions: 10, and some 4, 2 or 1). They are counted here: what finds
// no free one waits, and what the server refuses all the same is tried again, for that is no answer about a right. Where nothing
// would become free (files come over the only session, or one that is open waits for another), a further connection is made.

// Bounds of sessions.
const (
	usualSessions   = 8           // at a time on one connection, until the server says otherwise
	mostConnections = 4           // to one system
	sessionWait     = time.Second // after so long without a free session a further connection is made
	refusedTries    = 30          // with nothing of ours open on that connection
)

// refusedPauses are waited before a refused session is tried again: a server frees one a moment after it was closed.
var refusedPauses = patience.Doubling(50*time.Millisecond, 500*time.Millisecond)

// ErrNoSession says that a server opened no session, though it was asked again and again.
var ErrNoSession = errors.New("the server opens no further session on the connection (MaxSessions in its configuration)")

// connection is one of those to a system.
type connection struct {
	client *ssh.Client
	open   int // sessions
	lasts  int // of these, those that stay as long as the connection does
	limit  int
}

// sessions gives out the sessions of one system.
type sessions struct {
	mu    sync.Mutex
	all   []*connection
	freed chan struct{} // is closed when a session becomes free
	dial  func(ctx context.Context) (*ssh.Client, error)
	most  int // connections
	ended bool
}

func newSessions(client *ssh.Client, most int, dial func(context.Context) (*ssh.Client, error)) *sessions {
	if most <= 0 || most > mostConnections {
		most = mostConnections
	}
	return &sessions{all: []*connection{{client: client, limit: usualSessions}}, freed: make(chan struct{}), dial: dial, most: most}
}

// claim takes a place on the connection with most room; idle says that none has one and none will become free, and freed is closed when
// one does.
func (s *sessions) claim(first bool) (c *connection, freed chan struct{}, idle bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	idle = true
	for _, x := range s.all {
		if x.open < x.limit && (c == nil || x.limit-x.open > c.limit-c.open) {
			c = x
		}
		idle = idle && x.open == x.lasts
		if first {
			break
		}
	}
	if c != nil {
		c.open++
	}
	return c, s.freed, idle
}

// release gives a place back.
func (s *sessions) release(c *connection) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c.open--
	close(s.freed)
	s.freed = make(chan struct{})
}

// refused takes back a claim that the server did not grant, and learns from it. alone says that nothing else of ours was open there.
func (s *sessions) refused(c *connection) (alone bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c.open--
	if c.open > 0 {
		c.limit = min(c.limit, c.open)
	}
	return c.open == 0
}

// drop forgets a connection that is gone, unless it is the first.
func (s *sessions) drop(c *connection) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	c.open--
	for i, x := range s.all {
		if x == c && i > 0 {
			s.all = append(s.all[:i], s.all[i+1:]...)
			_ = c.client.Close()
			return true
		}
	}
	return false
}

// lasting marks a session of a connection as one that stays.
func (s *sessions) lasting(c *connection, n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c.lasts += n
}

// more makes a further connection; false where there may be none.
func (s *sessions) more(ctx context.Context) (bool, error) {
	s.mu.Lock()
	may := len(s.all) < s.most && s.dial != nil && !s.ended
	s.mu.Unlock()
	if !may {
		return false, nil
	}
	ctx, cancel := context.WithTimeout(ctx, ConnectTimeout) // a jump host may have no room for one more
	defer cancel()
	client, err := s.dial(ctx)
	if err != nil {
		return false, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended {
		return false, client.Close()
	}
	s.all = append(s.all, &connection{client: client, limit: usualSessions})
	return true, nil
}

// get gives a session, and what gives its place back. first wants it on the first connection, which is the one that is watched.
func (s *sessions) get(ctx context.Context, first bool) (*ssh.Session, *connection, func(), error) {
	var dialErr error
	for tries := 0; ; {
		c, freed, idle := s.claim(first)
		if c == nil {
			err := s.wait(ctx, freed, idle, &dialErr)
			if err != nil {
				return nil, nil, nil, err
			}
			continue
		}
		session, err := c.client.NewSession()
		if err == nil {
			return session, c, sync.OnceFunc(func() { s.release(c) }), nil
		}
		var no *ssh.OpenChannelError
		switch {
		case !errors.As(err, &no):
			if s.drop(c) {
				continue
			}
			return nil, nil, nil, err
		case !s.refused(c):
			continue
		}
		if tries++; tries > refusedTries {
			return nil, nil, nil, fmt.Errorf("%w: %w", ErrNoSession, err)
		}
		if err := refusedPauses.Wait(ctx, tries); err != nil {
			return nil, nil, nil, err
		}
	}
}

// wait waits for a free session, and makes a further connection where that takes long or none will become free.
func (s *sessions) wait(ctx context.Context, freed chan struct{}, idle bool, dialErr *error) error {
	if !idle {
		select {
		case <-freed:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(sessionWait):
		}
	}
	if *dialErr == nil {
		made, err := s.more(ctx)
		if made {
			return nil
		}
		*dialErr = err
	}
	if idle {
		if *dialErr != nil {
			return fmt.Errorf("%w; a further connection: %w", ErrNoSession, *dialErr)
		}
		return ErrNoSession
	}
	select {
	case <-freed:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// end closes all but the first connection.
func (s *sessions) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
	for _, c := range s.all[1:] {
		_ = c.client.Close()
	}
	s.all = s.all[:1]
}
