package stamp

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestFind(t *testing.T) {
	c := Context{Zone: time.FixedZone("site", 3600), Reference: time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)}
	for _, x := range []struct{ line, want string }{
		{"2026-03-14T06:12:00.123Z INFO up", "2026-03-14T06:12:00.123Z"},
		{"2026-03-14T06:12:00.123456789Z up", "2026-03-14T06:12:00.123456789Z"},
		{"2026-03-14T06:12:00+02:00 up", "2026-03-14T04:12:00Z"},
		{"2026-03-14T06:12:00-0330 up", "2026-03-14T09:42:00Z"},
		{"2026-03-14 06:12:00,250 [main] WARN up", "2026-03-14T05:12:00.25Z"},
		{"2026-03-14 06:12:00 +0100 up", "2026-03-14T05:12:00Z"},
		{"[2026-03-14 06:12:00] up", "2026-03-14T05:12:00Z"},
		{`{"level":"info","time":"2026-03-14T06:12:00Z"}`, "2026-03-14T06:12:00Z"},
		{"INFO | jvm 1 | 2026-03-14 06:12:00 | up", "2026-03-14T05:12:00Z"},
		{`192.0.2.1 - - [14/Mar/2026:06:12:00 +0000] "GET / HTTP/1.1" 200`, "2026-03-14T06:12:00Z"},
		{"Mar 14 06:12:00 gate-1 sshd[1]: up", "2026-03-14T05:12:00Z"},
		{"Mar  4 06:12:00 gate-1 sshd[1]: up", "2026-03-04T05:12:00Z"},
		{"<34>Mar 14 06:12:00 gate-1 su: up", "2026-03-14T05:12:00Z"},
		{"Dec 31 23:59:59 gate-1 up", "2025-12-31T22:59:59Z"}, // not in the future
		{"Feb 29 01:00:00 gate-1 up", "2024-02-29T00:00:00Z"}, // the last leap day
	} {
		got, ok := Find([]byte(x.line), c)
		require.True(t, ok, x.line)
		require.Equal(t, x.want, got.UTC().Format(time.RFC3339Nano), x.line)
	}
	for _, line := range []string{
		"", "no time here", "version 10.2.14.1", "2026-03-14 is a day", "at 06:12:00 on the same day", "2026-13-14T06:12:00Z", "2026-02-30T06:12:00Z",
		"2026-03-14T26:12:00Z", "part 2026-03-14X06:12:00", "x2026-03-14T06:12:00Z", "Mar 44 06:12:00 x", "Foo 14 06:12:00 x", "14/Mar/2026:06:12:00 no offset",
		"Mar 14 06:12", "0000-01-01T00:00:00Z", "SHA256 20260314061200", string(make([]byte, SearchLimit)) + "2026-03-14T06:12:00Z",
	} {
		got, ok := Find([]byte(line), c)
		require.False(t, ok, "%q gave %s", line, got)
	}
	_, ok := Find([]byte("Mar 14 06:12:00 gate-1 up"), Context{})
	require.False(t, ok, "without a reference there is no year")
}

func FuzzFind(f *testing.F) {
	for _, s := range []string{"2026-03-14T06:12:00.1Z", "Mar  4 06:12:00 x", "14/Mar/2026:06:12:00 +0000", "2026-03-14 06:12:00,9 -", "Feb 29 00:00:00 "} {
		f.Add([]byte(s))
	}
	c := Context{Zone: time.UTC, Reference: time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)}
	f.Fuzz(func(t *testing.T, line []byte) {
		if got, ok := Find(line, c); ok {
			require.False(t, got.Year() < 1969 || got.Year() > 2201, "%s from %q", got, line)
		}
	})
}

func BenchmarkFind(b *testing.B) {
	line := []byte("INFO | jvm 1 | gate agent | 2026-03-14 06:12:00.123 | pass OT00030425 accepted zone=2 lane=1 in 87 ms")
	b.SetBytes(int64(len(line)))
	for b.Loop() {
		if _, ok := Find(line, Context{}); !ok {
			b.Fatal("not found")
		}
	}
}
