//go:build !windows

package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"envask/internal/standin"
)

// hubFaults change a hub before it is reached.
var hubFaults = map[string]func(*standin.Hub){
	"fails":   func(h *standin.Hub) { h.JobFails = true },
	"endless": func(h *standin.Hub) { h.JobEndless = true },
	"cut":     func(h *standin.Hub) { h.CutAfter = 20_000 },
	"foreign": func(h *standin.Hub) { h.Foreign = "https://files.merrowick.example/x" },
	"html":    func(h *standin.Hub) { h.HTML = true },
	"expires": func(h *standin.Hub) { h.ExpireAfter = 3 },
	"holds":   func(h *standin.Hub) { h.Earlier("job/31", 2*time.Hour); h.Earlier("job/30", 20*time.Hour) },
}

func startHub(dir string, which ...string) (*standin.Hub, error) {
	h := &standin.Hub{Name: "hub-a", User: "svc", Password: "mole-Crane-55"}
	h.Start()
	for _, f := range which {
		hubFaults[f](h)
	}
	h.Earlier("job/7", 50*time.Hour)
	for name, text := range map[string]string{"login": h.Password, "wrong": "not-the-one-0"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	return h, nil
}

// hubAt puts the hub's address and fingerprint into a systems file.
func hubAt(h *standin.Hub, text string) string {
	return strings.NewReplacer("https://192.0.2.51", h.Address(), "env:HUB_PASSWORD", "file:login",
		"sha256:0000000000000000000000000000000000000000000000000000000000000051", h.Fingerprint()).Replace(text)
}

// cmdHub starts a hub with a web interface and opens the case with systems.yaml and ask.yaml: hub [fault…]
func cmdHub(ts *testscript.TestScript, neg bool, args []string) {
	h, err := startHub(ts.MkAbs("."), args...)
	ts.Check(err)
	ts.Defer(h.Close)
	ts.Check(os.WriteFile(ts.MkAbs("systems.yaml"), []byte(hubAt(h, ts.ReadFile("systems.yaml"))), 0o600))
	cmdOpen(ts, false, []string{"local"})
}

// The worked example of the page does what the page says.
func TestExampleOfWeb(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	h, err := startHub(dir)
	require.NoError(t, err)
	defer h.Close()
	b := blocks(t, "web.md")
	run := openDevices(t, dir, hubAt(h, b[0]), b[1])
	said, code := run("probe")
	require.Zero(t, code, said)
	said, code = run("collect", "--dry-run")
	require.Zero(t, code, said)
	require.Contains(t, said, "job/7")
	said, code = run("collect")
	require.Zero(t, code, said)
	raw := filepath.Join(dir, "home", "cases", "26031407", "rounds", "r1", "raw", "hub-a", "web")
	for _, name := range []string{"hub-report/kiosk-a/kernel.log", "hub-report/kiosk-d/state.json", "hub-passes/passes.csv"} {
		require.FileExists(t, filepath.Join(raw, filepath.FromSlash(name)))
	}
	require.Equal(t, 1, h.Started())
	said, code = run("collect")
	require.Zero(t, code, said)
	require.Equal(t, 1, h.Started(), "the job of before is taken again")
	said, code = run("pack")
	require.Zero(t, code, said)
}
