//go:build !windows

package cli_test

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/durable"
	"envask/internal/standin"
)

// long says whether the long tests run (make test-long).
func long() bool { return os.Getenv("ENVASK_LONG") != "" }

// built builds envask for a test, and gives its path.
func built(t *testing.T) string {
	t.Helper()
	bin, err := builtOnce()
	require.NoError(t, err)
	return bin
}

// builtOnce builds envask for all tests of a run; TestMain removes it.
var builtOnce = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "envask-built-*")
	if err != nil {
		return "", err
	}
	builtDir = dir
	bin := filepath.Join(dir, "envask")
	build := exec.Command("go", "build", "-ldflags=-s -w", "-o", bin, "envask/cmd/envask")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return bin, nil
})

// builtDir is where the program is that tests run; "" while none was built.
var builtDir string

// program gives a function that makes commands of it.
func program(t *testing.T, home string) func(args ...string) *exec.Cmd {
	t.Helper()
	bin := built(t)
	return func(args ...string) *exec.Cmd {
		c := exec.Command(bin, args...)
		c.Env = append(os.Environ(), "ENVASK_HOME="+home, "SSH_AUTH_SOCK=")
		return c
	}
}

func must(t *testing.T, c *exec.Cmd) string {
	t.Helper()
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// startSite starts the simulated site for one test.
func startSite(t *testing.T) (site *standin.Site, dir, home string) {
	t.Helper()
	dir = t.TempDir()
	site, err := standin.StartSite(dir)
	require.NoError(t, err)
	t.Cleanup(func() { site.Close() })
	site.Program = built(t)
	return site, dir, filepath.Join(dir, "home")
}

// openSite opens and approves the case of the simulated site.
func openSite(t *testing.T, envask func(...string) *exec.Cmd, dir string) {
	t.Helper()
	files := filepath.Join(dir, "files")
	sum, err := cli.AskDigest(filepath.Join(files, "boarding-gateway.yaml"))
	require.NoError(t, err)
	must(t, envask("ask", "approve", filepath.Join(files, "boarding-gateway.yaml"), "--digest", sum))
	must(t, envask("open", "26031407", "--ask", filepath.Join(files, "boarding-gateway.yaml"), "--systems",
		filepath.Join(files, "tallow-pier.yaml"), "--around", "2026-03-14 06:12", "--margin", "40m"))
}

// rawSums gives the checksum of every file of a round, but not of commands, whose output holds times.
func rawSums(t *testing.T, home, round string) map[string]string {
	t.Helper()
	root := filepath.Join(home, "cases", "26031407", "rounds", round, "raw")
	sums := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		rel, _ := filepath.Rel(root, name)
		sum := sha256.Sum256(data)
		sums[rel] = hex.EncodeToString(sum[:])
		if strings.Contains(rel, "commands") || strings.Contains(rel, "sessions") || strings.HasSuffix(rel, "vitals.json") {
			sums[rel] = "command"
		}
		return err
	}))
	return sums
}

// states gives the coverage of a round without what is measured.
func states(t *testing.T, envask func(...string) *exec.Cmd, round string) map[string]string {
	t.Helper()
	out, err := envask("show", round, "--json", "--quiet").Output()
	require.NoError(t, err)
	var doc struct {
		Finished bool
		Coverage []struct {
			System, Item, State, Reason string
			Files                       int
		}
	}
	require.NoError(t, json.Unmarshal(out, &doc))
	require.True(t, doc.Finished)
	m := map[string]string{}
	for _, c := range doc.Coverage {
		m[c.System+" "+c.Item] = fmt.Sprint(c.State, c.Files, c.Reason)
	}
	return m
}

