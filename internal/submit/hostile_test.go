package submit

import (
	"bufio"
	"context"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/site"
	"envask/internal/webtrust"
)

// A hostile desk: each row is one thing that a server does to a sender. Whatever it does, the submit ends within bounds, the login
// and the archive go to the route's own origin only, and nothing is called proved.
//
// To add an attack, add a row.

// thief is another server, which must never be spoken to.
type thief struct {
	*httptest.Server
	mu   sync.Mutex
	seen []string
}

func newThief(t *testing.T) *thief {
	f := &thief{}
	f.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.seen = append(f.seen, r.Method+" "+r.URL.String()+" "+r.Header.Get("Authorization"))
		w.Header().Set("Upload-Offset", "5000")
		w.Header().Set("Tus-Resumable", tusVersion)
	}))
	t.Cleanup(f.Close)
	return f
}

// hostileWeb serves with TLS and gives what a sender needs to trust it.
func hostileWeb(t *testing.T, h http.HandlerFunc) (string, *Means) {
	t.Helper()
	s := httptest.NewUnstartedServer(h)
	s.Config.ErrorLog = nil
	s.StartTLS()
	t.Cleanup(func() { s.CloseClientConnections(); s.Close() })
	dir := t.TempDir()
	file := filepath.Join(dir, "ca.pem")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}), 0o600))
	m := &Means{Stall: 300 * time.Millisecond, Pause: func(context.Context, int) error { return nil }, Changes: &changeLog{}, Left: map[string]string{},
		Secret:      func(site.Secret) (string, error) { return "t0ken-of-the-pier", nil },
		Credentials: Credentials{{Route: "desk", Host: "127.0.0.1", Token: "env:X", Authority: file}}}
	return s.Listener.Addr().String(), m
}

func drip(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Length", "1000000")
	w.WriteHeader(http.StatusOK)
	for r.Context().Err() == nil {
		_, _ = w.Write([]byte("."))
		w.(http.Flusher).Flush()
		time.Sleep(20 * time.Millisecond)
	}
}

func silent(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }

func TestHostileWebDesk(t *testing.T) {
	thief := newThief(t)
	elsewhere := func(location string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
			w.Header().Set("Tus-Resumable", tusVersion)
			if r.Method == http.MethodPost {
				w.Header().Set("Location", strings.ReplaceAll(location, "HOST", r.Host))
				w.WriteHeader(http.StatusCreated)
			}
		}
	}
	offset := func(text string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
			w.Header().Set("Tus-Resumable", tusVersion)
			w.Header().Set("Upload-Offset", text)
			switch r.Method {
			case http.MethodPost:
				w.Header().Set("Location", "/tus/1")
				w.WriteHeader(http.StatusCreated)
			default:
				w.WriteHeader(http.StatusNoContent)
			}
		}
	}
	onPut := func(h http.HandlerFunc) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodPut {
				_, _ = io.Copy(io.Discard, r.Body)
				h(w, r)
				return
			}
			http.NotFound(w, r)
		}
	}
	for _, c := range []struct {
		name, to string // HOST stands for the desk
		desk     http.HandlerFunc
		want     string
	}{
		{"tus sends to another server without TLS", "tus+https://HOST/tus/", elsewhere(thief.URL + "/tus/1"), "neither the archive nor the login goes there"},
		{"tus sends to the same host and port without TLS", "tus+https://HOST/tus/", elsewhere("http://HOST/tus/1"), "neither the archive nor the login goes there"},
		{"tus sends to another port", "tus+https://HOST/tus/", elsewhere("https://127.0.0.1:1/tus/1"), "neither the archive nor the login goes there"},
		{"tus sends to a user of the thief", "tus+https://HOST/tus/", elsewhere("https://HOST@" + strings.TrimPrefix(thief.URL, "http://") + "/"), "neither the archive nor the login goes there"},
		{"tus has a negative offset", "tus+https://HOST/tus/", offset("-5"), "offset makes no sense"},
		{"tus has more than there is", "tus+https://HOST/tus/", offset("9223372036854775807"), "offset makes no sense"},
		{"tus has an offset beyond all numbers", "tus+https://HOST/tus/", offset("9223372036854775808"), "offset makes no sense"},
		{"a redirect without TLS", "https://HOST/put/", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, thief.URL, http.StatusTemporaryRedirect)
		}, "sends us to http://"},
		{"a redirect to the same host without TLS", "dav+https://HOST/put/", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://"+r.Host+"/", http.StatusPermanentRedirect)
		}, "sends us to http://"},
		{"never answers", "https://HOST/put/", silent, "was silent for"},
		{"never answers", "tus+https://HOST/put/", silent, "was silent for"},
		{"never answers", "dav+https://HOST/put/", silent, "was silent for"},
		{"an answer that drips", "https://HOST/put/", onPut(drip), ""},
		{"an answer that drips", "form+https://HOST/form", drip, ""},
		{"a file that drips when it is read back", "https://HOST/put/", func(w http.ResponseWriter, r *http.Request) {
			switch r.Method {
			case http.MethodGet:
				w.Header().Set("Content-Length", "5000")
				drip(w, r)
			case http.MethodHead:
				w.Header().Set("Content-Length", "5000")
			}
		}, "was silent for"},
		{"endless headers", "https://HOST/put/", func(w http.ResponseWriter, r *http.Request) {
			for i := range 2000 {
				w.Header().Set(fmt.Sprintf("X-%d", i), strings.Repeat("x", 10_000))
			}
		}, ""},
		{"an error text of a gigabyte", "https://HOST/put/", onPut(func(w http.ResponseWriter, r *http.Request) {
			w.WriteHeader(http.StatusTeapot)
			for r.Context().Err() == nil {
				if _, err := w.Write(make([]byte, 1<<16)); err != nil {
					return
				}
			}
		}), "418"},
		{"an answer that draws on the terminal", "https://HOST/put/", onPut(func(w http.ResponseWriter, r *http.Request) {
			w.WriteHeader(http.StatusTeapot)
			_, _ = io.WriteString(w, "\x1b]0;owned\x07\x1b[2J no\nForged: line\x00\u202e")
		}), "?]0;owned??[2J no Forged: line??"},
	} {
		t.Run(c.name+" "+c.to, func(t *testing.T) {
			host, m := hostileWeb(t, c.desk)
			ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
			defer cancel()
			rec, err := Send(ctx, func(ctx context.Context) (Route, error) {
				return Open(ctx, "desk", strings.ReplaceAll(c.to, "HOST", host), m)
			}, parcel(t, 5000), m)
			require.NoError(t, ctx.Err(), "it ends by itself")
			if c.want != "" {
				require.ErrorContains(t, err, c.want)
			}
			require.False(t, rec.Proved)
			if err != nil {
				require.NotContains(t, err.Error(), "\x1b")
			}
			require.NotContains(t, rec.Line(), "\x1b")
			thief.mu.Lock()
			defer thief.mu.Unlock()
			require.Empty(t, thief.seen)
		})
	}
}

