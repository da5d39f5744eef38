//go:build !windows

package collect

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
)

// said is what a router with BusyBox answers to the script.
const said = `
== release ==
NAME="OpenPier"
PRETTY_NAME="OpenPier 23.05"

== kernel ==
Linux 5.15.134 mips

== name ==
gate-2

== uptime ==
1036800.21 99.1

== load ==
3.87 3.90 3.71 2/141 22871

== processors ==
2

== memory ==
MemTotal:         126000 kB
MemFree:           20000 kB
Buffers:            1000 kB
Cached:             9000 kB

== disks ==
Filesystem           1024-blocks    Used Available Use% Mounted on
/dev/root                 10000     9800       200  98% /rom
tmpfs                     60000      100     59900   0% /tmp
/dev/mtdblock 6           20000    15000      5000  75% /overlay

== addresses ==
1: lo    inet 127.0.0.1/8 scope host lo
2: eth0    inet 192.0.2.12/24 brd 192.0.2.255 scope global eth0
2: eth0    inet6 2001:db8:71::12/64 scope global

== locale ==
LANG=
LANG="pt_PT.UTF-8"

== top ==
RSS  COMMAND
  12m gate-agent
1820 dropbear
   0 kthreadd

== dpkg ==
2026-03-02 02:10:11 upgrade gate-agent:all 4.2.9 4.3.1
2026-03-02 02:10:12 status half-configured gate-agent:all 4.3.1
2026-03-02 02:10:14 status installed gate-agent:all 4.3.1

== rpm ==

== end ==
`

func TestVitalsOfASmallSystem(t *testing.T) {
	var v Vitals
	require.True(t, vitalsWhole(said))
	v.Parse(said)
	require.Equal(t, Vitals{OS: "OpenPier 23.05", Kernel: "Linux 5.15.134 mips", Host: "gate-2", Uptime: 1036800, Load: []float64{3.87, 3.9, 3.71}, Processors: 2,
		Memory: &Memory{Total: 126000 << 10, Available: 30000 << 10}, Locale: "pt_PT.UTF-8",
		Disks:     []Disk{{"/rom", 10000 << 10, 200 << 10}, {"/overlay", 20000 << 10, 5000 << 10}},
		Addresses: []string{"192.0.2.12/24", "2001:db8:71::12/64"},
		Top:       []Process{{Name: "gate-agent", Resident: 12 << 20}, {Name: "dropbear", Resident: 1820 << 10}},
		Packages:  []string{"2026-03-02 02:10:14 installed gate-agent:all 4.3.1", "2026-03-02 02:10:11 upgrade gate-agent:all 4.2.9 to 4.3.1"},
	}, v)
	var none Vitals
	none.Parse("nothing that was asked for\n== end ==\n")
	require.Len(t, none.Lacks, 9, "what could not be found out is named")
}

// The script itself, on this machine and with BusyBox alone.
func TestVitalsScript(t *testing.T) {
	shells := map[string][]string{"sh": {"/bin/sh"}}
	if file, err := exec.LookPath("busybox"); err == nil {
		shells["busybox"] = []string{file, "sh"}
	}
	for name, shell := range shells {
		t.Run(name, func(t *testing.T) {
			cmd := exec.Command(shell[0], append(shell[1:], "-c", vitalsScript)...)
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, io.Discard
			if name == "busybox" {
				tools := t.TempDir()
				list, err := exec.Command(shell[0], "--list").Output()
				require.NoError(t, err)
				for _, applet := range strings.Fields(string(list)) {
					require.NoError(t, os.Symlink(shell[0], filepath.Join(tools, applet)))
				}
				cmd.Env = []string{"PATH=" + tools}
			}
			require.NoError(t, cmd.Run())
			require.True(t, vitalsWhole(out.String()))
			var v Vitals
			v.Parse(out.String())
			require.NotEmpty(t, v.OS)
			require.NotEmpty(t, v.Kernel)
			require.Positive(t, v.Uptime)
			require.Positive(t, v.Processors)
			require.Positive(t, v.Memory.Total)
			require.NotEmpty(t, v.Disks)
			require.Subset(t, []string{"addresses", "processes"}, v.Lacks, "a small container may lack ip and ps")
		})
	}
}

func TestVitalsAndValuesOfASystem(t *testing.T) {
	f := newField(t)
	require.NoError(t, os.WriteFile(filepath.Join(f.dir, "agent.log"), []byte("starting agent version 4.2.9 (build 7)\nmore\n"), 0o600))
	k, err := ask.Parse("a.yaml", []byte("ask: a\nvendor: v\nitems: [{id: x, run: echo}]\nvalues:\n  - {id: agent, file: '"+f.dir+"/*.log', like: 'version ([0-9.]+)'}\n  - {id: none, file: '/no/such', like: '(x)'}\n  - {id: other, of: [pilot], file: /x, like: '(x)'}\n"))
	require.NoError(t, err)
	s, err := site.Parse("s.yaml", []byte("site: pier\nsystems: [{name: desk, local: true}]\n"))
	require.NoError(t, err)
	col := &Collector{Request: Request{Ask: k, Site: s, Depth: ask.Light, Jobs: 1, Items: []string{"vitals"}}, Open: func(context.Context, *site.System) (reach.System, error) { return reach.NewLocal(""), nil }}
	r, err := col.Run(context.Background(), f.writer, "", "test")
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[1].State, r.Coverage[1].Reason)
	data, err := os.ReadFile(filepath.Join(r.RawDir(), "desk", "vitals.json"))
	require.NoError(t, err)
	var v Vitals
	require.NoError(t, json.Unmarshal(data, &v))
	require.Equal(t, map[string]string{"agent": "4.2.9"}, v.Values)
	require.Contains(t, strings.Join(v.Lacks, "; "), "none: no file matches /no/such")
}

func FuzzVitals(f *testing.F) {
	f.Add(said)
	f.Add("== top ==\n\n== load ==\nx\n== memory ==\nMemTotal: 99999999999999999999 kB\n")
	f.Fuzz(func(t *testing.T, out string) {
		var v Vitals
		v.Parse(out)
		_, err := json.Marshal(v)
		require.NoError(t, err)
	})
}
