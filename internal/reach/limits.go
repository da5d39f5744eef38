package reach

import (
	"context"
	"net"
	"sync"

	"golang.org/x/time/rate"

	"envask/internal/site"
)

// throttleBurst is how much may come at once before the limit is felt, in bytes.
const throttleBurst = 64 << 10

// throttled is a connection whose reading is bounded in bytes a second. What the other side sends then waits on its side.
type throttled struct {
	net.Conn
	limit *rate.Limiter
	ctx   context.Context
	end   context.CancelFunc
}

// throttle bounds what comes over a connection; 0 is no limit.
func throttle(conn net.Conn, limits site.Limits) net.Conn {
	if limits.Bandwidth <= 0 {
		return conn
	}
	ctx, end := context.WithCancel(context.Background())
	return &throttled{Conn: conn, limit: rate.NewLimiter(rate.Limit(limits.Bandwidth), throttleBurst), ctx: ctx, end: end}
}

func (t *throttled) Read(b []byte) (int, error) {
	n, err := t.Conn.Read(b[:min(len(b), throttleBurst)])
	if n > 0 {
		if e := t.limit.WaitN(t.ctx, n); e != nil && err == nil {
			err = net.ErrClosed
		}
	}
	return n, err
}

func (t *throttled) Close() error {
	t.end()
	return t.Conn.Close()
}

// asJump marks that a connection is to a jump host itself, which holds no place of its own on the way.
type asJump struct{}

// seat waits for a place among the connections that may go through a jump host, and gives what leaves it.
func (d *Dialer) seat(ctx context.Context, via string) (leave func(), err error) {
	s := d.hop(via)
	if s == nil || s.Limits.Connections == 0 || ctx.Value(asJump{}) != nil {
		return func() {}, nil
	}
	d.mu.Lock()
	if d.seats == nil {
		d.seats = map[string]chan struct{}{}
	}
	if d.seats[via] == nil {
		d.seats[via] = make(chan struct{}, s.Limits.Connections)
	}
	seats := d.seats[via]
	d.mu.Unlock()
	select {
	case seats <- struct{}{}:
		var once sync.Once
		return func() { once.Do(func() { <-seats }) }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// seated is a connection that holds a place until it is closed.
type seated struct {
	net.Conn
	leave func()
}

func (s seated) Close() error {
	s.leave()
	return s.Conn.Close()
}
