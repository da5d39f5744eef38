//go:build !windows

package collect

import (
	"bytes"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/window"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Exported event logs: XML is cut to the window event by event, whatever stands around it; the binary form goes as it is.
func TestExportedEvents(t *testing.T) {
	one := func(at string) string {
		return "<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider Name='Kiosk'/><EventID>12</EventID><TimeCreated SystemTime='" + at + "'/><Computer>kiosk-1</Computer></System><EventData><Data>at &amp; " + at + "</Data></EventData></Event>"
	}
	text := "<?xml version=\"1.0\" encoding=\"utf-8\" standalone=\"yes\"?>\r\n<Events>" + one("2026-03-14T06:00:00Z") + "\r\n" + one("2026-03-14T06:12:00.5Z") + one("2026-03-14T06:13:00Z") + one("2026-03-14T07:00:00Z") + "</Events>"
	w, err := window.New([]window.Span{{From: six.Add(10 * time.Minute), To: six.Add(20 * time.Minute)}}, time.UTC)
	require.NoError(t, err)
	for name, in := range map[string]string{"utf-8": text, "utf-16": utf16(text), "cut off": text[:len(text)-len("</Events>")-100]} {
		var out bytes.Buffer
		kept, all, err := CutEvents(strings.NewReader(in), &out, w)
		require.Equal(t, 2, kept, name)
		require.Equal(t, map[bool]int{false: 4, true: 3}[name == "cut off"], all, name)
		require.Equal(t, name == "cut off", err != nil, name)
		require.Equal(t, "<Events>\n"+one("2026-03-14T06:12:00.5Z")+"\n"+one("2026-03-14T06:13:00Z")+"\n</Events>\n", out.String(), name)
	}

	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("export/System.xml", text)
	write("C/Windows/System32/winevt/Logs/Application.evtx", "ElfFile\x00binary")
	write("C/gate/version.txt", "version 4.2\n")
	f := newField(t)
	f.window = w
	f.open = func() (reach.System, error) { return reach.NewFolder(dir), nil }
	r, err := f.collect(t.Context(), "  - {id: logs, events: [System, Application]}\n  - {id: none, events: Security}\n  - {id: v, files: 'C:\\gate\\*.txt', cut: none, needs: [{file: 'C:\\gate\\version.txt', like: 'version (.*)', least: 4.1}, {file: '/C:/gate/version.txt', like: 'version (.*)', least: 4.1}]}\n")
	require.NoError(t, err)
	require.Equal(t, []round.State{round.Taken, round.Missing, round.Taken}, []round.State{r.Coverage[0].State, r.Coverage[1].State, r.Coverage[2].State}, "%v", r.Coverage)
	require.Empty(t, r.Coverage[2].Unmet)
	data, err := os.ReadFile(filepath.Join(r.RawDir(), "desk/events/logs/System.txt"))
	require.NoError(t, err)
	require.Equal(t, 2, strings.Count(string(data), "\n"))
	require.FileExists(t, filepath.Join(r.RawDir(), "desk/events/logs/Application.evtx"))
}
