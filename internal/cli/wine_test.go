package cli

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"envask/internal/durable"

	"github.com/stretchr/testify/require"
)

// wine64 is Debian's; it runs programs of Windows.
const wine64 = "/usr/lib/wine/wine64"

// randomSource makes a library that Go's runtime loads and Debian's Wine does not have yet: it hands its one call on to Wine's own.
const randomSource = "LIBRARY bcryptprimitives.dll\nEXPORTS\n  ProcessPrng = advapi32.SystemFunction036\n"

// windowsPC is a made-up machine with Windows: its drive C:, on which the program for Windows is run.
type windowsPC struct {
	t   *testing.T
	dir string
	env []string
}

func newWindowsPC(t *testing.T) *windowsPC {
	t.Helper()
	const tools = "x86_64-w64-mingw32-"
	_, missing := exec.LookPath(tools + "dlltool")
	if _, err := os.Stat(wine64); err != nil || missing != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "wine64 and binutils-mingw-w64-x86-64 should have been installed")
		t.Skip("SKIPPED: WINE: it is not here (make test-servers installs it)")
	}
	dir := t.TempDir()
	w := &windowsPC{t: t, dir: dir, env: append(os.Environ(), "WINEPREFIX="+filepath.Join(dir, "wine"), "WINEDEBUG=-all", "HOME="+dir,
		"WINEDLLOVERRIDES=mscoree,mshtml=", `ENVASK_HOME=C:\home`, "DISPLAY=")}
	t.Cleanup(func() { // its services write in the folder until they have ended
		server := exec.Command("/usr/lib/wine/wineserver64", "-k", "-w")
		server.Env = w.env
		_ = server.Run()
	})
	build := exec.Command("go", "build", "-trimpath", "-tags", "nethttpomithttp2", "-o", filepath.Join(dir, "envask.exe"), "../../cmd/envask")
	build.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	w.must(build)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "random.def"), []byte(randomSource), 0o600))
	w.must(w.command(tools+"dlltool", "-d", "random.def", "-e", "random.exp"))
	w.must(w.command(tools+"ld", "-shared", "--entry", "0", "-o", "bcryptprimitives.dll", "random.exp"))
	w.must(w.command(wine64, "wineboot", "-i"))
	w.must(w.command("cp", "bcryptprimitives.dll", w.path(`C:\windows\system32\bcryptprimitives.dll`)))
	return w
}

func (w *windowsPC) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env, cmd.WaitDelay = w.dir, w.env, 10*time.Second
	return cmd
}

func (w *windowsPC) must(cmd *exec.Cmd) {
	w.t.Helper()
	out, err := cmd.CombinedOutput()
	require.NoError(w.t, err, "%s\n%s", cmd, out)
}

