package collect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
)

// clocked is a system with files and a date command of its own.
type clocked struct {
	files fstest.MapFS
	run   func(command string, out io.Writer) (int, error)
}

func (c clocked) FS() reach.FS { return links{c.files} }
func (c clocked) Close() error { return nil }
func (c clocked) Run(_ context.Context, command string, stdout, _ io.Writer) (int, error) {
	return c.run(command, stdout)
}

// ahead answers like a system whose clock is ahead of ours.
func ahead(by time.Duration, form string, more string) func(string, io.Writer) (int, error) {
	return func(command string, out io.Writer) (int, error) {
		now := time.Now().Add(by)
		text := now.UTC().Format(time.RFC1123)
		switch form {
		case "ns":
			text = fmt.Sprintf("%d.%09d", now.Unix(), now.Nanosecond())
		case "busybox":
			text = fmt.Sprintf("%d.%%N", now.Unix())
		}
		_, err := io.WriteString(out, text+"\n")
		if strings.Contains(command, "timedatectl") {
			_, err = io.WriteString(out, more)
		}
		return 0, err
	}
}

func TestReadingAClock(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	remote := &site.System{Name: "gate-2", Ways: []string{"ssh"}}
	none := fstest.MapFS{}
	for _, c := range []struct {
		name     string
		system   *site.System
		target   reach.System
		measured bool
		offset   time.Duration
		within   time.Duration
		sync     string
		how      string
	}{
		{"ahead", remote, clocked{none, ahead(90*time.Second, "ns", "no\n")}, true, 90 * time.Second, time.Second, "no",
			"measured over the connection"},
		{"behind", remote, clocked{none, ahead(-time.Hour, "ns", "yes\n")}, true, -time.Hour, time.Second, "yes",
			"measured over the connection"},
		{"seconds only", remote, clocked{none, ahead(90*time.Second, "busybox", "")}, true, 90 * time.Second, 2 * time.Second, "",
			"measured over the connection"},
		{"no such date", remote, clocked{none, ahead(0, "odd", "")}, false, 0, 0, "", "does not tell the seconds"},
		{"no commands", remote, clocked{none, func(string, io.Writer) (int, error) { return -1, errors.New("not allowed") }},
			false, 0, 0, "", "not allowed"},
		{"our own", &site.System{Name: "desk", Ways: []string{"local"}}, reach.NewLocal(t.TempDir()), true, 0, 0, "", "it is our own"},
	} {
		k := readClock(context.Background(), c.system, &site.Site{Zone: lisbon}, c.target)
		require.Equal(t, c.measured, k.Measured, c.name)
		require.InDelta(t, c.offset.Seconds(), k.Offset.Seconds(), c.within.Seconds()+0.001, c.name)
		require.Equal(t, c.sync, k.Synchronised, c.name)
		require.Contains(t, k.How, c.how, c.name)
	}
}

// The zone of a system's logs: the systems file, the system's own setting in three forms, the site, an assumption.
func TestZoneOfASystem(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	tokyo, err := time.LoadLocation("Asia/Tokyo")
	require.NoError(t, err)
	zoneFile, err := os.ReadFile("/usr/share/zoneinfo/Asia/Tokyo")
	link := fstest.MapFS{"etc/localtime": {Mode: fs.ModeSymlink, Data: []byte("../usr/share/zoneinfo/America/New_York")}}
	name := fstest.MapFS{"etc/timezone": {Data: []byte("America/New_York\n")}}
	for _, c := range []struct {
		name       string
		system     *site.System
		site       *site.Site
		files      fstest.MapFS
		zone, from string
	}{
		{"the systems file first", &site.System{Ways: []string{"ssh"}, Zone: tokyo}, &site.Site{Zone: lisbon}, link,
			"Asia/Tokyo", zoneSystem},
		{"a link", &site.System{Ways: []string{"ssh"}}, &site.Site{Zone: lisbon}, link, "America/New_York", zoneOwn},
		{"a name in a file", &site.System{Ways: []string{"ssh"}}, &site.Site{Zone: lisbon}, name, "America/New_York", zoneOwn},
		{"neither", &site.System{Ways: []string{"ssh"}}, &site.Site{Zone: lisbon},
			fstest.MapFS{"etc/timezone": {Data: []byte("No/Such\n")}}, "Europe/Lisbon", zoneSite},
		{"nothing at all", &site.System{Ways: []string{"ssh"}}, &site.Site{}, fstest.MapFS{}, "UTC", zoneAssumed},
	} {
		k := &round.Clock{}
		setZone(context.Background(), k, c.system, c.site, clocked{files: c.files})
		require.Equal(t, []string{c.zone, c.from}, []string{k.Zone, k.ZoneFrom}, c.name)
		again := &round.Clock{Zone: k.Zone, ZoneFrom: k.ZoneFrom}
		restoreZone(context.Background(), again, c.system, c.site, clocked{files: c.files})
		require.Equal(t, c.zone, again.Location.String(), c.name)
	}
	if err == nil { // the zone's own file, without a name
		k := &round.Clock{}
		setZone(context.Background(), k, &site.System{Ways: []string{"ssh"}}, &site.Site{},
			clocked{files: fstest.MapFS{"etc/localtime": {Data: zoneFile}}})
		_, offset := six.In(k.Location).Zone()
		require.Equal(t, 9*3600, offset)
		require.Equal(t, zoneOwn, k.ZoneFrom)
	}
}

// Stamps that count from the start of the system are dated by the system's own record of it.
func TestBootTimeOfASystem(t *testing.T) {
	for text, want := range map[string]int64{"cpu 1 2\nbtime 1773468720\nprocesses 7\n": 1773468720, "cpu 1 2\n": 0, "cpu\nbtime x\n": 0} {
		w := &work{target: clocked{files: fstest.MapFS{"proc/stat": {Data: []byte(text)}}}}
		got := int64(0)
		if at := w.bootTime(); !at.IsZero() {
			got = at.Unix()
		}
		require.Equal(t, want, got, text)
	}
	h := newHost(t)
	h.write("proc/stat", "cpu\nbtime 1773468000\n", six)
	h.write("log/dmesg", "[    0.000000] start\n[  720.500000] link up\n[ 9720.000000] late\n", six)
	got, _, round := h.collect("files: [/log/*]")
	require.Equal(t, "[    0.000000] start\n[  720.500000] link up\n", h.text(round, got["/log/dmesg"]), "%+v", got["/log/dmesg"])
}
