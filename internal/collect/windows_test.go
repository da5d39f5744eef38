package collect

import (
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
	"envask/internal/site"
)

// windowsBox answers as a Windows system behind OpenSSH does, with carriage returns.
type windowsBox struct {
	clocked
	ahead time.Duration
	leap  string
	zone  string
}

func (windowsBox) Windows() bool { return true }

func (b windowsBox) Run(_ context.Context, command string, stdout, _ io.Writer) (int, error) {
	switch command {
	case reach.PowerShell(windowsClock):
		t := time.Now().Add(b.ahead)
		fmt.Fprintf(stdout, "%d.%09d\r\nLeap Indicator: %s\r\nStratum: 3\r\n", t.Unix(), t.Nanosecond()/100*100, b.leap)
	case "tzutil.exe /g":
		fmt.Fprint(stdout, b.zone)
	case reach.PowerShell(windowsVitals):
		fmt.Fprint(stdout, strings.ReplaceAll(windowsSays, "\n", "\r\n"))
	default:
		return 1, nil
	}
	return 0, nil
}

// windowsSays is what the script prints on a made-up gate controller.
const windowsSays = `
== release ==
PRETTY_NAME=Microsoft Windows Server 2022 Standard

== kernel ==
Windows 10.0.20348 64-bit

== name ==
GATE-CTL-3

== uptime ==
1036800

== processors ==
4

== memory ==
MemTotal: 8386100 kB
MemAvailable: 3145728 kB
SwapTotal: 2097152 kB
SwapFree: 2000000 kB

== disks ==
C: 125829120 83886080 41943040 0% /C:
D: 52428800 52000000 428800 0% /D:

== addresses ==
inet 192.0.2.43/24
inet6 fe80::1c2d/64
inet 127.0.0.1/8

== locale ==
LANG=pt-PT

== top ==
%CPU RSS COMMAND
93 524288 gate-agent
2 40960 svchost#3

== rpm ==
KB5031364 Security_Update 2026-03-11

== end ==
`

func TestWindowsTellsItsClockZoneAndState(t *testing.T) {
	b := windowsBox{clocked: clocked{files: fstest.MapFS{}}, ahead: 90 * time.Second, leap: "0(no warning)", zone: "GMT Standard Time\r\n"}
	c := readClock(context.Background(), &site.System{Name: "ctl"}, &site.Site{}, b)
	require.True(t, c.Measured, c.How)
	require.InDelta(t, 90, c.Offset.Seconds(), 1)
	require.Equal(t, "yes", c.Synchronised)
	require.Equal(t, "Europe/London", c.Zone)
	require.Equal(t, zoneOwn, c.ZoneFrom)
	b.leap, b.zone = "3(not synchronized)", "A Zone Nobody Knows"
	c = readClock(context.Background(), &site.System{Name: "ctl"}, &site.Site{}, b)
	require.Equal(t, "no", c.Synchronised)
	require.Equal(t, zoneAssumed, c.ZoneFrom, "a zone that is not known is not made up")

	out, err := vitalsOf(context.Background(), b, true)
	require.NoError(t, err)
	var v Vitals
	v.Parse(out)
	require.Equal(t, "Microsoft Windows Server 2022 Standard", v.OS)
	require.Equal(t, "Windows 10.0.20348 64-bit", v.Kernel)
	require.Equal(t, "GATE-CTL-3", v.Host)
	require.EqualValues(t, 12*24*3600, v.Uptime)
	require.Equal(t, 4, v.Processors)
	require.EqualValues(t, 3145728<<10, v.Memory.Available)
	require.Equal(t, []Disk{{"/C:", 125829120 << 10, 41943040 << 10}, {"/D:", 52428800 << 10, 428800 << 10}}, v.Disks)
	require.Equal(t, []string{"192.0.2.43/24", "fe80::1c2d/64"}, v.Addresses)
	require.Equal(t, "pt-PT", v.Locale)
	require.Equal(t, "gate-agent", v.Top[0].Name)
	require.EqualValues(t, 93, v.Top[0].CPU)
	require.Equal(t, []string{"KB5031364 Security_Update 2026-03-11"}, v.Packages)
	require.Equal(t, []string{"load"}, v.Lacks, "Windows keeps none")
	require.Less(t, len(reach.PowerShell(windowsVitals)), 8000, "cmd.exe takes 8191 characters")
}
