package web

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/extract"
	"envask/internal/site"
)

// client makes one for a server, with a login.
func client(t *testing.T, server *httptest.Server, login site.Login, password string) (*Client, *[]string) {
	t.Helper()
	at, err := url.Parse(server.URL)
	require.NoError(t, err)
	told := &[]string{}
	c, err := New(Settings{Web: &site.Web{At: at, Login: login}, Stall: time.Second,
		Password: func() (string, Done, error) {
			return password, func(worked, refused bool) { *told = append(*told, fmt.Sprint(worked, refused)) }, nil
		},
		Dial: func(ctx context.Context, address string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, "tcp", address)
		}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c, told
}

func serve(t *testing.T, handle http.HandlerFunc) *httptest.Server {
	t.Helper()
	s := httptest.NewServer(handle)
	t.Cleanup(s.Close)
	return s
}

func get(c *Client, target string) (string, error) {
	res, err := c.Do(context.Background(), Request{Method: http.MethodGet, Target: target})
	if err != nil {
		return "", err
	}
	a, err := res.Whole()
	if err != nil {
		return "", err
	}
	return string(a.Body), nil
}

func expr(t *testing.T, text string) *extract.Expression {
	t.Helper()
	e, err := extract.Parse(text)
	require.NoError(t, err)
	return e
}

func TestATokenGoesWithEachRequestAndIsAskedForAgain(t *testing.T) {
	var given atomic.Int32
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/login" {
			body, _ := io.ReadAll(r.Body)
			if !strings.Contains(string(body), `"word":"mole"`) {
				w.WriteHeader(http.StatusForbidden)
				return
			}
			fmt.Fprintf(w, `{"auth": {"key": "t%d"}}`, given.Add(1))
			return
		}
		if r.Header.Get("X-Session") != fmt.Sprintf("id=t%d", given.Load()) || given.Load() == 1 && r.URL.Path == "/late" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		_, _ = io.WriteString(w, "inside")
	})
	login := site.Login{Kind: "token", User: "svc", Path: "/login", Page: "/login", Fields: map[string]string{"name": "{user}", "word": "{password}"},
		Header: "X-Session: id={token}", Token: expr(t, ".auth.key")}
	c, told := client(t, s, login, "mole")
	text, err := get(c, "/early")
	require.NoError(t, err)
	require.Equal(t, "inside", text)
	text, err = get(c, "/late") // the first token expired
	require.NoError(t, err)
	require.Equal(t, "inside", text)
	require.Equal(t, []string{"true false", "true false"}, *told)

	c, told = client(t, s, login, "wrong")
	_, err = get(c, "/early")
	require.ErrorIs(t, err, ErrLogin)
	require.Equal(t, []string{"false true"}, *told)
}

func TestBearerAndBasicAreRefusedOnce(t *testing.T) {
	asked := 0
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		asked++
		if r.Header.Get("Authorization") != "Bearer mole" {
			w.WriteHeader(http.StatusUnauthorized)
		}
	})
	c, told := client(t, s, site.Login{Kind: "bearer"}, "mole")
	require.NoError(t, c.Open(context.Background()))
	require.Equal(t, []string{"true false"}, *told)
	for _, kind := range []string{"bearer", "basic"} {
		asked = 0
		c, told = client(t, s, site.Login{Kind: kind, User: "svc"}, "wrong")
		require.ErrorIs(t, c.Open(context.Background()), ErrLogin)
		require.Equal(t, []string{"false true"}, *told)
		require.Equal(t, 1, asked, "an account is not locked by trying again")
	}
}

