package bring

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json/v1"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/websocket"

	"envask/internal/ask"
	"envask/internal/window"
)

// remote speaks with one page of a browser (Chrome DevTools Protocol).
type remote struct {
	ws *websocket.Conn
	id int
}

func (r *remote) eval(script string) (string, error) {
	r.id++
	err := websocket.JSON.Send(r.ws, map[string]any{"id": r.id, "method": "Runtime.evaluate",
		"params": map[string]any{"expression": script, "awaitPromise": true, "returnByValue": true}})
	for err == nil {
		var m struct {
			ID     int
			Result struct {
				Result           struct{ Value any }
				ExceptionDetails any
			}
		}
		if err = websocket.JSON.Receive(r.ws, &m); err == nil && m.ID == r.id {
			if m.Result.ExceptionDetails != nil {
				return "", fmt.Errorf("the browser says %v", m.Result.ExceptionDetails)
			}
			return fmt.Sprint(m.Result.Result.Value), nil
		}
	}
	return "", err
}

// chromiumAddress gives where a browser that was started can be spoken with; "" when it does not come up.
func chromiumAddress(t *testing.T) string {
	bin, err := exec.LookPath("chromium")
	if err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "chromium should have been installed")
		t.Skip("SKIPPED: REAL BROWSER: there is no chromium here (make test-servers installs it)")
	}
	dir, err := os.MkdirTemp("", "envask-browser-*")
	require.NoError(t, err)
	cmd := exec.Command(bin, "--headless=new", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
		"--remote-debugging-port=0", "--remote-allow-origins=*", "--user-data-dir="+filepath.Join(dir, "profile"), "about:blank")
	cmd.Env = append(os.Environ(), "HOME="+dir)
	says, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		for range 20 { // its children end a moment later, and write until then
			if os.RemoveAll(dir) == nil {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	})
	at := make(chan string, 1)
	go func() {
		lines := bufio.NewScanner(says)
		for lines.Scan() {
			if m := regexp.MustCompile(`ws://(127\.0\.0\.1:\d+)/devtools/browser/`).FindStringSubmatch(lines.Text()); m != nil {
				at <- m[1]
				break
			}
		}
		_, _ = io.Copy(io.Discard, says)
	}()
	select {
	case a := <-at:
		return a
	case <-time.After(time.Minute):
		t.Skip("SKIPPED: REAL BROWSER: chromium does not come up here")
		return ""
	}
}

// newPage opens a page of the browser, and gives its id.
func newPage(t *testing.T, at, address string) string {
	req, err := http.NewRequest(http.MethodPut, "http://"+at+"/json/new?"+url.QueryEscape(address), nil)
	require.NoError(t, err)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	var page struct{ ID string }
	data, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(data, &page), "%s", data)
	return page.ID
}

// What the browser's own tools export: they are opened on the page as a person would open them, and write the file.
const (
	toolsReady = `import('./core/sdk/sdk.js').then(s=>String(s.TargetManager.TargetManager.instance().targets().length))`
	toolsOpen  = `(async()=>{const s=await import('./core/sdk/sdk.js');const l=await import('./models/logs/logs.js');
l.NetworkLog.NetworkLog.instance();await s.TargetManager.TargetManager.instance().targets()[0].pageAgent().invoke_navigate({url:'%s'});return 'ok'})()`
	toolsCount  = `import('./models/logs/logs.js').then(l=>String(l.NetworkLog.NetworkLog.instance().requests().filter(r=>r.finished&&r.url().includes('/api/')).length))`
	toolsExport = `(async()=>{const l=await import('./models/logs/logs.js');const h=await import('./models/har/har.js');let out='';
const p={setTitle(){},setTotalWork(){},setWorked(){},incrementWorked(){},isCanceled(){return false},done(){},canceled:false};
await h.Writer.Writer.write({write:async t=>{out+=t}},l.NetworkLog.NetworkLog.instance().requests(),{sanitize:false},p);return out})()`
)

// recordedByChromium gives the recording of a page by the exporter of the browser's own tools. Their inner names differ by version: where
// they cannot be driven, the test is skipped loudly.
func recordedByChromium(t *testing.T, address string, requests int) []byte {
	at := chromiumAddress(t)
	page := newPage(t, at, "about:blank")
	tools := newPage(t, at, "devtools://devtools/bundled/inspector.html?ws="+at+"/devtools/page/"+page+"&panel=network")
	ws, err := websocket.Dial("ws://"+at+"/devtools/page/"+tools, "", "http://127.0.0.1")
	require.NoError(t, err)
	ws.MaxPayloadBytes = 64 << 20
	t.Cleanup(func() { ws.Close() })
	r := &remote{ws: ws}
	skip := func(err error) {
		t.Skipf("SKIPPED: REAL BROWSER: the tools of this chromium cannot be driven: %v", err)
	}
	until := func(script string, least int) {
		var last error
		for range 600 {
			text, err := r.eval(script)
			n, _ := strconv.Atoi(text)
			if last = err; err == nil && n >= least {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		skip(fmt.Errorf("nothing came within a minute: %v", last))
	}
	until(toolsReady, 1)
	if _, err := r.eval(fmt.Sprintf(toolsOpen, address)); err != nil {
		skip(err)
	}
	until(toolsCount, requests)
	text, err := r.eval(toolsExport)
	if err != nil {
		skip(err)
	}
	return []byte(text)
}

// A recording by Debian's Chromium is told as one: its failed and slow requests, its bodies, its time; cut off it is none.
func TestARecordingOfARealBrowser(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/lanes/4":
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, `<!doctype `+
				`html><script>fetch('/api/lanes/4/open?token=Zx8w2Lq9Tt41pQ',{method:'POST'});fetch('/api/ok');fetch('/api/slow')</script>`)
		case "/api/ok":
			fmt.Fprint(w, "fine")
		case "/api/slow":
			time.Sleep(Slow + 200*time.Millisecond)
			fmt.Fprint(w, "at last")
		default:
			w.WriteHeader(http.StatusServiceUnavailable)
			fmt.Fprint(w, "busy")
		}
	}))
	defer site.Close()
	begun := time.Now()
	data := recordedByChromium(t, site.URL+"/lanes/4", 3)

	file := filepath.Join(t.TempDir(), "lane.har")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	f, err := Look(context.Background(), file, "lane.har", time.UTC)
	require.NoError(t, err)
	require.Equal(t, "har", f.Kind, f.called())
	rec := f.Recording
	require.Equal(t, "1.2", rec.Version)
	require.GreaterOrEqual(t, rec.Entries, 4)
	require.Positive(t, rec.Bodies)
	var failed []string
	for _, x := range rec.Failed {
		failed = append(failed, fmt.Sprintf("%s %s %d", x.Method, x.Path(), x.Status))
	}
	require.Contains(t, failed, "POST /api/lanes/4/open 503")
	require.Contains(t, failed, "GET /api/slow 200", "it took 3 s")
	require.NotContains(t, strings.Join(failed, " "), "Zx8w2Lq9Tt41pQ")
	w, err := window.New([]window.Span{{From: begun.Add(-time.Hour), To: time.Now().Add(time.Hour)}}, time.UTC)
	require.NoError(t, err)
	v, err := f.Against(context.Background(), ask.Expect{Types: []string{"har"}, Window: true}, w, file)
	require.NoError(t, err)
	require.Empty(t, v.Fails)
	require.Empty(t, v.Remarks)
	_, err = ReadHAR(bytes.NewReader(data[:len(data)*2/3]))
	require.ErrorContains(t, err, "cut off")
}
