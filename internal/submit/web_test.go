package submit

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/site"
	"envask/internal/standin"
)

// webDesk starts a desk and gives what a route to it needs.
func webDesk(t *testing.T) (*standin.WebDesk, string, *Means) {
	t.Helper()
	dir := t.TempDir()
	d, err := standin.StartWebDesk(dir, "intake", "right")
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	authority := filepath.Join(t.TempDir(), "desk.pem")
	require.NoError(t, os.WriteFile(authority, d.Certificate, 0o600))
	m := &Means{Changes: &changeLog{}, Left: map[string]string{}, Secret: func(s site.Secret) (string, error) { return strings.TrimPrefix(string(s), "env:"), nil },
		Text: func(name string) string {
			return map[string]string{"case": "26031407", "title": "Gates stand open"}[name]
		},
		Pause:       func(context.Context, int) error { return nil },
		Credentials: Credentials{{Route: "web", Host: "127.0.0.1", User: "intake", Password: "env:right", Authority: authority}}}
	return d, dir, m
}

func over(to string, m *Means) func(context.Context) (Route, error) {
	return func(ctx context.Context) (Route, error) { return Open(ctx, "web", to, m) }
}

// Every way over the web brings the archive over whole, proves it, and says who took it.
func TestWebRoutes(t *testing.T) {
	for _, size := range []int{0, 1, 3_000_000, tusPiece + 5} {
		for kind, place := range map[string]string{"https": "/put/", "dav+https": "/put/in/", "form+https": "/form", "tus+https": "/tus/"} {
			t.Run(fmt.Sprint(kind, size), func(t *testing.T) {
				d, dir, m := webDesk(t)
				m.Terms = Terms{Fields: map[string]string{"number": "{case}", "summary": "{title}!"}, File: "attachment"}
				var last int64
				m.Progress = func(done int64) { last = done }
				p := parcel(t, size)
				rec, err := Send(context.Background(), over(kind+"://"+d.Address()+place, m), p, m)
				require.NoError(t, err)
				require.True(t, rec.Proved, rec.Proof)
				require.Equal(t, int64(size), last)
				require.Contains(t, rec.Server, d.Fingerprint())
				require.Contains(t, rec.Cover, "TLS 1.")
				require.Empty(t, m.Changes.(*changeLog).open)
				file := filepath.Join(dir, p.Name)
				if kind == "dav+https" {
					file = filepath.Join(dir, "in", p.Name)
				}
				want, err := os.ReadFile(p.File)
				require.NoError(t, err)
				got, err := os.ReadFile(file)
				require.NoError(t, err)
				require.True(t, bytes.Equal(want, got))
				if kind == "form+https" {
					require.Equal(t, map[string]string{"number": "26031407", "summary": "Gates stand open!"}, d.Form)
					require.Equal(t, "ticket OGS-00001", rec.Answer)
				}
				if kind == "https" || kind == "dav+https" {
					again, err := Send(context.Background(), over(kind+"://"+d.Address()+place, m), p, m)
					require.NoError(t, err)
					require.True(t, again.Already && again.Proved, again.Proof)
					_, err = Send(context.Background(), over(kind+"://"+d.Address()+place, m), parcel(t, size+1), m)
					require.Equal(t, fault.Refused, fault.ClassOf(err), "%v", err)
				}
			})
		}
	}
}

