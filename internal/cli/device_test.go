//go:build !windows

package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/reach/reachtest"
	"envask/internal/standin"
)

// devices are the simulated devices of one script.
type devices struct {
	ssh            *standin.Server // pier-switch, by SSH
	telnet, serial *standin.StreamDevice
}

var devicesOf sync.Map // by the script's folder

// Passwords of the simulated devices.
const (
	loginPassword     = "lock-Buoy-12"
	privilegePassword = "keel-Rope-88"
	supportPassword   = "tide-Lamp-40"
)

func newDevice(name string) *standin.Device {
	d := &standin.Device{Name: name, Privilege: privilegePassword, Accounts: map[string]string{"support": supportPassword},
		Flash: standin.NewTree(), SCP: true}
	for _, unit := range []string{"unit-1", "unit-2", "unit-3", "unit-4"} {
		d.Members = append(d.Members, standin.Fellow{Name: unit, Address: "-", State: "member"})
	}
	d.Members[3].Address = "127.0.0.1" // it has one of its own
	return d
}

// faults change a device before it is reached.
var faults = map[string]func(*standin.Device){
	"exec":     func(d *standin.Device) { d.Exec = true },
	"reboot":   func(d *standin.Device) { d.RebootAfter = 1200 },
	"silence":  func(d *standin.Device) { d.Silence = time.Minute },
	"noprompt": func(d *standin.Device) { d.NoPrompt = true },
	"stubborn": func(d *standin.Device) { d.Stubborn = true },
	"bell":     func(d *standin.Device) { d.Bell = true },
	"epoch":    func(d *standin.Device) { d.Epoch = true },
	"stuck":    func(d *standin.Device) { d.Stuck = true },
	"keeps":    func(d *standin.Device) { d.Keeps = true },
	"liar":     func(d *standin.Device) { d.Lies = true },
	"noscp":    func(d *standin.Device) { d.SCP = false },
	"binary": func(d *standin.Device) {
		d.Answers = map[string]func() string{"show log": func() string {
			return "2026-03-14T06:12:00Z " + strings.Repeat("\x00\xff\xfe\x1b[2K\x07", 2000) + " end\n"
		}}
	},
	"endless": func(d *standin.Device) {
		d.Answers = map[string]func() string{"show log": func() string { return strings.Repeat("again and again\n", 4_000_000) }}
	},
}

func startDevices(dir string, which ...string) (*devices, error) {
	d := &devices{ssh: &standin.Server{Name: "pier-switch", User: "admin", Password: loginPassword, Tree: standin.NewTree(), NoSFTP: true,
		Device: newDevice("pier-switch")}, telnet: &standin.StreamDevice{Device: newDevice("deck-stack"), Telnet: true},
		serial: &standin.StreamDevice{Device: newDevice("old-switch")}}
	if i := slices.Index(which, "legacy"); i >= 0 {
		d.ssh.Legacy = true
		which = slices.Delete(slices.Clone(which), i, i+1)
	}
	for _, s := range []*standin.StreamDevice{d.telnet, d.serial} {
		s.User, s.Password = "admin", loginPassword
	}
	for _, f := range which {
		for _, x := range []*standin.Device{d.ssh.Device, d.telnet.Device, d.serial.Device} {
			faults[f](x)
		}
	}
	for _, s := range []interface{ Start() error }{d.ssh, d.telnet, d.serial} {
		if err := s.Start(); err != nil {
			return nil, err
		}
	}
	for name, text := range map[string]string{"known_hosts": d.ssh.KnownHost() + "\n", "login": loginPassword,
		"privilege": privilegePassword,
		"support":   supportPassword, "wrong": "not-the-one-0"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func (d *devices) close() {
	d.ssh.Close()
	d.telnet.Close()
	d.serial.Close()
}

// at puts the addresses of the devices into a systems file.
func (d *devices) at(text string) string {
	return strings.NewReplacer("admin@192.0.2.2", "'"+d.ssh.Address()+"'", "admin@192.0.2.3",
		"'admin@"+strings.Replace(d.telnet.Address(), "127.0.0.1", "localhost", 1)+"'",
		"192.0.2.4:4001", d.serial.Address(), "env:PIER_SWITCH", "file:login", "env:PIER_PRIVILEGE", "file:privilege",
		"env:PIER_SUPPORT", "file:support").Replace(text)
}

// cmdDevices starts a switch by SSH, a stack by Telnet and an old switch on a serial line, and opens the case with systems.yaml and
// ask.yaml:
// devices [fault…]
func cmdDevices(ts *testscript.TestScript, neg bool, args []string) {
	dir := ts.MkAbs(".")
	d, err := startDevices(dir, args...)
	ts.Check(err)
	ts.Defer(d.close)
	devicesOf.Store(ts.Getenv("WORK"), d)
	ts.Check(os.WriteFile(ts.MkAbs("systems.yaml"), []byte(d.at(ts.ReadFile("systems.yaml"))), 0o600))
	cmdOpen(ts, false, []string{"local"})
}

// cmdTyped looks at what was typed on the switch: typed LINE, ! typed LINE; and at its account: typed open, typed closed.
func cmdTyped(ts *testscript.TestScript, neg bool, args []string) {
	x, _ := devicesOf.Load(ts.Getenv("WORK"))
	d := x.(*devices).ssh.Device
	found := false
	switch args[0] {
	case "loose": // accounts close again
		d.Change(func(d *standin.Device) { d.Stuck = false })
		return
	case "open", "closed":
		found = d.Open("support") == (args[0] == "open")
	default:
		for _, line := range d.Typed() {
			found = found || line == args[0]
		}
	}
	if found == neg {
		ts.Fatalf("typed %s: %v; typed were %q", args[0], found, d.Typed())
	}
}

// blocks gives the fenced examples of a page.
func blocks(t *testing.T, name string) []string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", name))
	require.NoError(t, err)
	var out []string
	for _, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		out = append(out, m[1])
	}
	return out
}

