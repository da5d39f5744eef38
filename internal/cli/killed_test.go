//go:build !windows

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/standin"
)

// TestKilledAtEveryStep kills each command that writes at every rename, every record of the ledger, every piece of evidence and every
// step of undoing, one after the other; the next try brings all of it to its end, and nothing is lost, doubled, leaked or left.
func TestKilledAtEveryStep(t *testing.T) {
	if !long() {
		t.Skip("SKIPPED: long (make test-long)")
	}
	t.Parallel()
	dir := t.TempDir()
	bin := filepath.Join(dir, "envask")
	build := exec.Command("go", "build", "-tags", "failpoints", "-o", bin, "envask/cmd/envask")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	home, saved, stick, host := filepath.Join(dir, "home"), filepath.Join(dir, "saved"), filepath.Join(dir, "stick"), filepath.Join(dir, "host")
	envask := func(extra string, args ...string) *exec.Cmd {
		c := exec.Command(bin, args...)
		c.Env = append(os.Environ(), "ENVASK_HOME="+home, "SSH_AUTH_SOCK=", extra)
		return c
	}
	for _, d := range []string{stick, filepath.Join(host, "log"), filepath.Join(host, "made")} {
		require.NoError(t, os.MkdirAll(d, 0o755))
	}
	for i := range 3 {
		file := filepath.Join(host, "log", fmt.Sprintf("gate%d.log", i))
		require.NoError(t, os.WriteFile(file, []byte(strings.Repeat("2026-03-14T06:12:00Z ERROR password=brass-Kelp-71! from 192.0.2.61\n", 20)), 0o644))
		require.NoError(t, os.Chtimes(file, standin.FaultAt, standin.FaultAt))
	}
	askFile := filepath.Join(dir, "ask.yaml")
	require.NoError(t, os.WriteFile(askFile, []byte(fmt.Sprintf(`ask: local
vendor: Ostrevane Gate Systems
vitals: no
case: {archive: '{case}_{round}', encrypt-to: [age1xd3mmjrplf5wh5692ga5ewwtex74k609j8l0rk6qzgydg4wr3dyqr6r902]}
items:
  - {id: log, files: ['%[1]s/log/*'], required: true}
  - {id: state, run: echo fine}
  - {id: bundle, run: 'echo in > {folder}/in.txt; echo out > %[1]s/made/new.txt', makes: ['{folder}/*', '%[1]s/made/*.txt'], remove: yes}
routes:
  - {name: stick, to: '%[2]s'}
`, host, stick)), 0o600))
	systems := filepath.Join(dir, "systems.yaml")
	require.NoError(t, os.WriteFile(systems, []byte("site: tallow-pier\nsystems: [{name: desk-pc, local: true}]\n"), 0o600))
	sum, err := cli.AskDigest(askFile)
	require.NoError(t, err)
	steps := [][]string{
		{"ask", "approve", askFile, "--digest", sum},
		{"open", "26031407", "--ask", askFile, "--systems", systems, "--around", "2026-03-14 06:12Z", "--margin", "40m"},
		{"collect"}, {"pack", "--split", "1KiB"}, {"review", "--approve"}, {"submit", "--yes"}, {"tidy", "--yes"},
	}
	restore := func() {
		for _, d := range []string{home, stick} {
			require.NoError(t, os.RemoveAll(d))
		}
		must(t, exec.Command("cp", "-a", filepath.Join(saved, "home"), filepath.Join(saved, "stick"), dir))
	}
	save := func() {
		require.NoError(t, os.RemoveAll(saved))
		require.NoError(t, os.MkdirAll(saved, 0o755))
		must(t, exec.Command("cp", "-a", home, stick, saved))
	}
	require.NoError(t, os.MkdirAll(home, 0o700))
	kills := 0
	for _, step := range steps {
		save()
		points := filepath.Join(dir, "points")
		_ = os.Remove(points)
		must(t, envask("ENVASK_POINTS="+points, step...))
		data, _ := os.ReadFile(points)
		names := strings.Split(strings.TrimSpace(string(data)), "\n")
		require.NotEmpty(t, names, step)
		for i := 1; i <= len(names); i++ {
			restore()
			c := envask(fmt.Sprintf("ENVASK_KILL_AT=%d", i), step...)
			said, err := c.CombinedOutput()
			if err == nil {
				continue // another order of things: it came through with fewer points
			}
			require.Equal(t, -1, c.ProcessState.ExitCode(), "%v at %q: %s", step, names[i-1], said)
			kills++
			where := fmt.Sprintf("%v killed at %d (%s)", step, i, names[i-1])
			if step[0] == "pack" { // whatever there is now, nothing plain goes
				_, _ = envask("", "submit", "--yes").CombinedOutput()
				left, err := os.ReadDir(stick)
				require.NoError(t, err)
				for _, f := range left {
					require.Contains(t, f.Name(), ".age", where)
				}
			}
			said, err = envask("", step...).CombinedOutput()
			if err != nil && step[0] == "submit" && strings.Contains(string(said), "sent already") {
				err = nil
			}
			require.NoError(t, err, "%s, and the next try: %s", where, said)
			checkHome(t, envask, home, where)
		}
		restore()
		must(t, envask("", step...))
		t.Logf("%s: %d points", step[0], len(names))
	}
	require.NoFileExists(t, filepath.Join(host, "made", "new.txt"))
	// What stands aside in the home, where several may work at once, goes as soon as nobody holds it.
	aside := filepath.Join(home, ".current.12345.tmp")
	require.NoError(t, os.WriteFile(aside, nil, 0o600))
	require.NoError(t, os.Chtimes(aside, standin.FaultAt, standin.FaultAt))
	must(t, envask("", "tidy", "--yes", "--unsent"))
	must(t, envask("", "collect", "--quiet"))
	require.NoFileExists(t, aside)
	t.Logf("%d kills", kills)
	require.Greater(t, kills, 100)
}