// What goes wrong is said in the words of the person who has to mend it, and never with a secret in it.
func TestWebFaults(t *testing.T) {
	kinds := map[string]string{"https": "/put/", "dav+https": "/put/", "form+https": "/form", "tus+https": "/tus/"}
	for _, c := range []struct {
		name   string
		change func(d *standin.WebDesk, m *Means)
		want   string
		only   string
	}{
		{"wrong password", func(d *standin.WebDesk, m *Means) { m.Credentials[0].Password = "env:hunter2" }, "401 Unauthorized", ""},
		{"unknown certificate", func(d *standin.WebDesk, m *Means) { m.Credentials[0].Authority = "" }, "certificate", ""},
		{"changed certificate", func(d *standin.WebDesk, m *Means) {
			m.Credentials[0].Fingerprint = "SHA256:" + strings.Repeat("0", 64)
		}, "not the one in credentials.yaml", ""},
		{"sent elsewhere", func(d *standin.WebDesk, m *Means) { d.Redirect = "https://elsewhere.example/x" }, "sends us to https://elsewhere.example; neither the archive nor the login goes there", ""},
		{"no room", func(d *standin.WebDesk, m *Means) {
			d.Fault = func(r *http.Request) int {
				if r.Method == http.MethodPut || r.Method == http.MethodPost || r.Method == http.MethodPatch {
					return http.StatusInsufficientStorage
				}
				return 0
			}
		}, "507 Insufficient Storage", ""},
		{"broken all the time", func(d *standin.WebDesk, m *Means) {
			d.Fault = func(r *http.Request) int {
				if r.Method == http.MethodPut || r.Method == http.MethodPost {
					return http.StatusServiceUnavailable
				}
				return 0
			}
		}, "503 Service Unavailable", ""},
		{"keeps something else", func(d *standin.WebDesk, m *Means) { d.Corrupt = true }, "what arrived is not what was sent", "https"},
		{"keeps something else", func(d *standin.WebDesk, m *Means) { d.Corrupt = true }, "what arrived is not what was sent", "form+https"},
		{"too large", func(d *standin.WebDesk, m *Means) { d.MaxSize = 10 }, "the server takes 10 B at most", "tus+https"},
		{"another host's credential", func(d *standin.WebDesk, m *Means) { m.Credentials[0].Host = "desk.ostrevane.example" }, "is not sent elsewhere", ""},
	} {
		for kind, place := range kinds {
			if c.only != "" && c.only != kind {
				continue
			}
			t.Run(c.name+" "+kind, func(t *testing.T) {
				d, _, m := webDesk(t)
				c.change(d, m)
				_, err := Send(context.Background(), over(kind+"://"+d.Address()+place, m), parcel(t, 5000), m)
				require.ErrorContains(t, err, c.want)
				require.NotContains(t, err.Error()+fault.HintOf(err), "hunter2")
			})
		}
	}
}

func TestPlainHTTPIsForLoopbackOnly(t *testing.T) {
	_, err := Open(context.Background(), "web", "http://192.0.2.7/put/", &Means{})
	require.ErrorContains(t, err, "not encrypted")
	require.True(t, Naked("http://127.0.0.1/") && Naked("ftp://x/") && Naked("form+http://x/") && !Naked("ftps://x/") && !Naked("sftp://x/"))
}

// A pre-signed address is a secret: it is used whole, asked for nothing else, and shown without its signature.
func TestPreSignedAddress(t *testing.T) {
	d, dir, m := webDesk(t)
	p := parcel(t, 1000)
	m.Credentials[0].Address = site.Secret("env:https://" + d.Address() + "/put/slot-7?signature=s3cr3tsignature")
	rec, err := Send(context.Background(), over("https://"+d.Address()+"/put/", m), p, m)
	require.NoError(t, err)
	require.FileExists(t, filepath.Join(dir, "slot-7"))
	require.True(t, rec.Proved, "the server told the digest in its answer")
	require.NotContains(t, rec.Path+rec.Line(), "s3cr3tsignature")
	m.Credentials[0].Address = site.Secret("env:https://elsewhere.example/put/slot-7?signature=x")
	_, err = Send(context.Background(), over("https://"+d.Address()+"/put/", m), p, m)
	require.ErrorContains(t, err, "leads to another host")
}

// A server that tells no digest is asked for the file itself.
func TestWithoutDigestsTheFileIsReadBack(t *testing.T) {
	d, _, m := webDesk(t)
	d.NoDigest = true
	rec, err := Send(context.Background(), over("https://"+d.Address()+"/put/", m), parcel(t, 5000), m)
	require.NoError(t, err)
	require.True(t, rec.Proved)
	require.Contains(t, rec.Proof, "read back")
	rec, err = Send(context.Background(), over("tus+https://"+d.Address()+"/tus/", m), parcel(t, 5001), m)
	require.NoError(t, err)
	require.False(t, rec.Proved)
	require.Contains(t, rec.Proof, "has all bytes")
}

