package collect

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/reach"
	"envask/internal/reach/web"
	"envask/internal/round"
	"envask/internal/site"
)

// pipes is a listener without a network, so that a test's clock can stand in for the real one.
type pipes struct {
	conns chan net.Conn
	end   chan struct{}
}

func (p *pipes) Accept() (net.Conn, error) {
	select {
	case c := <-p.conns:
		return c, nil
	case <-p.end:
		return nil, net.ErrClosed
	}
}
func (p *pipes) Close() error   { close(p.end); return nil }
func (p *pipes) Addr() net.Addr { return &net.UnixAddr{Name: "pipe"} }

func (p *pipes) dial(context.Context, string) (net.Conn, error) {
	a, b := net.Pipe()
	p.conns <- b
	return a, nil
}

// interfaced is a system with a web interface and nothing else.
type interfaced struct {
	reach.System
	client *web.Client
}

func (i interfaced) Web() *web.Client { return i.client }
func (i interfaced) Close() error     { i.client.Close(); return nil }

// slowHub is a device whose jobs take an hour; its sessions expire after twenty minutes.
type slowHub struct {
	takes         time.Duration
	begun, seen   time.Time // when the job was begun, and the session
	polls, logins atomic.Int64
}

func (h *slowHub) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path == "/session":
		_ = r.ParseForm()
		if r.Form.Get("word") == "words" {
			h.seen = time.Now()
			h.logins.Add(1)
			http.SetCookie(w, &http.Cookie{Name: "in", Value: "1", Path: "/"})
			fmt.Fprint(w, "in")
			return
		}
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, `<form action="/session" method="post"><input name="user"><input type="password" name="word"></form>`)
	case time.Since(h.seen) > 20*time.Minute:
		http.Redirect(w, r, "/session", http.StatusFound)
	case r.Method == http.MethodPost:
		h.begun = time.Now()
		fmt.Fprint(w, `{"job":"7"}`)
	case strings.HasSuffix(r.URL.Path, "/files"):
		fmt.Fprint(w, `{"files":["/data/one.log"]}`)
	case strings.HasPrefix(r.URL.Path, "/data/"):
		fmt.Fprint(w, "the file\n")
	default:
		h.polls.Add(1)
		took := time.Since(h.begun)
		fmt.Fprintf(w, `{"done":%t,"percent":%d}`, took >= h.takes, min(100, took*100/h.takes))
	}
}

const slowSteps = `ask: a
vendor: v
vitals: no
items:
  - id: report
    of: [hub]
    required: true
    steps:
      - {post: /jobs, take: {job: .job}}
      - {poll: '/jobs/{job}', until: .done, progress: .percent, every: 10s, at-most: %s}
      - {get: '/jobs/{job}/files', take: {link: '.files[]'}}
      - {get: '{link}', download: true}
`

// fromHub collects from a device with a web interface, over pipes, by a clock that only moves when all wait.
func fromHub(t *testing.T, h http.Handler, text string, change func(*Request), tell func(Event)) (r *round.Round, took time.Duration) {
	t.Helper()
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		k, err := ask.Parse("ask.yaml", []byte(text))
		require.NoError(t, err)
		s, err := site.Parse("site.yaml",
			[]byte("site: pier\nsystems:\n  - {name: hub, roles: [hub], zone: UTC, web: {at: 'http://192.0.2.30', insecure-plain: yes, "+
				"login: {form: /session, user: svc, password: env:X, fields: {user: '{user}', word: '{password}'}}}}\n"))
		require.NoError(t, err)
		c, err := casefile.Home{Dir: dir}.Create("26031407", casefile.Info{Opened: six})
		require.NoError(t, err)
		writer, err := c.Write("test")
		require.NoError(t, err)
		defer writer.Close()
		p := &pipes{conns: make(chan net.Conn), end: make(chan struct{})}
		server := &http.Server{Handler: h, ReadHeaderTimeout: time.Minute}
		go server.Serve(p) //nolint:errcheck // it ends with the test
		defer server.Close()
		client, err := web.New(web.Settings{Web: s.System("hub").Web, Dial: p.dial, Stall: time.Minute,
			Password: func() (string, web.Done, error) { return "words", func(bool, bool) {}, nil }})
		require.NoError(t, err)
		require.NoError(t, client.Open(t.Context()))
		col := &Collector{Request: Request{Ask: k, Site: s, Depth: ask.Standard, Jobs: 1, Case: "26031407"}, Report: tell,
			Open: func(context.Context, *site.System) (reach.System, error) { return interfaced{nil, client}, nil }}
		if change != nil {
			change(&col.Request)
		}
		begun := time.Now()
		r, err = col.Run(t.Context(), writer, "", "test")
		require.NoError(t, err)
		took = time.Since(begun)
	})
	return r, took
}

// waitFor collects from a device whose job takes so long.
func waitFor(t *testing.T, takes, most string) (h *slowHub, cell round.Cell, took time.Duration, shown []string) {
	t.Helper()
	long, err := time.ParseDuration(takes)
	require.NoError(t, err)
	h = &slowHub{takes: long}
	r, took := fromHub(t, h, fmt.Sprintf(slowSteps, most), nil, func(e Event) {
		if e.Kind == Waiting {
			shown = append(shown, e.Reason)
		}
	})
	return h, r.Coverage[0], took, shown
}

// A job of an hour is waited for to its end, over sessions that expire, with the device's own progress shown.
func TestAPollOfAnHour(t *testing.T) {
	h, cell, took, shown := waitFor(t, "1h", "2h")
	require.Equal(t, round.Taken, cell.State, cell.Reason)
	require.Equal(t, 1, cell.Files)
	require.GreaterOrEqual(t, took, time.Hour)
	require.Less(t, took, time.Hour+20*time.Second)
	require.InDelta(t, 361, h.polls.Load(), 2, "every ten seconds")
	require.EqualValues(t, 3, h.logins.Load(), "sessions of twenty minutes")
	require.Equal(t, "0", shown[0])
	require.Equal(t, "50", shown[len(shown)/2])
	require.Equal(t, "100", shown[len(shown)-1])
}

// A job that does not end in time is given up then, and not before.
func TestAPollThatNeverEnds(t *testing.T) {
	h, cell, took, _ := waitFor(t, "240h", "1h")
	require.Equal(t, round.TimedOut, cell.State)
	require.Contains(t, cell.Reason, "it did not end in time (1h0m0s)")
	require.GreaterOrEqual(t, took, time.Hour)
	require.Less(t, took, time.Hour+20*time.Second)
	require.InDelta(t, 361, h.polls.Load(), 2)
}