// TestInterruptEverywhere sends Ctrl-C in the middle of everything that takes long: it ends within two seconds, here with room for a
// busy machine, and says 130; the figures are logged.
func TestInterruptEverywhere(t *testing.T) {
	if !long() {
		t.Skip("SKIPPED: long (make test-long)")
	}
	dir := t.TempDir()
	home, host := filepath.Join(dir, "home"), filepath.Join(dir, "host")
	envask := program(t, home)
	for _, d := range []string{"log", "many", "stick"} {
		require.NoError(t, os.MkdirAll(filepath.Join(host, d), 0o755))
	}
	big := filepath.Join(host, "log", "gate.log")
	f, err := os.Create(big)
	require.NoError(t, err)
	line := strings.Repeat("2026-03-14T06:12:00Z ERROR gate open 192.0.2.61 password=brass-Kelp-71! user=ilka.brandvold passes 17\n", 10_000)
	for range 250 {
		_, err := f.WriteString(line)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	for i := range 30_000 {
		require.NoError(t, os.WriteFile(filepath.Join(host, "many", fmt.Sprintf("%06d.job", i)), []byte("x\n"), 0o600))
	}
	askFile, systems := filepath.Join(dir, "ask.yaml"), filepath.Join(dir, "systems.yaml")
	require.NoError(t, os.WriteFile(askFile, []byte(fmt.Sprintf("ask: local\nvendor: Ostrevane Gate Systems\nvitals: no\nitems:\n  - {id: log, files: ['%[1]s/log/*'], cut: none}\n  - {id: many, files: ['%[1]s/many/**/x', '%[1]s/many/*'], cut: none, depth: deep}\nroutes:\n  - {name: stick, to: '%[1]s/stick'}\n", host)), 0o600))
	require.NoError(t, os.WriteFile(systems, []byte("site: tallow-pier\nsystems: [{name: desk-pc, local: true}]\n"), 0o600))
	sum, err := cli.AskDigest(askFile)
	require.NoError(t, err)
	must(t, envask("ask", "approve", askFile, "--digest", sum))
	must(t, envask("open", "26031407", "--ask", askFile, "--systems", systems, "--around", "2026-03-14 06:12Z", "--margin", "40m"))
	key := "age1xd3mmjrplf5wh5692ga5ewwtex74k609j8l0rk6qzgydg4wr3dyqr6r902"
	plain := filepath.Join(home, "cases", "26031407", "out", "26031407_tallow-pier_r1.tar.gz")
	longest := time.Duration(0)
	for _, c := range []struct {
		args   []string
		after  []time.Duration // when it is interrupted
		finish bool            // and then run to its end
	}{
		{[]string{"collect", "--yes"}, []time.Duration{100, 400, 900}, true},
		{[]string{"collect", "--yes", "--depth", "deep", "--item", "many"}, []time.Duration{200, 900, 2000}, false},
		{[]string{"pack", "--round", "r1", "--encrypt-to", key}, []time.Duration{100, 600, 2000, 3500, 5000}, false},
		{[]string{"pack", "--round", "r1"}, []time.Duration{500, 2500}, true},
		{[]string{"pack", "--round", "r1", "--split", "1MiB", "--format", "zip"}, []time.Duration{4000}, false},
		{[]string{"verify", plain}, []time.Duration{100, 700}, false},
		{[]string{"review"}, []time.Duration{100, 1500}, false},
		{[]string{"submit", "--yes"}, []time.Duration{200, 700, 1200}, false},
		{[]string{"redact", big}, []time.Duration{300, 3000}, false},
		{[]string{"times", big}, []time.Duration{50}, false},
		{[]string{"show", plain}, []time.Duration{200}, false},
		{[]string{"compare", host + "/log", host + "/many"}, []time.Duration{300}, false},
	} {
		for _, after := range c.after {
			run := envask(c.args...)
			require.NoError(t, run.Start())
			time.Sleep(after * time.Millisecond)
			begun := time.Now()
			_ = run.Process.Signal(os.Interrupt)
			_ = run.Wait()
			took := time.Since(begun).Round(time.Millisecond)
			code := run.ProcessState.ExitCode()
			t.Logf("%v after %d ms: ended after %s with %d", c.args[0], after, took, code)
			if code == 130 {
				longest = max(longest, took)
			}
			require.Contains(t, []int{0, 1, 2, 3, 130}, code)
			require.Less(t, took, 6*time.Second, "%v", c.args)
		}
		if c.finish {
			must(t, envask(append(c.args, "--quiet")...))
		}
	}
	t.Logf("the longest time to end after Ctrl-C: %s", longest)
	// A second Ctrl-C ends at once.
	run := envask("pack", "--round", "r1", "--encrypt-to", key)
	require.NoError(t, run.Start())
	time.Sleep(time.Second)
	_ = run.Process.Signal(os.Interrupt)
	_ = run.Process.Signal(os.Interrupt)
	_ = run.Wait()
	require.Equal(t, 130, run.ProcessState.ExitCode())
	must(t, envask("pack", "--round", "r1", "--quiet"))
	must(t, envask("verify", plain))
}

// checkHome makes sure that nothing half made or temporary is left in a home, and that its case says so.
func checkHome(t *testing.T, envask func(string, ...string) *exec.Cmd, home, where string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(home, func(name string, d os.DirEntry, err error) error {
		base := filepath.Base(name)
		require.False(t, strings.HasPrefix(base, ".") && strings.HasSuffix(base, ".tmp") && filepath.Dir(name) != home && !strings.Contains(name, "approvals"), "%s: %s is left", where, name)
		require.False(t, strings.HasPrefix(base, ".packing-"), "%s: %s is left", where, name)
		return err
	}))
	if _, err := os.Stat(filepath.Join(home, "cases", "26031407", "case.yaml")); err != nil {
		return
	}
	said, err := envask("", "show", "--json", "--quiet").Output()
	require.NoError(t, err, where)
	require.Contains(t, string(said), `"pending": []`, where)
	archives, err := filepath.Glob(filepath.Join(home, "cases", "26031407", "out", "*.plain"))
	require.NoError(t, err)
	for _, a := range archives {
		must(t, envask("", "verify", a))
	}
}