// TestKilledAtAnyMoment kills the program at random moments of a round; gone on with, evidence and coverage are those of
// a round that nobody disturbed.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	site, dir, home := startSite(t)
	require.NoError(t, site.WriteFiles(filepath.Join(dir, "files"), home))
	withoutDisplay(t, filepath.Join(dir, "files", "tallow-pier.yaml"))
	envask := program(t, home)
	openSite(t, envask, dir)
	must(t, envask("collect", "--quiet"))
	wantSums, wantStates := rawSums(t, home, "r1"), states(t, envask, "r1")
	require.Greater(t, len(wantSums), 20)

	times := 4
	if long() {
		times = 12 // other moments each time
	}
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	killed := 0
	for round := 2; round < times+2; round++ {
		id := fmt.Sprintf("r%d", round)
		for range 3 {
			c := envask("collect", "--quiet")
			require.NoError(t, c.Start())
			time.Sleep(time.Duration(r.IntN(900)) * time.Millisecond)
			_ = c.Process.Signal(syscall.SIGKILL)
			if err := c.Wait(); err != nil {
				killed++
			} else {
				break // it was done before
			}
		}
		if rounds, err := os.ReadDir(filepath.Join(home, "cases", "26031407", "rounds")); err == nil &&
			len(rounds) < round || !finished(home, id) {
			must(t, envask("collect", "--quiet"))
		}
		require.Equal(t, wantSums, rawSums(t, home, id), id)
		require.Equal(t, wantStates, states(t, envask, id), id)
		left, err := filepath.Glob(filepath.Join(home, "cases", "26031407", "rounds", id, "part", "*"))
		require.NoError(t, err)
		require.Empty(t, left)
		for _, s := range site.Systems {
			require.Empty(t, s.Tree.Names("/var/tmp/envask-"), "nothing of ours is left on %s", s.Name)
		}
	}
	pending, err := envask("show", "--json", "--quiet").Output()
	require.NoError(t, err)
	require.Contains(t, string(pending), `"pending": []`)
	require.Positive(t, killed, "nothing was ever killed")
	t.Logf("killed %d times", killed)
}

// withoutDisplay takes the system that is down out of the systems file: waiting for it would be most of the time.
func withoutDisplay(t *testing.T, file string) {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	lines := strings.Split(string(data), "\n")
	lines = slices.DeleteFunc(lines, func(l string) bool { return strings.Contains(l, "display-1") })
	require.NoError(t, os.WriteFile(file, []byte(strings.Join(lines, "\n")), 0o600))
}

// TestInterruptWhileASystemIsSilent sends Ctrl-C while a read waits for a system that says nothing any more.
func TestInterruptWhileASystemIsSilent(t *testing.T) {
	site, dir, home := startSite(t)
	site.Systems[2].Change(func(s *standin.Server) { s.StallAfter = 200_000 })
	require.NoError(t, site.WriteFiles(filepath.Join(dir, "files"), home))
	envask := program(t, home)
	openSite(t, envask, dir)
	c := envask("collect", "--system", "fare-1")
	require.NoError(t, c.Start())
	time.Sleep(1500 * time.Millisecond)
	begun := time.Now()
	require.NoError(t, c.Process.Signal(os.Interrupt))
	_ = c.Wait()
	require.Equal(t, 130, c.ProcessState.ExitCode())
	t.Logf("it ended after %s", time.Since(begun).Round(10*time.Millisecond))
	require.Less(t, time.Since(begun), 4*time.Second, "30 s without a sign of life would have gone by")
}

func finished(home, id string) bool {
	data, err := os.ReadFile(filepath.Join(home, "cases", "26031407", "rounds", id, "round.json"))
	return err == nil && strings.Contains(string(data), `"ended"`)
}

// TestInterruptIsClean sends Ctrl-C: the program ends within two seconds with exit 130, and goes on later.
func TestInterruptIsClean(t *testing.T) {
	site, dir, home := startSite(t)
	site.Systems[1].Commands["boardingctl status --all"] = standin.Command{Out: "late\n", Delay: time.Minute}
	require.NoError(t, site.WriteFiles(filepath.Join(dir, "files"), home))
	envask := program(t, home)
	openSite(t, envask, dir)
	c := envask("collect")
	require.NoError(t, c.Start())
	time.Sleep(700 * time.Millisecond)
	begun := time.Now()
	require.NoError(t, c.Process.Signal(os.Interrupt))
	_ = c.Wait()
	require.Equal(t, 130, c.ProcessState.ExitCode())
	require.Less(t, time.Since(begun), 4*time.Second,
		"two seconds are promised; the machine may be busy, and the command would go on for a minute")
	site.Systems[1].Change(func(s *standin.Server) {
		s.Commands["boardingctl status --all"] = standin.GateCommands(2)["boardingctl status --all"]
	})
	out := must(t, envask("collect"))
	require.Contains(t, out, "resuming the unfinished round")
	require.Contains(t, out, "round r1: ")
}