// A form that was interrupted once the desk had all of it may have been taken; one that never got through was not.
func TestAnInterruptedFormMayHaveBeenTaken(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	host, m := hostileWeb(t, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		cancel()
		silent(w, r)
	})
	_, err := Send(ctx, func(ctx context.Context) (Route, error) { return Open(ctx, "desk", "form+https://"+host+"/form", m) }, parcel(t, 5000), m)
	require.ErrorIs(t, err, context.Canceled)
	require.ErrorIs(t, err, ErrUnderway)

	_, err = Send(ctx, func(ctx context.Context) (Route, error) { return nil, ctx.Err() }, parcel(t, 5000), m)
	require.ErrorIs(t, err, context.Canceled)
	require.NotErrorIs(t, err, ErrUnderway)
}

// What an earlier submit left is asked for and removed at the route's own origin only.
func TestLeftElsewhereIsNotTouched(t *testing.T) {
	thief := newThief(t)
	host, m := hostileWeb(t, func(w http.ResponseWriter, r *http.Request) { http.NotFound(w, r) })
	r, err := Open(context.Background(), "desk", "tus+https://"+host+"/tus/", m)
	require.NoError(t, err)
	defer r.Close()
	for _, place := range []string{thief.URL + "/tus/1", "http://" + host + "/tus/1", "https://127.0.0.1:1/tus/1"} {
		require.ErrorContains(t, r.(Remover).Remove(place), "is none of this route", place)
	}
	require.Empty(t, thief.seen)
}

func TestSameOrigin(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"https://desk.example/x", "https://desk.example:443/y", true},
		{"https://Desk.example/", "https://desk.EXAMPLE/", true},
		{"https://desk.example/", "http://desk.example/", false},
		{"https://desk.example/", "http://desk.example:443/", false},
		{"https://desk.example/", "https://desk.example:8443/", false},
		{"https://desk.example/", "https://desk.example.evil.example/", false},
		{"https://desk.example/", "https://desk.example@evil.example/", false},
	} {
		a, err := parse(c.a)
		require.NoError(t, err)
		b, err := parse(c.b)
		require.NoError(t, err)
		require.Equal(t, c.same, webtrust.SameOrigin(a, b), "%s %s", c.a, c.b)
	}
}