// cutting is a listener in front of a server that cuts every connection after so many bytes, so many times.
func cutting(t *testing.T, to string, after func() int64, times int32) (address string, cuts *atomic.Int32) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	cuts = new(atomic.Int32)
	var mu sync.Mutex
	next := func() int64 {
		mu.Lock()
		defer mu.Unlock()
		return after()
	}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				defer out.Close()
				go func() { _, _ = io.Copy(in, out); in.Close() }()
				if cuts.Load() >= times {
					_, _ = io.Copy(out, in)
					return
				}
				if most := next(); copied(out, in, most) == most {
					cuts.Add(1)
					_ = in.(*net.TCPConn).SetLinger(0)
				}
			}()
		}
	}()
	return l.Addr().String(), cuts
}

func copied(out io.Writer, in io.Reader, most int64) int64 {
	n, _ := io.CopyN(out, in, most)
	return n
}

// arrivedOnce makes sure that a parcel is the one file in a folder, and whole.
func arrivedOnce(t *testing.T, dir string, p Parcel) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	info, err := os.Stat(filepath.Join(dir, p.Name))
	require.NoError(t, err)
	require.Equal(t, p.Size, info.Size())
}

// Over SFTP as well: 64 MiB, cut at random bytes.
func TestCutSFTP(t *testing.T) {
	const size = 64 << 20
	dir := t.TempDir()
	desk, err := standin.NewDesk(dir, "intake", "right")
	require.NoError(t, err)
	require.NoError(t, desk.Start())
	t.Cleanup(func() { desk.Close() })
	r := rand.New(rand.NewPCG(5, 6))
	n := 0
	address, cuts := cutting(t, strings.TrimPrefix(desk.Address(), "intake@"), func() int64 {
		if n++; n%4 == 0 {
			return 1 + r.Int64N(1<<16) // also while it says hello or logs in
		}
		return 3<<20 + r.Int64N(3<<19)
	}, 20)
	known := filepath.Join(t.TempDir(), "known_hosts")
	_, there, err := net.SplitHostPort(strings.TrimPrefix(desk.Address(), "intake@"))
	require.NoError(t, err)
	_, here, err := net.SplitHostPort(address)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(known, []byte(strings.ReplaceAll(desk.KnownHost(), there, here)+"\n"), 0o600))
	m := &Means{Changes: &changeLog{}, Left: map[string]string{}, Pause: func(context.Context, int) error { return nil },
		Credentials: Credentials{{Route: "web", Host: "127.0.0.1", Password: "env:X"}},
		Dialer:      &reach.Dialer{HostKeys: &reach.HostKeys{Own: known}, Secret: func(site.Secret) (string, error) { return "right", nil }}}
	p := parcel(t, size)
	rec, err := Send(context.Background(), over("sftp://intake@"+address+"/", m), p, m)
	require.NoError(t, err)
	require.True(t, rec.Proved, rec.Proof)
	require.Equal(t, int32(20), cuts.Load())
	require.Greater(t, rec.Resumed, int64(1<<20))
	arrivedOnce(t, dir, p)
	t.Logf("%d cuts, %d tries, the last from byte %d on", cuts.Load(), rec.Tries, rec.Resumed)
}

// A link that is cut 20 times brings the archive over once, whole, and goes on where it stopped.
func TestCutLinks(t *testing.T) {
	const size = 64 << 20
	for _, c := range [][2]string{{"tus+https", "/tus/"}, {"tus+https", "/tus/ to a strict one"}, {"https", "/put/"}} {
		t.Run(c[0]+c[1], func(t *testing.T) {
			kind := c[0]
			place, strict := strings.CutSuffix(c[1], " to a strict one")
			d, dir, m := webDesk(t)
			d.Whole = strict
			times := int32(20)
			if kind == "https" { // it begins anew each time
				times = 3
			}
			r := rand.New(rand.NewPCG(3, 4))
			address, cuts := cutting(t, d.Address(), func() int64 { return 1<<19 + r.Int64N(4<<20) }, times)
			var notes []string
			m.Note = func(text string) { notes = append(notes, text) }
			p := parcel(t, size)
			rec, err := Send(context.Background(), over(kind+"://"+address+place, m), p, m)
			require.NoError(t, err)
			require.Equal(t, times, cuts.Load())
			require.True(t, rec.Proved, rec.Proof)
			require.Greater(t, rec.Tries, 3)
			require.NotEmpty(t, notes)
			info, err := os.Stat(filepath.Join(dir, p.Name))
			require.NoError(t, err)
			require.Equal(t, int64(size), info.Size())
		})
	}
}