// TestDiskFull runs each command that writes on a home that is full at every place: a tmpfs that grows, at first by 4 KiB, until the
// command
// has all it needs. Whatever was written by then, the command says so and ends, and the next try on more room, or tidy, works.
func TestDiskFull(t *testing.T) {
	if !long() || os.Getuid() != 0 {
		t.Skip("SKIPPED: needs root and ENVASK_LONG")
	}
	dir := t.TempDir()
	host := filepath.Join(dir, "host")
	require.NoError(t, os.MkdirAll(host, 0o755))
	line := "2026-03-14T06:12:00Z ERROR gate from 192.0.2.61 user=ilka.brandvold token=tpg_1234567890ab\n"
	for i := range 3 {
		require.NoError(t, os.WriteFile(filepath.Join(host, fmt.Sprintf("gate%d.log", i)), []byte(strings.Repeat(line, 1500)), 0o644))
	}
	askFile, systems := filepath.Join(dir, "ask.yaml"), filepath.Join(dir, "systems.yaml")
	require.NoError(t, os.WriteFile(askFile,
		[]byte("ask: local\nvendor: Ostrevane Gate Systems\nvitals: no\nitems:\n  - {id: log, files: ['"+host+
			"/*.log'], required: true}\n  - {id: state, run: echo fine}\nroutes:\n  - {name: stick, to: '"+
			filepath.Join(dir, "stick")+"'}\n"), 0o600))
	require.NoError(t, os.WriteFile(systems, []byte("site: tallow-pier\nsystems: [{name: desk-pc, local: true}]\n"), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "stick"), 0o755))
	sum, err := cli.AskDigest(askFile)
	require.NoError(t, err)
	home := filepath.Join(dir, "home")
	require.NoError(t, os.MkdirAll(home, 0o700))
	envask := program(t, home)
	approve := "ask approve " + askFile + " --digest " + sum
	open := "open 26031407 --ask " + askFile + " --systems " + systems + " --around '2026-03-14 06:12Z' --margin 40m"
	places := 0
	for _, c := range []struct {
		before []string // on enough room
		run    string
	}{
		{nil, approve},
		{[]string{approve}, open},
		{[]string{approve, open}, "collect --yes"},
		{[]string{approve, open, "collect"}, "pack"},
		{[]string{approve, open, "collect", "pack"}, "review --approve"},
		{[]string{approve, open, "collect", "pack"}, "submit --yes"},
		{[]string{approve, open, "collect", "pack", "submit --yes"}, "tidy --yes"},
	} {
		// The file system is filled by a file to its last bytes but so many; what the command needs is found by letting it grow.
		script := fmt.Sprintf(`E=%[1]s; H=%[2]s; mount -t tmpfs -o size=32m none $H || exit 9; rm -f $H/../stick/*
for b in %[3]s; do eval "$E --quiet $b" > /dev/null || { echo "SETUP FAILED: $b"; exit 8; }; done
cp -a $H %[4]s.saved
room=0; while [ $room -le 4096 ]; do
find $H -mindepth 1 -delete; rm -f $H/../stick/*; cp -a %[4]s.saved/. $H/
dd if=/dev/zero of=$H/filler bs=1k 2> /dev/null; [ $room -gt 0 ] && truncate -s -${room}K $H/filler
eval "$E --quiet %[5]s" > $E.out 2> $E.err; code=$?
echo "PLACE room=$room code=$code"
[ $code = 0 ] || { grep -qiE 'no space|no room|quota|room for|are free|missing or not whole' $E.err $E.out || { echo "UNCLEAR: $(cat $E.err $E.out)"; }; }
grep -q panic $E.err && echo "PANIC: $(cat $E.err)"
rm -f $H/filler
eval "$E --quiet %[5]s" > $E.out 2> $E.err || grep -qE 'got all that was asked|sent already|unfinished' $E.err || { echo "NEXT TRY FAILED room=$room: $(cat $E.err)"; }
[ $code = 0 ] && break
[ $room -lt 192 ] && room=$((room + 4)) || room=$((room + 64)); done
[ $code = 0 ] || echo "NEVER ENOUGH"
rm -rf %[4]s.saved`, envask().Path, home, quoted(c.before), home, strings.ReplaceAll(c.run, "'", `'"'"'`))
		script = strings.ReplaceAll(script, `eval "$E --quiet `+strings.ReplaceAll(c.run, "'", `'"'"'`)+`"`, "$E --quiet "+c.run)
		cmd := exec.Command("unshare", "-m", "sh", "-c", script)
		cmd.Env = envask().Env
		out, err := cmd.CombinedOutput()
		text := string(out)
		if strings.Contains(text, "unshare") || cmd.ProcessState.ExitCode() == 9 {
			t.Skipf("SKIPPED: no mount namespaces here: %s", out)
		}
		require.NoError(t, err, text)
		for _, bad := range []string{"SETUP FAILED", "PANIC", "NEXT TRY FAILED", "NEVER ENOUGH", "UNCLEAR"} {
			require.NotContains(t, text, bad, c.run)
		}
		n := strings.Count(text, "PLACE")
		places += n
		t.Logf("%s: %d sizes, enough at the last", strings.Fields(c.run)[0], n)
	}
	t.Logf("%d full disks", places)
}