func TestNothingGoesElsewhere(t *testing.T) {
	var foreign atomic.Int32
	other := serve(t, func(w http.ResponseWriter, r *http.Request) { foreign.Add(1) })
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/away":
			http.Redirect(w, r, other.URL+"/x", http.StatusFound)
		case "/loop":
			http.Redirect(w, r, "/loop", http.StatusFound)
		case "/near":
			http.Redirect(w, r, "/here", http.StatusSeeOther)
		case "/here":
			fmt.Fprint(w, r.Method)
		}
	})
	c, _ := client(t, s, site.Login{Kind: "basic", User: "svc"}, "mole")
	_, err := get(c, "/away")
	require.ErrorIs(t, err, ErrElsewhere)
	_, err = get(c, other.URL+"/y")
	require.ErrorIs(t, err, ErrElsewhere)
	_, err = get(c, "//"+strings.TrimPrefix(other.URL, "http://")+"/z")
	require.ErrorIs(t, err, ErrElsewhere)
	require.Zero(t, foreign.Load(), "not one request")
	_, err = get(c, "/loop")
	require.ErrorContains(t, err, "redirects more than 10 times")
	res, err := c.Do(context.Background(), Request{Method: http.MethodPost, Target: "/near", Body: []byte("x")})
	require.NoError(t, err)
	a, err := res.Whole()
	require.NoError(t, err)
	require.Equal(t, "GET", string(a.Body))
}

func TestLargeAndSilentAnswers(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/large":
			block := []byte(strings.Repeat("x", 1<<20))
			for range 80 {
				if _, err := w.Write(block); err != nil {
					return
				}
			}
		case "/silent":
			<-r.Context().Done()
		case "/drips":
			fmt.Fprint(w, "begin")
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		case "/trickles":
			for r.Context().Err() == nil {
				fmt.Fprint(w, ".")
				w.(http.Flusher).Flush()
				time.Sleep(50 * time.Millisecond)
			}
		case "/short":
			w.Header().Set("Content-Length", "100")
			fmt.Fprint(w, "only so much")
		}
	})
	c, _ := client(t, s, site.Login{}, "")
	_, err := get(c, "/large")
	require.ErrorIs(t, err, ErrTooLarge)
	_, err = get(c, "/silent")
	require.Error(t, err)
	begun := time.Now()
	_, err = get(c, "/drips")
	require.ErrorIs(t, err, ErrSilent)
	require.Less(t, time.Since(begun), 20*time.Second)
	_, err = get(c, "/trickles")
	require.ErrorIs(t, err, ErrSilent, "a byte now and then is no answer")
	_, err = get(c, "/short")
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = c.Do(ctx, Request{Method: http.MethodGet, Target: "/silent"})
	require.ErrorIs(t, err, context.Canceled)
	require.True(t, c.Clock().Known)
	require.Less(t, c.Clock().Offset.Abs(), 2*time.Second)
}

func TestAProxyLeadsThere(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "from behind") })
	var through atomic.Int32
	proxy := serve(t, func(w http.ResponseWriter, r *http.Request) {
		through.Add(1)
		res, err := http.Get(r.URL.String()) //nolint:noctx // a test's proxy
		if err != nil {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		defer res.Body.Close()
		_, _ = io.Copy(w, res.Body)
	})
	at, err := url.Parse(s.URL)
	require.NoError(t, err)
	by, err := url.Parse(proxy.URL)
	require.NoError(t, err)
	c, err := New(Settings{Web: &site.Web{At: at, Proxy: by}, Stall: time.Second,
		Dial: func(ctx context.Context, address string) (net.Conn, error) {
			if address != by.Host {
				return nil, errors.New("not through the proxy")
			}
			var d net.Dialer
			return d.DialContext(ctx, "tcp", address)
		}})
	require.NoError(t, err)
	text, err := get(c, "/x")
	require.NoError(t, err)
	require.Equal(t, "from behind", text)
	require.Equal(t, int32(1), through.Load())
}

func TestAFormKeepsWhatItHolds(t *testing.T) {
	fields, asks := formOf([]byte(`<html><form action="/search"><input name="q"></form><form action="/in" method="post">
<input type="hidden" name="proof" value="p 1"><input type="hidden" name="" value="x"><input type="password" name="w"></form></html>`), "/in")
	require.True(t, asks)
	require.Equal(t, url.Values{"proof": {"p 1"}}, fields)
	_, asks = formOf([]byte(`<html><form><input name="q"></form></html>`), "/in")
	require.False(t, asks)
}