// lineServer speaks lines: what it answers to the beginning of each line that comes; "" answers nothing.
func lineServer(t *testing.T, greeting string, answer func(line string) string) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_, _ = io.WriteString(c, greeting)
				in := bufio.NewScanner(c)
				for in.Scan() {
					if a := answer(in.Text()); a != "" {
						_, _ = io.WriteString(c, a)
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// A server that greets and then says nothing ends by itself, and at once when the engineer interrupts.
func TestSilentServers(t *testing.T) {
	quiet := func(string) string { return "" }
	for name, to := range map[string]func(m *Means) string{
		"ftp":                          func(*Means) string { return "ftp://" + lineServer(t, "220 desk ready\r\n", quiet) + "/in" },
		"ftps":                         func(*Means) string { return "ftps://" + lineServer(t, "220 desk ready\r\n", quiet) + "/in" },
		"ftp that does not even greet": func(*Means) string { return "ftp://" + lineServer(t, "", quiet) + "/in" },
		"mail": func(m *Means) string {
			m.Credentials = Credentials{{Route: "desk", Host: "ostrevane.example", Server: lineServer(t, "220 desk ESMTP\r\n", quiet), From: "ilka@merrowick.example"}}
			return "mailto:desk@ostrevane.example"
		},
	} {
		t.Run(name, func(t *testing.T) {
			m := &Means{Stall: 200 * time.Millisecond, Pause: func(context.Context, int) error { return nil }, Changes: &changeLog{}}
			open := func(to string) func(context.Context) (Route, error) {
				return func(ctx context.Context) (Route, error) { return Open(ctx, "desk", to, m) }
			}
			address := to(m)
			ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			_, err := Send(ctx, open(address), parcel(t, 100), m)
			require.Error(t, err)
			require.NoError(t, ctx.Err(), "it ends by itself")

			m.Stall = time.Hour
			ctx, interrupt := context.WithCancel(context.Background())
			ended := make(chan error, 1)
			go func() { _, err := Send(ctx, open(address), parcel(t, 100), m); ended <- err }()
			time.Sleep(100 * time.Millisecond)
			interrupt()
			select {
			case err := <-ended:
				require.Error(t, err)
			case <-time.After(20 * time.Second):
				t.Fatal("an interruption does not end it")
			}
		})
	}
}

// A server cannot send our data connection to a host of its choice (RFC 2577, section 8).
func TestFTPDataGoesToTheServerOnly(t *testing.T) {
	victim, err := net.Listen("tcp", "127.0.0.2:0")
	if err != nil {
		t.Skip("needs a second loopback address")
	}
	defer victim.Close()
	reached := make(chan struct{}, 8)
	go func() {
		for {
			c, err := victim.Accept()
			if err != nil {
				return
			}
			reached <- struct{}{}
			c.Close()
		}
	}()
	port := victim.Addr().(*net.TCPAddr).Port
	server := lineServer(t, "220 desk\r\n", func(line string) string {
		switch word, _, _ := strings.Cut(line, " "); word {
		case "USER":
			return "331 go on\r\n"
		case "PASS":
			return "230 in\r\n"
		case "EPSV":
			return "500 what\r\n"
		case "PASV":
			return fmt.Sprintf("227 Entering Passive Mode (127,0,0,2,%d,%d)\r\n", port>>8, port&255)
		case "SIZE":
			return "550 no such file\r\n"
		case "PWD":
			return "257 \"/in\"\r\n"
		}
		return "200 fine\r\n"
	})
	m := &Means{Stall: 200 * time.Millisecond, Pause: func(context.Context, int) error { return nil }, Changes: &changeLog{}}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	_, err = Send(ctx, func(ctx context.Context) (Route, error) { return Open(ctx, "desk", "ftp://"+server+"/", m) }, parcel(t, 100), m)
	require.Error(t, err)
	require.Empty(t, reached)
}

func TestOnlyPlainNamesAndRegularFilesAreSent(t *testing.T) {
	m := &Means{Changes: &changeLog{}}
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret.txt")
	require.NoError(t, os.WriteFile(secret, []byte("x"), 0o600))
	link := filepath.Join(dir, "archive.tar.gz")
	require.NoError(t, os.Symlink(secret, link))
	open := func(ctx context.Context) (Route, error) { return Open(ctx, "stick", t.TempDir(), m) }
	for _, p := range []Parcel{{File: secret, Name: "../x"}, {File: secret, Name: "/etc/x"}, {File: secret, Name: ""}, {File: link, Name: "archive.tar.gz"}, {File: dir, Name: "d"}} {
		_, err := Send(context.Background(), open, p, m)
		require.Error(t, err, p.Name)
	}
}