// A server that is still putting away the rest of a lost request first tells more than it keeps, and locks the upload
// meanwhile: it is asked again, and the upload goes on from what is really there.
func TestTusOffsetGoesBack(t *testing.T) {
	var kept []byte
	var patches, locked int
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		switch r.Method {
		case http.MethodPost:
			h.Set("Location", "/tus/1")
			w.WriteHeader(http.StatusCreated)
		case http.MethodHead:
			if locked < 2 && patches == 1 {
				locked++
				w.WriteHeader(http.StatusLocked)
				return
			}
			h.Set("Upload-Offset", fmt.Sprint(len(kept)))
		case http.MethodPatch:
			raw, _ := io.ReadAll(r.Body)
			if kept = append(kept, raw...); patches == 0 {
				kept = kept[:500]
				h.Set("Upload-Offset", "0")
			} else {
				h.Set("Upload-Offset", fmt.Sprint(len(kept)))
			}
			patches++
			w.WriteHeader(http.StatusNoContent)
		}
	}))
	t.Cleanup(server.Close)
	m := &Means{Changes: &changeLog{}, Left: map[string]string{}, Pause: func(context.Context, int) error { return nil }}
	p := parcel(t, 2000)
	rec, err := Send(context.Background(), over("tus+"+server.URL+"/tus/", m), p, m)
	require.NoError(t, err)
	want, err := os.ReadFile(p.File)
	require.NoError(t, err)
	require.Equal(t, want, kept)
	require.Equal(t, []int{2, 2, 4}, []int{patches, locked, rec.Tries})
}

// webProxy is a proxy for CONNECT (RFC 9110, section 9.3.6), which wants a login of its own if one is given.
func webProxy(t *testing.T, login string) (address string, passed *atomic.Int32) {
	t.Helper()
	passed = new(atomic.Int32)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if login != "" && r.Header.Get("Proxy-Authorization") != login {
			w.WriteHeader(http.StatusProxyAuthRequired)
			return
		}
		out, err := net.Dial("tcp", r.Host)
		if err != nil || r.Method != http.MethodConnect {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		defer out.Close()
		in, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			return
		}
		defer in.Close()
		passed.Add(1)
		_, _ = io.WriteString(in, "HTTP/1.1 200 go on\r\n\r\n")
		go func() { _, _ = io.Copy(in, out); in.Close() }()
		_, _ = io.Copy(out, in)
	}))
	t.Cleanup(server.Close)
	return server.URL, passed
}

// Uploads go through a web proxy; one that does not let them through is named as what stops them.
func TestWebProxy(t *testing.T) {
	for kind, place := range map[string]string{"https": "/put/", "dav+https": "/put/in/", "form+https": "/form", "tus+https": "/tus/"} {
		d, dir, m := webDesk(t)
		address, passed := webProxy(t, "")
		through, err := url.Parse(address)
		require.NoError(t, err)
		m.Proxy = http.ProxyURL(through)
		p := parcel(t, 3_000_000)
		rec, err := Send(context.Background(), over(kind+"://"+d.Address()+place, m), p, m)
		require.NoError(t, err, kind)
		require.True(t, rec.Proved, kind)
		require.Contains(t, rec.Server, d.Fingerprint(), "the certificate is the desk's, not the proxy's")
		require.Positive(t, passed.Load(), kind)
		name := filepath.Join(dir, p.Name)
		if kind == "dav+https" {
			name = filepath.Join(dir, "in", p.Name)
		}
		require.FileExists(t, name)

		address, passed = webProxy(t, "Basic x")
		through, err = url.Parse(address)
		require.NoError(t, err)
		m.Proxy = http.ProxyURL(through)
		_, err = Send(context.Background(), over(kind+"://"+d.Address()+place, m), parcel(t, 10), m)
		require.ErrorContains(t, err, "Proxy Authentication Required", kind)
		require.Zero(t, passed.Load(), kind)
	}
}