// quoted makes words of a shell of command lines.
func quoted(lines []string) string {
	var out []string
	for _, l := range lines {
		out = append(out, `"`+strings.ReplaceAll(l, `"`, `\"`)+`"`)
	}
	return strings.Join(out, " ")
}

// runAndMeasure runs a command and gives the most memory that it had resident, in MiB; 0 where the system does not tell. It
// asks while the command runs, since what the system tells afterwards counts the memory of the parent at the fork too.
func runAndMeasure(t *testing.T, c *exec.Cmd) int {
	t.Helper()
	require.NoError(t, c.Start())
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	peak := 0
	for {
		select {
		case err := <-ended:
			require.NoError(t, err)
			return peak
		case <-time.After(50 * time.Millisecond):
			text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", c.Process.Pid))
			if err != nil {
				continue
			}
			if _, rest, ok := strings.Cut(string(text), "VmHWM:"); ok {
				kib := 0
				if _, err := fmt.Sscan(rest, &kib); err == nil {
					peak = max(peak, kib>>10)
				}
			}
		}
	}
}

// TestManySmallFiles takes 40,000 files from an SSH system.
func TestManySmallFiles(t *testing.T) {
	if !long() {
		t.Skip("SKIPPED: long (make test-long)")
	}
	t.Parallel()
	site, dir, home := startSite(t)
	for i := range 40_000 {
		site.Systems[0].Tree.File(fmt.Sprintf("/var/crash/boarding/c%06d.txt", i),
			[]byte(fmt.Sprintf("crash %d password=kelp-%06d\n", i, i)), standin.FaultAt)
	}
	require.NoError(t, site.WriteFiles(filepath.Join(dir, "files"), home))
	envask := program(t, home)
	openSite(t, envask, dir)
	var out bytes.Buffer
	c := envask("collect", "--system", "gate-1", "--item", "gate-crash")
	c.Stdout = &out
	peak := runAndMeasure(t, c)
	require.Contains(t, out.String(), "40,000 files")
	t.Logf("collect: %s, %d MiB resident", c.ProcessState.UserTime()+c.ProcessState.SystemTime(), peak)
	c = envask("pack")
	c.Stdout = &out
	peak = runAndMeasure(t, c)
	require.Contains(t, out.String(), "40,000 keyed-secret")
	t.Logf("pack: %s, %d MiB resident", c.ProcessState.UserTime()+c.ProcessState.SystemTime(), peak)
}