// The worked examples of the pages do what the pages say.
func TestExamplesOfDevices(t *testing.T) {
	device := blocks(t, "devices.md")
	changes, members := blocks(t, "changes.md"), blocks(t, "members.md")
	for name, c := range map[string]struct {
		systems, ask string
		want         []string // files of the round
	}{
		"devices": {device[0], device[1], []string{"pier-switch/commands/switch-state/state-*.txt", "pier-switch/commands/switch-dump.txt",
			"pier-switch/files/flash/core-26031407", "pier-switch/sessions/switch-dump.txt"}},
		"changes": {device[0], changes[0], []string{"pier-switch/commands/switch-dump.txt", "pier-switch/commands/port-state.txt"}},
		"members": {members[1], members[0], []string{"deck-stack/commands/unit-state/unit-3.txt"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			d, err := startDevices(dir)
			require.NoError(t, err)
			defer d.close()
			askFile, systems := filepath.Join(dir, "ask.yaml"), filepath.Join(dir, "systems.yaml")
			require.NoError(t, os.WriteFile(askFile, []byte(c.ask), 0o600))
			require.NoError(t, os.WriteFile(systems, []byte("known-hosts: known_hosts\n"+d.at(c.systems)), 0o600))
			home := filepath.Join(dir, "home")
			sum, err := cli.AskDigest(askFile)
			require.NoError(t, err)
			for _, args := range [][]string{{"ask", "approve", askFile, "--digest", sum},
				{"open", "26031407", "--ask", askFile, "--systems", systems, "--around", "2026-03-14 06:12Z", "--margin", "40m"},
				{"probe"}, {"collect"}, {"pack"}} {
				said, code := inProcess(home, false, args...)
				require.Zero(t, code, said)
			}
			for _, want := range c.want {
				found, err := filepath.Glob(filepath.Join(home, "cases", "26031407", "rounds", "r1", "raw", filepath.FromSlash(want)))
				require.NoError(t, err)
				require.Len(t, found, 1, want)
			}
			require.False(t, d.ssh.Device.Open("support"))
		})
	}
}