// path gives where a path of the drive lies here.
func (w *windowsPC) path(p string) string {
	return filepath.Join(w.dir, "wine", "drive_c", filepath.FromSlash(strings.ReplaceAll(strings.TrimPrefix(p, `C:\`), `\`, "/")))
}

func (w *windowsPC) write(p, content string) {
	w.t.Helper()
	require.NoError(w.t, os.MkdirAll(filepath.Dir(w.path(p)), 0o700))
	require.NoError(w.t, os.WriteFile(w.path(p), []byte(content), 0o600))
}

// run runs the program, and gives what it said and its exit code.
func (w *windowsPC) run(args ...string) (string, int) {
	w.t.Helper()
	cmd := w.command(wine64, append([]string{filepath.Join(w.dir, "envask.exe")}, args...)...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		require.ErrorAs(w.t, err, new(*exec.ExitError), "%s", out)
	}
	return strings.ReplaceAll(string(out), "\r\n", "\n"), cmd.ProcessState.ExitCode()
}

// TestWindows runs the program for Windows: a case of the machine's own logs, from the ask to an archive that tar can read.
func TestWindows(t *testing.T) {
	t.Parallel()
	w := newWindowsPC(t)
	good := func(want []string, args ...string) string {
		t.Helper()
		out, code := w.run(args...)
		require.Zero(t, code, "%v\n%s", args, out)
		for _, s := range want {
			require.Contains(t, out, s, "%v", args)
		}
		return out
	}
	good([]string{"envask "}, "version")

	var log strings.Builder
	for i, at := 0, time.Date(2026, 3, 14, 5, 0, 0, 0, time.UTC); i < 720; i, at = i+1, at.Add(10*time.Second) {
		fmt.Fprintf(&log, "%s gate open pass=%d password=Tr0ub4dor-Pier host 192.0.2.11\r\n", at.Format(time.DateTime), i)
	}
	w.write(`C:\boarding\logs\gate.log`, log.String())
	w.write(`C:\boarding\logs\Höhe und Tür.log`, "2026-03-14 05:45:00 door open\r\n")
	w.write(`C:\boarding\gate.ini`, "[gate]\r\nport=4417\r\npassword=Tr0ub4dor-Pier\r\n")
	w.write(`C:\work\systems.yaml`, "site: tallow-pier\nzone: UTC\nsystems:\n  - {name: kiosk-1, roles: [kiosk], local: true}\n")
	w.write(`C:\work\ask.yaml`, `ask: boarding-kiosk
vendor: Ostrevane Gate Systems
case: {number: '^[0-9]{8}$'}
items:
  - {id: gate-log, of: [kiosk], files: ['C:\boarding\logs\*.log'], cut: lines, required: true}
  - {id: gate-config, of: [kiosk], files: ['/C:/boarding/*.ini'], cut: none}
  - {id: state, of: [kiosk], run: 'echo state of %SystemDrive%'}
`)
	good([]string{"3 items"}, "ask", "check", `C:\work\ask.yaml`)
	digest, err := durable.FileSum(t.Context(), w.path(`C:\work\ask.yaml`))
	require.NoError(t, err)
	good([]string{"approved"}, "ask", "approve", `C:\work\ask.yaml`, "--digest", digest[:16])
	good([]string{"case 26031407 opened", `C:\home\cases\26031407`}, "open", "26031407", "--ask", `C:\work\ask.yaml`,
		"--systems", `C:\work\systems.yaml`, "--from", "2026-03-14 05:30", "--to", "2026-03-14 06:00")
	good([]string{"reached"}, "probe")
	good([]string{"gate-log: taken, 2 files", "gate-config: taken, 1 file", "state: taken, 1 file"}, "collect")
	raw, err := os.ReadFile(w.path(`C:\home\cases\26031407\rounds\r1\raw\kiosk-1\files\C\boarding\logs\gate.log`))
	require.NoError(t, err)
	require.Equal(t, 181, strings.Count(string(raw), "\r\n"), "the half hour of the window, both ends included")
	good([]string{"read back completely", "none of the 2 learned values"}, "pack")
	archive := `C:\home\cases\26031407\out\26031407_tallow-pier_r1.tar.gz`
	good([]string{"good: 8 files"}, "verify", archive)
	w.must(w.command("tar", "-xzf", w.path(archive)))
	w.must(w.command("sh", "-c", "cd 26031407_tallow-pier_r1 && sha256sum -c --quiet SHA256SUMS"))
	state, err := os.ReadFile(filepath.Join(w.dir, "26031407_tallow-pier_r1/systems/kiosk-1/commands/state.txt"))
	require.NoError(t, err)
	require.Contains(t, string(state), "state of C:")
	_, err = os.Stat(filepath.Join(w.dir, "26031407_tallow-pier_r1/systems/kiosk-1/files/C/boarding/logs/Höhe und Tür.log"))
	require.NoError(t, err)

	good([]string{"password=[redacted:keyed-secret]"}, "redact", `C:\boarding\gate.ini`)
	good([]string{"2026-03-14 05:00:00", "gate.log"}, "times", `C:\boarding\logs\gate.log`)

	// What is sent can go, and the case with it.
	good([]string{"handed over by hand"}, "submit", "--by-hand", "carried to the desk on a stick", "--yes")
	good([]string{"freed: "}, "tidy", "--yes")
	_, err = os.Stat(w.path(`C:\home\cases\26031407\rounds\r1\raw\kiosk-1\files\C\boarding\logs\gate.log`))
	require.ErrorIs(t, err, os.ErrNotExist)

	out, code := w.run("verify", `C:\work\none.tar.gz`)
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "error:")
}
