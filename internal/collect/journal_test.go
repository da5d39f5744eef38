//go:build !windows

package collect

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"

	"envask/internal/round"
	"envask/internal/window"
)

// exported is a journal in export form, an entry a minute from 05:30 UTC on.
func exported(entries int) []byte {
	var b bytes.Buffer
	for i := range entries {
		at := six.Add(-30*time.Minute + time.Duration(i)*time.Minute)
		unit, priority := "gate-agent.service", 6
		if i%3 == 0 {
			unit, priority = "fare.service", 4
		}
		fmt.Fprintf(&b, "__CURSOR=s=aa;i=%x\n__REALTIME_TIMESTAMP=%d\n__MONOTONIC_TIMESTAMP=%d\n_BOOT_ID=0123456789abcdef0123456789abcdef\nPRIORITY=%d\n_MACHINE_ID=fedcba9876543210fedcba9876543210\n", i+1, at.UnixMicro(), 1_000_000*i, priority)
		fmt.Fprintf(&b, "_HOSTNAME=gate-2\nSYSLOG_IDENTIFIER=agent\n_PID=%d\n_SYSTEMD_UNIT=%s\n", 100+i, unit)
		if i == 40 {
			text := "two\nlines"
			b.WriteString("MESSAGE\n")
			_ = binary.Write(&b, binary.LittleEndian, uint64(len(text)))
			b.WriteString(text + "\n\n")
			continue
		}
		fmt.Fprintf(&b, "MESSAGE=pass %d accepted\n\n", i)
	}
	return b.Bytes()
}

func TestJournalText(t *testing.T) {
	lisbon, err := time.LoadLocation("Asia/Tokyo")
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, JournalText(bytes.NewReader(exported(42)), &out, lisbon))
	lines := strings.Split(out.String(), "\n")
	require.Equal(t, "2026-03-14T14:30:00.000000+09:00 gate-2 agent[100] <warning>: pass 0 accepted", lines[0])
	require.Equal(t, "2026-03-14T14:31:00.000000+09:00 gate-2 agent[101]: pass 1 accepted", lines[1])
	require.Equal(t, "2026-03-14T15:10:00.000000+09:00 gate-2 agent[140]: two", lines[40])
	require.Equal(t, "    lines", lines[41])
	for name, text := range map[string]string{
		"ends within a field": "MESSAGE\n\x05\x00\x00\x00\x00\x00\x00\x00ab", "a field beyond all bounds": "MESSAGE\n\xff\xff\xff\xff\xff\xff\xff\xffab", "no length": "MESSAGE\n\x01",
	} {
		out.Reset()
		require.ErrorContains(t, JournalText(strings.NewReader("__REALTIME_TIMESTAMP=1773468720000000\nMESSAGE=good\n\n"+text), &out, time.UTC), "the journal ends within", name)
		require.Contains(t, out.String(), "2026-03-14T06:12:00.000000Z  : good", "what is whole is there")
	}
}

func FuzzJournalText(f *testing.F) {
	f.Add(exported(3))
	f.Add([]byte("MESSAGE\n\x05\x00\x00\x00\x00\x00\x00\x00abcde\n\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var out bytes.Buffer
		_ = JournalText(bytes.NewReader(data), &out, time.UTC)
		if out.Len() > 40*len(data)+1000 {
			t.Fatalf("%d bytes became %d", len(data), out.Len())
		}
	})
}

// A real journal, made by systemd's own program, is read by journalctl for the window alone.
func TestARealJournal(t *testing.T) {
	remote := "/lib/systemd/systemd-journal-remote"
	if _, err := os.Stat(remote); err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "systemd-journal-remote should have been installed")
		t.Skip("SKIPPED: REAL SERVER: there is no systemd-journal-remote here (make test-servers installs it)")
	}
	f := newField(t)
	folder := filepath.Join(f.dir, "journal")
	require.NoError(t, os.Mkdir(folder, 0o755))
	source := filepath.Join(f.dir, "export")
	require.NoError(t, os.WriteFile(source, exported(120), 0o600))
	out, err := exec.Command(remote, "-o", filepath.Join(folder, "gate.journal"), source).CombinedOutput()
	require.NoError(t, err, string(out))
	f.window, err = window.New([]window.Span{{From: six, To: six.Add(9 * time.Minute)}}, time.UTC)
	require.NoError(t, err)
	r, err := f.collect(context.Background(), `  - {id: all, journal: all, folder: `+folder+`}
  - {id: fare, journal: [fare.service, other.service], priority: warning, folder: `+folder+`}
  - {id: none, journal: sshd.service, folder: `+folder+`}
  - {id: nowhere, journal: all, folder: /no/such/folder}
`)
	require.NoError(t, err)
	read := func(name string) string {
		data, err := os.ReadFile(filepath.Join(r.RawDir(), "desk", "journal", name))
		require.NoError(t, err)
		return string(data)
	}
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	require.Equal(t, 10, strings.Count(read("all.txt"), "\n"), "nine minutes, both ends")
	require.Contains(t, read("all.txt"), "2026-03-14T06:00:00.000000Z gate-2 agent[130] <warning>: pass 30 accepted\n")
	require.Contains(t, read("all.txt"), "\n2026-03-14T06:09:00.000000Z ")
	require.Contains(t, read("all.export"), "\nMESSAGE=pass 31 accepted\n")
	require.Equal(t, 4, strings.Count(read("fare.txt"), "\n"))
	require.Equal(t, round.Empty, r.Coverage[2].State, r.Coverage[2].Reason)
	require.Equal(t, round.Failed, r.Coverage[3].State)
	require.Contains(t, r.Coverage[3].Reason, "No such file or directory")
}

