package standin

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json/v1"
)

// Hub is the web interface of one of the two controllers of a kiosk hub with four nodes. A diagnostic job on either makes three files for
// each node; they are spread over both controllers.
type Hub struct {
	Name     string
	User     string
	Password string
	Fellow   *Hub // the other controller

	// Faults.
	ExpireAfter int    // requests of a session after which it expires
	JobFails    bool   // a job ends with an error
	JobEndless  bool   // a job never ends
	CutAfter    int    // bytes after which a download is cut, once for each file
	Foreign     string // where downloads are redirected to
	HTML        bool   // lists of files come as a page
	Lacks       string // name of a file that is missing

	server   *httptest.Server
	mu       sync.Mutex
	sessions map[string]int
	jobs     []*hubJob
	logins   int
	started  int
	cut      map[string]bool
	deleted  []string
}

type hubJob struct {
	ID      string    `json:"id"`
	State   string    `json:"state"`
	Percent int       `json:"percent"`
	Made    time.Time `json:"made"`
	Note    string    `json:"note"`
	parts   []string
}

// hubNodes are the nodes behind the controllers; hubFiles are those that a job makes of each.
var (
	hubNodes = []string{"kiosk-a", "kiosk-b", "kiosk-c", "kiosk-d"}
	hubFiles = []string{"state.json", "kernel.log", "counters.csv"}
)

// Start begins to listen, with TLS.
func (h *Hub) Start() {
	h.sessions, h.cut = map[string]int{}, map[string]bool{}
	h.server = httptest.NewUnstartedServer(http.HandlerFunc(h.serve))
	h.server.Config.ErrorLog = nil
	h.server.StartTLS()
}

// Close stops it.
func (h *Hub) Close() { h.server.Close() }

// Address is that of the interface.
func (h *Hub) Address() string { return h.server.URL }

// Fingerprint is the SHA-256 of the certificate.
func (h *Hub) Fingerprint() string {
	sum := sha256.Sum256(h.server.Certificate().Raw)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// Change changes the hub while it runs.
func (h *Hub) Change(change func(*Hub)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	change(h)
}

// Started says how many jobs were begun, and Logins how many logins there were.
func (h *Hub) Started() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.started
}

// Logins says how many logins there were.
func (h *Hub) Logins() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.logins
}

// Earlier adds a job that was done before.
func (h *Hub) Earlier(id string, age time.Duration) {
	h.Change(func(h *Hub) {
		h.jobs = append(h.jobs, &hubJob{ID: id, State: "done", Percent: 100, Made: time.Now().Add(-age).UTC(), Note: "nightly"})
	})
}

const hubLoginPage = `<!DOCTYPE html><html><body><h1>Kiosk hub</h1><form action="/session" method="post">
<input type="hidden" name="proof" value="%s"><input name="user"><input type="password" name="word"><button>In</button></form></body></html>`

func (h *Hub) serve(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path == "/session" && r.Method == http.MethodGet:
		h.loginPage(w)
	case r.URL.Path == "/session":
		h.login(w, r)
	case !h.inside(r):
		http.Redirect(w, r, "/session", http.StatusFound)
	default:
		h.page(w, r)
	}
}

func (h *Hub) loginPage(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "text/html")
	http.SetCookie(w, &http.Cookie{Name: "before", Value: "1", Path: "/"})
	fmt.Fprintf(w, hubLoginPage, "p-"+h.Name)
}