// openDevices writes the two files of a case, approves and opens it, and gives what runs envask there.
func openDevices(t *testing.T, dir, systems, ask string) func(args ...string) (string, int) {
	t.Helper()
	askFile, file := filepath.Join(dir, "ask.yaml"), filepath.Join(dir, "systems.yaml")
	require.NoError(t, os.WriteFile(askFile, []byte(ask), 0o600))
	require.NoError(t, os.WriteFile(file, []byte(systems), 0o600))
	sum, err := cli.AskDigest(askFile)
	require.NoError(t, err)
	run := func(args ...string) (string, int) { return inProcess(filepath.Join(dir, "home"), false, args...) }
	for _, args := range [][]string{{"ask", "approve", askFile, "--digest", sum},
		{"open", "26031407", "--ask", askFile, "--systems", file, "--around", "2026-03-14 06:12Z", "--margin", "40m"}} {
		said, code := run(args...)
		require.Zero(t, code, said)
	}
	return run
}

// Sixteen devices at once, two of them at one address, each whole.
func TestManyDevices(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	d, err := startDevices(dir)
	require.NoError(t, err)
	defer d.close()
	systems := "site: tallow-pier\nsystems:\n"
	for i := range 16 {
		address := d.telnet.Address()
		if i > 1 {
			one := &standin.StreamDevice{Device: newDevice(fmt.Sprintf("switch-%d", i)), Telnet: true}
			one.User, one.Password = "admin", loginPassword
			require.NoError(t, one.Start())
			defer one.Close()
			address = one.Address()
		}
		systems += fmt.Sprintf("  - {name: switch-%d, roles: [switch], console: {telnet: 'admin@%s', password: file:login}}\n", i, address)
	}
	run := openDevices(t, dir, systems, `ask: switches
vendor: Ostrevane Gate Systems
vitals: no
items: [{id: ports, of: [switch], run: show ports, required: true}, {id: log, of: [switch], run: show log, required: true}]
`)
	said, code := run("collect")
	require.Zero(t, code, said)
	for i := range 16 {
		for name, want := range map[string]int{"ports.txt": 50, "log.txt": 400} {
			text, err := os.ReadFile(filepath.Join(dir, "home", "cases", "26031407", "rounds", "r1", "raw", fmt.Sprintf("switch-%d", i),
				"commands", name))
			require.NoError(t, err)
			_, answer, _ := strings.Cut(string(text), "\n\n")
			require.Equal(t, want, strings.Count(answer, "\n"), "%d: %s", i, name)
		}
	}
}

// A link that is cut in the middle, while an account is open for the dump: over SSH and over Telnet it is closed again.
func TestALinkIsLostWithAChange(t *testing.T) {
	for _, protocol := range []string{"ssh", "telnet"} {
		t.Run(protocol, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			d, err := startDevices(dir)
			require.NoError(t, err)
			defer d.close()
			device, port := d.ssh.Device, d.ssh.Port()
			if protocol == "telnet" {
				_, text, _ := strings.Cut(d.telnet.Address(), ":")
				device = d.telnet.Device
				port, _ = strconv.Atoi(text)
			}
			proxy := reachtest.StartProxy(t, port, reachtest.Cut, 60_000, 1)
			known := strings.Replace(d.ssh.KnownHost(), fmt.Sprint(d.ssh.Port()), fmt.Sprint(proxy.Port), 1)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "known_hosts"), []byte(known+"\n"), 0o600))
			systems := strings.Replace(d.at(killedSystems), "ssh: '"+d.ssh.Address()+"'",
				fmt.Sprintf("%s: 'admin@127.0.0.1:%d'", protocol, proxy.Port), 1)
			run := openDevices(t, dir, systems, strings.Replace(killedAsk, "run: [show release, show ports, show stack]",
				"run: show state\n    answers: [{when: '\\[y/n\\] $', press: y}]", 1))
			said, code := run("collect", "--item", "dump")
			require.Zero(t, code, said)
			require.Greater(t, proxy.Taken.Load(), int64(1), "the link was cut")
			require.Contains(t, device.Typed(), "account open support")
			require.False(t, device.Open("support"))
			text, err := os.ReadFile(filepath.Join(dir, "home", "cases", "26031407", "rounds", "r1", "raw", "pier-switch", "commands", "dump.txt"))
			require.NoError(t, err)
			require.Contains(t, string(text), fmt.Sprintf("%05d port", standin.StateLines))
			said, code = run("show")
			require.Zero(t, code, said)
			require.NotContains(t, said, "to be changed back")
		})
	}
}