// TestManyEntries verifies an archive of 200,000 files in flat memory.
func TestManyEntries(t *testing.T) {
	if !long() {
		t.Skip("SKIPPED: long (make test-long)")
	}
	t.Parallel()
	const n = 200_000
	file := filepath.Join(t.TempDir(), "many.tar.gz")
	out, err := os.Create(file)
	require.NoError(t, err)
	zw, err := gzip.NewWriterLevel(out, gzip.BestSpeed)
	require.NoError(t, err)
	tw := tar.NewWriter(zw)
	put := func(name string, size int64, content io.Reader) {
		require.NoError(t, tw.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: "many/" + name, Size: size, Mode: 0o644}))
		_, err := io.Copy(tw, content)
		require.NoError(t, err)
	}
	sum := sha256.Sum256([]byte("x"))
	hash := hex.EncodeToString(sum[:])
	name := func(i int) string {
		return fmt.Sprintf("systems/gate-%03d/files/var/spool/boarding/%07d.job", i/10_000, i)
	}
	lists := [2]string{filepath.Join(t.TempDir(), "manifest"), filepath.Join(t.TempDir(), "sums")}
	var lines [2]*bufio.Writer
	for i, l := range lists {
		f, err := os.Create(l)
		require.NoError(t, err)
		defer f.Close()
		lines[i] = bufio.NewWriter(f)
	}
	fmt.Fprint(lines[0], `{"format":1,"case":"26031407","complete":true,"lacking":[],"files":[`)
	for i := range n {
		put(name(i), 1, strings.NewReader("x"))
		fmt.Fprintf(lines[0], `%s{"path":%q,"system":"gate-%03d","item":"jobs","source":"/var/spool/boarding/%07d.job","state":"taken","size":1,"sha256":%q}`, map[bool]string{true: ",\n"}[i > 0], name(i), i/10_000, i, hash)
		fmt.Fprintf(lines[1], "%s  %s\n", hash, name(i))
	}
	fmt.Fprint(lines[0], `]}`)
	require.NoError(t, lines[0].Flush())
	manifestSum, err := durable.FileSum(t.Context(), lists[0])
	require.NoError(t, err)
	fmt.Fprintf(lines[1], "%s  manifest.json\n", manifestSum)
	require.NoError(t, lines[1].Flush())
	for i, as := range []string{"manifest.json", "SHA256SUMS"} {
		f, err := os.Open(lists[i])
		require.NoError(t, err)
		info, err := f.Stat()
		require.NoError(t, err)
		put(as, info.Size(), f)
		f.Close()
	}
	require.NoError(t, errors.Join(tw.Close(), zw.Close(), out.Close()))
	envask := program(t, t.TempDir())
	c := envask("verify", file)
	var said bytes.Buffer
	c.Stdout = &said
	resident := runAndMeasure(t, c)
	require.Contains(t, said.String(), "200,002")
	require.Less(t, resident, 110, "MiB resident")
	t.Logf("verify of %d entries: %s, %d MiB resident", n, c.ProcessState.UserTime()+c.ProcessState.SystemTime(), resident)
}

// endlessLine is one line of so many bytes, with a secret now and then.
type endlessLine struct{ left int }

func (e *endlessLine) Read(b []byte) (int, error) {
	const piece = "no line end here, password=brass-Kelp-71! from 192.0.2.61 and on and on, "
	if e.left <= 0 {
		return 0, io.EOF
	}
	n := 0
	for n+len(piece) <= len(b) && n < e.left {
		n += copy(b[n:], piece)
	}
	e.left -= n
	return n, nil
}

// TestHugeLine redacts one line of 96 MiB in flat memory.
func TestHugeLine(t *testing.T) {
	if !long() {
		t.Skip("SKIPPED: long (make test-long)")
	}
	t.Parallel()
	envask := program(t, t.TempDir())
	c := envask("redact")
	c.Stdin = &endlessLine{left: 96 << 20}
	found := &counter{}
	c.Stdout = found
	resident := runAndMeasure(t, c)
	require.False(t, found.leaked, "a secret came through")
	require.Greater(t, found.n, 75<<20)
	require.Less(t, resident, 100, "MiB resident")
	t.Logf("%d MiB in one line: %s, %d MiB resident", 96, c.ProcessState.UserTime(), resident)
}

// counter counts what is written, and looks for the secret in it, also across writes.
type counter struct {
	n      int
	tail   []byte
	leaked bool
}

func (c *counter) Write(b []byte) (int, error) {
	c.n += len(b)
	joined := append(c.tail, b...)
	c.leaked = c.leaked || bytes.Contains(joined, []byte("Kelp")) || bytes.Contains(joined, []byte("192.0.2.61"))
	c.tail = append([]byte(nil), joined[max(0, len(joined)-16):]...)
	return len(b), nil
}