// events are as wevtutil writes them.
const events = `<Events><Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider Name='Service Control Manager' Guid='{555908d1-a6d7-4695-8e1e-26931d2012f4}'/><EventID Qualifiers='49152'>7034</EventID><Version>0</Version><Level>2</Level><Task>0</Task><TimeCreated SystemTime='2026-03-14T06:12:00.1234567Z'/><EventRecordID>8812</EventRecordID><Channel>System</Channel><Computer>kiosk-1</Computer><Security/></System><EventData><Data Name='param1'>Boarding kiosk &amp; printer</Data><Data Name='param2'>3</Data></EventData></Event>
<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider Name='Kiosk'/><EventID>12</EventID><Level>4</Level><TimeCreated SystemTime='2026-03-14T06:13:00.0000000Z'/><Computer>kiosk-1</Computer></System><EventData><Data>ready</Data></EventData><RenderingInfo Culture='en-GB'><Message>The kiosk is ready.&#13;
Printer found.</Message></RenderingInfo></Event></Events>`

func TestEventsText(t *testing.T) {
	want := "2026-03-14T06:12:00.123Z kiosk-1 Service Control Manager 7034 <error>: param1=Boarding kiosk & printer, param2=3\n" +
		"2026-03-14T06:13:00.000Z kiosk-1 Kiosk 12: The kiosk is ready.\n    Printer found.\n"
	var out bytes.Buffer
	require.NoError(t, EventsText(strings.NewReader(events), &out, time.UTC))
	require.Equal(t, want, out.String())
	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(events)
	require.NoError(t, err)
	out.Reset()
	require.NoError(t, EventsText(strings.NewReader(wide), &out, time.UTC))
	require.Equal(t, want, out.String())
	out.Reset()
	require.ErrorContains(t, EventsText(strings.NewReader(events[:800]), &out, time.UTC), "the events end early")
	require.Contains(t, out.String(), "7034", "what is whole is there")
}

func FuzzEventsText(f *testing.F) {
	f.Add([]byte(events))
	f.Add([]byte("\xff\xfe<\x00E\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var out bytes.Buffer
		_ = EventsText(bytes.NewReader(data), &out, time.UTC)
	})
}

// The command line of an event log chooses by time on the system.
func TestEventsOfASystem(t *testing.T) {
	f := newField(t)
	bin := t.TempDir()
	script := "#!/bin/sh\n[ \"$1 $2\" = 'qe System' ] || { echo 'The specified channel could not be found.' >&2; exit 15007; }\necho \"$3\" > " + f.dir + "/query\ncat " + f.dir + "/events.xml\n"
	require.NoError(t, os.WriteFile(filepath.Join(bin, "wevtutil"), []byte(script), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(f.dir, "events.xml"), []byte(events), 0o600))
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	var err error
	f.window, err = window.New([]window.Span{{From: six, To: six.Add(time.Hour)}}, time.UTC)
	require.NoError(t, err)
	r, err := f.collect(context.Background(), "  - {id: log, events: [System]}\n  - {id: other, events: [No Such Log]}\n")
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	query, err := os.ReadFile(filepath.Join(f.dir, "query"))
	require.NoError(t, err)
	require.Equal(t, "/q:*[System[TimeCreated[(@SystemTime>='2026-03-14T06:00:00.000Z' and @SystemTime<='2026-03-14T07:00:00.000Z')]]]\n", string(query))
	text, err := os.ReadFile(filepath.Join(r.RawDir(), "desk", "events", "log", "System.txt"))
	require.NoError(t, err)
	require.Contains(t, string(text), "kiosk-1 Kiosk 12: The kiosk is ready.")
	require.Equal(t, round.Failed, r.Coverage[1].State)
	require.Contains(t, r.Coverage[1].Reason, "The specified channel could not be found.")
}

// A journal of one endless line, and an event without end, are read in little memory.
func TestEndlessJournals(t *testing.T) {
	for name, convert := range map[string]func(in io.Reader, out io.Writer, zone *time.Location) error{"journal": JournalText, "events": EventsText} {
		begin := map[string]string{"journal": "MESSAGE=", "events": "<Events><Event><System><Computer>"}[name]
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		_ = convert(io.MultiReader(strings.NewReader(begin), io.LimitReader(endlessly{}, 1<<30)), io.Discard, time.UTC)
		runtime.ReadMemStats(&after)
		require.Less(t, (after.HeapSys-min(after.HeapSys, before.HeapSys))>>20, uint64(100), name)
	}
}

type endlessly struct{}

func (endlessly) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = 'x'
	}
	return len(b), nil
}

func utf16(s string) string {
	var b strings.Builder
	b.WriteString("\xff\xfe")
	for _, r := range s {
		b.WriteByte(byte(r))
		b.WriteByte(byte(r >> 8))
	}
	return b.String()
}