func (h *Hub) login(w http.ResponseWriter, r *http.Request) {
	if r.PostFormValue("proof") != "p-"+h.Name || r.PostFormValue("user") != h.User || r.PostFormValue("word") != h.Password {
		h.loginPage(w)
		return
	}
	id := rand.Text()
	h.Change(func(h *Hub) { h.sessions[id] = 0; h.logins++ })
	http.SetCookie(w, &http.Cookie{Name: "hub", Value: id, Path: "/", HttpOnly: true})
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// inside reports whether a request has a session that has not expired.
func (h *Hub) inside(r *http.Request) bool {
	c, err := r.Cookie("hub")
	if err != nil {
		return false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	n, ok := h.sessions[c.Value]
	if !ok || h.ExpireAfter > 0 && n >= h.ExpireAfter {
		delete(h.sessions, c.Value)
		return false
	}
	h.sessions[c.Value]++
	return true
}

func (h *Hub) page(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(strings.Trim(r.URL.EscapedPath(), "/"), "/")
	for i := range parts {
		parts[i], _ = url.PathUnescape(parts[i]) // what is none is not found below
	}
	switch {
	case r.URL.Path == "/":
		w.Header().Set("Content-Type", "text/html")
		_, _ = io.WriteString(w, "<!DOCTYPE html><html><body>Kiosk hub "+h.Name+"</body></html>")
	case r.URL.Path == "/api/jobs" && r.Method == http.MethodPost:
		h.begin(w, r)
	case r.URL.Path == "/api/jobs":
		h.list(w)
	case len(parts) == 3 && parts[1] == "jobs":
		h.look(w, parts[2])
	case r.URL.Path == "/api/nodes":
		hubAnswer(w, map[string]any{"nodes": hubNodes})
	case len(parts) == 4 && parts[1] == "jobs" && parts[3] == "files":
		h.files(w, parts[2], r.URL.Query().Get("node"))
	case len(parts) == 5 && parts[0] == "files":
		h.file(w, r, parts[2], parts[3]+"/"+parts[4])
	case r.URL.Path == "/api/passes.csv":
		h.passes(w, r)
	default:
		http.NotFound(w, r)
	}
}

func hubAnswer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	data, _ := json.Marshal(v) // plain values always marshal
	_, _ = w.Write(data)
}

func (h *Hub) begin(w http.ResponseWriter, r *http.Request) {
	var q struct {
		Parts []string `json:"parts"`
		Note  string   `json:"note"`
	}
	data, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if json.Unmarshal(data, &q) != nil || len(q.Parts) == 0 {
		http.Error(w, "no parts", http.StatusBadRequest)
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.started++
	j := &hubJob{ID: fmt.Sprintf("job/%d", 40+h.started), State: "running", Made: time.Now().UTC(), Note: q.Note, parts: q.Parts}
	h.jobs = append(h.jobs, j)
	w.WriteHeader(http.StatusCreated)
	hubAnswer(w, j)
}

func (h *Hub) list(w http.ResponseWriter) {
	h.mu.Lock()
	defer h.mu.Unlock()
	hubAnswer(w, map[string]any{"jobs": h.jobs})
}

// find gives a job by its name, which may be one that began on the other controller.
func (h *Hub) find(id string) *hubJob {
	h.mu.Lock()
	i := slices.IndexFunc(h.jobs, func(j *hubJob) bool { return j.ID == id })
	var found *hubJob
	if i >= 0 {
		found = h.jobs[i]
	}
	h.mu.Unlock()
	return found
}

func (h *Hub) look(w http.ResponseWriter, id string) {
	j := h.find(id)
	if j == nil {
		http.Error(w, "no such job", http.StatusNotFound)
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if j.State == "running" && !h.JobEndless {
		if j.Percent = min(j.Percent+25, 100); j.Percent == 100 {
			j.State = map[bool]string{true: "error", false: "done"}[h.JobFails]
		}
	}
	hubAnswer(w, j)
}

// files lists those of a node that are on this controller: the first two on one, the third on the other.
func (h *Hub) files(w http.ResponseWriter, id, node string) {
	if h.HTML {
		w.Header().Set("Content-Type", "text/html")
		_, _ = io.WriteString(w, "<!DOCTYPE html><html><body>under maintenance</body></html>")
		return
	}
	type file struct {
		Href string `json:"href"`
		Name string `json:"name"`
		Size int    `json:"size"`
		Sum  string `json:"sha256"`
	}
	list := []file{}
	for i, name := range hubFiles {
		here := strings.HasSuffix(h.Name, "a") == (i < 2)
		if !here || node+"/"+name == h.Lacks || !slices.Contains(hubNodes, node) {
			continue
		}
		text := hubText(node, name)
		sum := sha256.Sum256([]byte(text))
		list = append(list, file{"/files/" + strings.ReplaceAll(id, "/", "-") + "/" + h.Name + "/" + node + "/" + name, name, len(text),
			hex.EncodeToString(sum[:])})
	}
	hubAnswer(w, map[string]any{"files": list})
}

func (h *Hub) file(w http.ResponseWriter, r *http.Request, _, name string) {
	node, base, _ := strings.Cut(name, "/")
	if r.Method == http.MethodDelete {
		h.Change(func(h *Hub) { h.deleted = append(h.deleted, name) })
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if h.Foreign != "" {
		http.Redirect(w, r, h.Foreign, http.StatusFound)
		return
	}
	text := hubText(node, base)
	h.mu.Lock()
	cut := h.CutAfter > 0 && h.CutAfter < len(text) && !h.cut[name]
	h.cut[name] = true
	h.mu.Unlock()
	w.Header().Set("Content-Disposition", "attachment; filename="+strconv.Quote(base))
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Etag", `"1"`)
	if cut { // the connection breaks in the middle
		w.Header().Set("Content-Length", strconv.Itoa(len(text)))
		_, _ = io.WriteString(w, text[:h.CutAfter])
		panic(http.ErrAbortHandler)
	}
	http.ServeContent(w, r, "", FaultAt, strings.NewReader(text))
}

// hubText is what a file of a node holds.
func hubText(node, name string) string {
	var b strings.Builder
	switch name {
	case "state.json":
		fmt.Fprintf(&b, `{"node": %q, "release": "3.9.1", "temperature": 39, "session_token": "tok-%s-Kelp-4471-Anchor"}`, node, node)
	case "kernel.log":
		for i := range 900 {
			fmt.Fprintf(&b, "%s %s kernel: frame %d from 192.0.2.%d\n", FaultAt.Add(time.Duration(i-450)*20*time.Second).UTC().
				Format("2006-01-02T15:04:05Z"), node, i, i%200+1)
		}
	case "counters.csv":
		b.WriteString("time,passes,rejected\n")
		for i := range 200 {
			fmt.Fprintf(&b, "%s,%d,%d\n", FaultAt.Add(time.Duration(i-100)*time.Minute).UTC().Format("2006-01-02T15:04:05Z"), i*3, i%5)
		}
	}
	return b.String()
}

// hubPage is how many records a page of the export has.
const hubPage = 100

// passes exports records of a span of time, page by page, with the link to the next in a header.
func (h *Hub) passes(w http.ResponseWriter, r *http.Request) {
	from, err1 := time.Parse(time.RFC3339, r.URL.Query().Get("from"))
	to, err2 := time.Parse(time.RFC3339, r.URL.Query().Get("to"))
	if err1 != nil || err2 != nil {
		http.Error(w, "from and to are wanted", http.StatusBadRequest)
		return
	}
	start, _ := strconv.Atoi(r.URL.Query().Get("start"))
	w.Header().Set("Content-Type", "text/csv")
	var lines []string
	for at, i := from, 0; at.Before(to); at, i = at.Add(15*time.Second), i+1 {
		lines = append(lines, fmt.Sprintf("%s,%s,%s", at.UTC().Format(time.RFC3339), hubNodes[i%4], []string{"accepted", "rejected"}[i%2]))
	}
	end := min(start+hubPage, len(lines))
	if end < len(lines) {
		q := r.URL.Query()
		q.Set("start", strconv.Itoa(end))
		w.Header().Set("Link", "</api/passes.csv?"+q.Encode()+`>; rel="next"`)
	}
	_, _ = io.WriteString(w, "time,node,result\n"+strings.Join(lines[min(start, end):end], "\n")+"\n")
}

// kioskHub gives the two controllers of the hub; one node lacks a file.
func kioskHub() (a, b *Hub) {
	a = &Hub{Name: "hub-a", User: "svc", Password: hubPassword, ExpireAfter: 9}
	b = &Hub{Name: "hub-b", User: "svc", Password: hubPassword, Lacks: "kiosk-c/counters.csv"}
	a.Fellow, b.Fellow = b, a
	a.Start()
	b.Start()
	a.Earlier("job/7", 50*time.Hour)
	a.Earlier("job/31", 40*time.Hour)
	return a, b
}
