//go:build !windows

package cli_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"image/png"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"
	"unicode/utf16"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"envask/internal/cli"
	"envask/internal/collect"
	"envask/internal/patience"
	"envask/internal/standin"
)

// TestMain makes the test program double as envask, so that scripts drive it as a process of its own.
func TestMain(m *testing.M) {
	testscript.Main(tidied{m}, map[string]func(){
		"envask": func() {
			collect.DefaultPauses = patience.Steps{10 * time.Millisecond, 50 * time.Millisecond} // a stand-in that is down stays down
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
			defer stop()
			os.Exit(cli.Main(ctx, os.Args[1:], cli.ProcessEnv()))
		},
	})
}

// tidied removes what tests built.
type tidied struct{ m *testing.M }

func (t tidied) Run() int {
	defer func() {
		if builtDir != "" {
			os.RemoveAll(builtDir)
		}
	}()
	return t.m.Run()
}

func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir:                 "testdata/script",
		RequireExplicitExec: true,
		RequireUniqueNames:  true,
		Setup: func(e *testscript.Env) error {
			e.Setenv("ENVASK_HOME", filepath.Join(e.WorkDir, "home"))
			e.Setenv("HOME", filepath.Join(e.WorkDir, "user"))
			e.Setenv("SSH_AUTH_SOCK", "")
			return os.MkdirAll(filepath.Join(e.WorkDir, "user"), 0o700)
		},
		Condition: func(cond string) (bool, error) {
			if cond == "root" {
				return os.Getuid() == 0, nil
			}
			return false, fmt.Errorf("unknown condition %q", cond)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"code":        cmdCode,
			"site":        cmdSite,
			"key":         cmdKey,
			"logs":        cmdLogs,
			"open":        cmdOpen,
			"untar":       cmdUntar,
			"planted":     cmdPlanted,
			"damage":      cmdDamage,
			"fifo":        cmdFifo,
			"sizeof":      cmdSizeof,
			"times":       cmdTimes,
			"digest":      cmdDigest,
			"replace":     cmdReplace,
			"interrupted": cmdInterrupted,
			"devices":     cmdDevices,
			"typed":       cmdTyped,
			"hub":         cmdHub,
			"picture":     cmdPicture,
		},
	})
}

// cmdCode runs envask and wants one exit code: code 3 collect --quiet
func cmdCode(ts *testscript.TestScript, neg bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	err = ts.Exec("envask", args[1:]...)
	got := 0
	if err != nil {
		m := regexp.MustCompile(`exit status (\d+)`).FindStringSubmatch(err.Error())
		if m == nil {
			ts.Fatalf("envask did not end by itself: %v", err)
		}
		got, _ = strconv.Atoi(m[1])
	}
	if got != want {
		ts.Fatalf("exit code %d, want %d", got, want)
	}
}

// cmdPicture makes a picture, PNG or JPEG by its name, of one shade: picture error.png 40x20 200
func cmdPicture(ts *testscript.TestScript, neg bool, args []string) {
	var w, h, shade int
	_, err := fmt.Sscanf(args[1]+" "+args[2], "%dx%d %d", &w, &h, &shade)
	ts.Check(err)
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	draw.Draw(m, m.Bounds(), image.NewUniform(color.Gray{uint8(shade)}), image.Point{}, draw.Src)
	var b bytes.Buffer
	if strings.HasSuffix(args[0], ".png") {
		ts.Check(png.Encode(&b, m))
	} else {
		ts.Check(jpeg.Encode(&b, m, nil))
	}
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), b.Bytes(), 0o600))
}

// cmdKey makes a pair of keys of SSH: key NAME writes NAME and NAME.pub
func cmdKey(ts *testscript.TestScript, neg bool, args []string) {
	private, public, err := standin.NewKey()
	ts.Check(err)
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), private, 0o600))
	ts.Check(os.WriteFile(ts.MkAbs(args[0]+".pub"), ssh.MarshalAuthorizedKey(public), 0o600))
}

// windowsTree are the files of a gate controller with Windows.
func windowsTree() *standin.Tree {
	t := standin.NewTree()
	t.File("/C:/ProgramData/Gate/log/gate.log",
		[]byte("2026-03-13 06:12:00 before\r\n2026-03-14 06:12:00 lane 4 stuck\r\n2026-03-15 06:12:00 after\r\n"),
		time.Date(2026, 3, 15, 7, 0, 0, 0, time.UTC))
	t.File("/C:/ProgramData/Gate/gate.ini", []byte("[log]\r\nfolder=C:\\ProgramData\\Gate\\log\r\n"),
		time.Date(2026, 3, 1, 7, 0, 0, 0, time.UTC))
	return t
}

// windowsShell answers as cmd.exe does on that system. What PowerShell gets is encoded (UTF-16 in base64).
func windowsShell(command string, out io.Writer) (int, bool) {
	script := ""
	if _, encoded, ok := strings.Cut(command, "-EncodedCommand "); ok {
		raw, _ := base64.StdEncoding.DecodeString(encoded)
		script = strings.ReplaceAll(string(raw), "\x00", "")
	}
	switch {
	case strings.Contains(script, "UtcNow"):
		now := time.Now().Add(45 * time.Second)
		fmt.Fprintf(out, "%d.%09d\r\nLeap Indicator: 0(no warning)\r\n", now.Unix(), now.Nanosecond())
	case strings.Contains(script, "Win32_OperatingSystem"):
		fmt.Fprint(out, "\r\n== release ==\r\nPRETTY_NAME=Microsoft Windows Server 2022 Standard\r\n\r\n== processors ==\r\n4\r\n\r\n== end ==\r\n")
	case command == "tzutil.exe /g":
		fmt.Fprint(out, "GMT Standard Time")
	case strings.HasPrefix(command, "echo envask-%ComSpec%"):
		fmt.Fprint(out, "envask-C:\\Windows\\system32\\cmd.exe-$PSHOME-\r\n")
	case strings.HasPrefix(command, `wevtutil qe "System" `):
		windowsEvents(command, out)
	case strings.HasPrefix(command, "wevtutil qe "):
		fmt.Fprint(out, "Failed to read events.\r\nAccess is denied.\r\n")
		return 5, true
	case strings.HasPrefix(command, "gatectl "):
		fmt.Fprintf(out, "%s: 2 lanes\r\n", command)
	default:
		fmt.Fprintf(out, "'%s' is not recognized as an internal or external command\r\n", command)
		return 1, true
	}
	return 0, true
}

// windowsEvents answers a query for the events of some spans of time, in UTF-16 as the real one does.
func windowsEvents(command string, out io.Writer) {
	var text strings.Builder
	text.WriteString("<Events>")
	spans := regexp.MustCompile(`@SystemTime>='([^']+)' and @SystemTime<='([^']+)'`).FindAllStringSubmatch(command, -1)
	for i, at := range []string{"2026-03-13T06:12:00.0000000Z", "2026-03-14T06:12:45.5000000Z", "2026-03-15T06:12:00.0000000Z"} {
		if slices.ContainsFunc(spans, func(s []string) bool { return s[1] <= at && at <= s[2] }) {
			fmt.Fprintf(&text,
				"<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider Name='GateService'/>"+
					"<EventID>70%d</EventID><Level>2</Level><TimeCreated SystemTime='%s'/><Computer>GATE-2</Computer></System>"+
					"<EventData><Data Name='what'>lane %d lost its reader</Data></EventData></Event>", i, at, i)
		}
	}
	text.WriteString("</Events>")
	b := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(text.String())) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	out.Write(b)
}

// cmdSite starts the simulated site and writes its files below files/ and home/. With a word, a system misbehaves:
// site drop gate-2, site stall gate-2, site changed-key gate-2, site down gate-2, site endless gate-2.
func cmdSite(ts *testscript.TestScript, neg bool, args []string) {
	dir := ts.MkAbs(".")
	site, err := standin.StartSite(dir)
	ts.Check(err)
	ts.Defer(func() { site.Close() })
	ts.Check(site.WriteFiles(filepath.Join(dir, "files"), filepath.Join(dir, "home")))
	if len(args) == 0 {
		return
	}
	for _, s := range append(site.Systems[:len(site.Systems):len(site.Systems)], site.Desk) {
		if s.Name != args[1] {
			continue
		}
		switch args[0] {
		case "drop":
			s.Change(func(s *standin.Server) { s.CutAfter = 300_000 })
		case "stall":
			s.Change(func(s *standin.Server) { s.StallAfter = 300_000 })
			rewrite(ts, "files/tallow-pier.yaml", "name: "+s.Name+",", "name: "+s.Name+", stall: 1s,")
		case "down":
			ts.Check(s.Down())
		case "windows":
			s.Change(func(s *standin.Server) {
				s.Windows, s.NoShell, s.Tree, s.Exec = true, true, windowsTree(), windowsShell
			})
		case "jump": // another jump host behind the first
			s.Change(func(s *standin.Server) { s.Forward = true })
			text := ts.ReadFile("files/tallow-pier.yaml")
			line := regexp.MustCompile(`(?m)^.*name: gate-2,.*$`).FindString(text)
			rewrite(ts, "files/tallow-pier.yaml", line, strings.Replace(line, "via: jump", "via: "+s.Name, 1))
			rewrite(ts, "files/tallow-pier.yaml", "name: "+s.Name+",", "name: "+s.Name+", via: jump,")
		case "no-sftp":
			s.Change(func(s *standin.Server) { s.NoSFTP, s.Banner = true, "Welcome to "+s.Name+"\n" })
		case "full":
			s.Change(func(s *standin.Server) { s.Free = 1 << 20 })
		case "quiet-log": // debug logging is off
			s.Change(func(s *standin.Server) { s.Commands["boardingctl log-level"] = standin.Command{Out: "info\n"} })
		case "changed-key":
			rewrite(ts, "files/known_hosts", s.KnownHost(), fmt.Sprintf("[127.0.0.1]:%d %s", s.Port(),
				strings.SplitN(site.Desk.KnownHost(), " ", 2)[1]))
		case "unknown-key":
			rewrite(ts, "files/known_hosts", s.KnownHost()+"\n", "")
			ts.Setenv("FINGERPRINT", s.Fingerprint())
		case "endless":
			s.Commands["boardingctl queue"] = standin.Command{Out: strings.Repeat("again and again\n", 1000), Endless: true}
		case "hostile":
			hostile(s.Tree)
		case "slow":
			s.Commands["boardingctl status --all"] = standin.Command{Out: "late\n", Delay: time.Minute}
		default:
			ts.Fatalf("unknown misbehaviour %q", args[0])
		}
	}
}

// hostile fills a gate's log folder with what an attacker or an accident could leave there.
func hostile(t *standin.Tree) {
	at := standin.FaultAt
	t.File("/var/log/boarding/gate\x1b[31mred\n.log", []byte("2026-03-14T06:12:00Z escape bytes and a newline in the name\n"), at)
	t.File("/var/log/boarding/gate-\xff\xfe.log", []byte("2026-03-14T06:12:00Z no UTF-8 in the name\n"), at)
	t.File("/var/log/boarding/gate-sofia.brandao@merrowick.example.log", []byte("2026-03-14T06:12:00Z a person in the name\n"), at)
	t.Put("/var/log/boarding/gate-loop.log", &standin.Node{Link: "gate-loop.log", Mode: os.ModeSymlink, Time: at})
	t.Put("/var/log/boarding/gate-out.log", &standin.Node{Link: "/etc/shadow", Mode: os.ModeSymlink, Time: at})
	t.Put("/var/log/boarding/gate-dev.log", &standin.Node{Mode: os.ModeDevice, Time: at})
	t.Put("/var/log/boarding/gate-short.log", &standin.Node{Data: []byte("2026-03-14T06:12:00Z shorter than it says\n"), Size: 5000,
		Time: at})
	t.File("/etc/shadow", []byte("root:$6$abc$def:20000::::::\n"), at)
}

func rewrite(ts *testscript.TestScript, file, old, new string) {
	text := ts.ReadFile(file)
	if !strings.Contains(text, old) {
		ts.Fatalf("%s does not contain %q", file, old)
	}
	ts.Check(os.WriteFile(ts.MkAbs(file), []byte(strings.Replace(text, old, new, 1)), 0o600))
}

// cmdReplace replaces a text in a file: replace FILE OLD NEW
func cmdReplace(ts *testscript.TestScript, neg bool, args []string) {
	rewrite(ts, args[0], args[1], args[2])
}

// cmdLogs makes a small local system below host/, with the ask and systems file for it.
func cmdLogs(ts *testscript.TestScript, neg bool, args []string) {
	host := ts.MkAbs("host")
	write := func(name, text string, modified time.Time) {
		file := filepath.Join(host, name)
		ts.Check(os.MkdirAll(filepath.Dir(file), 0o755))
		ts.Check(os.WriteFile(file, []byte(text), 0o644))
		ts.Check(os.Chtimes(file, modified, modified))
	}
	at := standin.FaultAt
	write("log/gate.log", "2026-03-14T06:11:59Z INFO start\n2026-03-14T06:12:00Z ERROR no fare table, "+
		"token=tpg_1234567890ab\n2026-03-14T06:12:01Z try tpg_1234567890ab again\n", at.Add(time.Hour))
	write("log/gate.log.1", "2026-03-13T01:00:00Z INFO yesterday\n", at.Add(-20*time.Hour))
	write("log/late.log", "2026-03-14T09:00:00Z INFO later\n", at.Add(3*time.Hour))
	write("log/notes.txt", "no time in here\n", at.Add(time.Minute))
	write("etc/gate.toml", "password = \"brass-Kelp-71!\"\nversion = \"10.2.14.1\"\n", at.Add(-500*time.Hour))
	ask := fmt.Sprintf(`ask: local
vendor: Ostrevane Gate Systems
vitals: no
case: {number: '^[0-9]{8}$', archive: '{case}_{site}_{round}'}
items:
  - id: log
    files: ['%s/log/**']
    required: true
  - id: config
    files: ['%s/etc/*.toml']
    cut: none
  - id: state
    run: echo state is fine
routes:
  - {name: stick, to: '%s'}
`, host, host, ts.MkAbs("stick"))
	ts.Check(os.MkdirAll(ts.MkAbs("stick"), 0o755))
	ts.Check(os.WriteFile(ts.MkAbs("ask.yaml"), []byte(ask), 0o644))
	ts.Check(os.WriteFile(ts.MkAbs("systems.yaml"),
		[]byte("site: tallow-pier\nzone: Europe/Lisbon\nsystems:\n  - {name: desk-pc, local: true}\n"), 0o644))
}

// cmdOpen opens and approves case 26031407, of the local system or of the site: open local, open site
func cmdOpen(ts *testscript.TestScript, neg bool, args []string) {
	ask, systems := "ask.yaml", "systems.yaml"
	if args[0] == "site" {
		ask, systems = "files/boarding-gateway.yaml", "files/tallow-pier.yaml"
	}
	sum, err := cli.AskDigest(ts.MkAbs(ask))
	ts.Check(err)
	ts.Check(ts.Exec("envask", "ask", "approve", ask, "--digest", sum))
	open := []string{"open", "26031407", "--ask", ask, "--systems", systems, "--around", "2026-03-14 06:12", "--margin", "40m"}
	if args[0] == "site" {
		open = append(open, "--answer", "serial=OG004417")
	}
	ts.Check(ts.Exec("envask", open...))
}

// cmdDigest sets DIGEST to the first digits of an ask's SHA-256.
func cmdDigest(ts *testscript.TestScript, neg bool, args []string) {
	sum, err := cli.AskDigest(ts.MkAbs(args[0]))
	ts.Check(err)
	ts.Setenv("DIGEST", sum)
}

// cmdUntar unpacks the only archive that matches into unpacked/.
func cmdUntar(ts *testscript.TestScript, neg bool, args []string) {
	found, err := filepath.Glob(ts.MkAbs(args[0]))
	ts.Check(err)
	if len(found) != 1 {
		ts.Fatalf("%d archives match %s", len(found), args[0])
	}
	f, err := os.Open(found[0])
	ts.Check(err)
	defer f.Close()
	zr, err := gzip.NewReader(f)
	ts.Check(err)
	for tr := tar.NewReader(zr); ; {
		h, err := tr.Next()
		if err == io.EOF {
			return
		}
		ts.Check(err)
		_, below, _ := strings.Cut(h.Name, "/")
		name := filepath.Join(ts.MkAbs("unpacked"), filepath.FromSlash(below))
		ts.Check(os.MkdirAll(filepath.Dir(name), 0o755))
		data, err := io.ReadAll(tr)
		ts.Check(err)
		ts.Check(os.WriteFile(name, data, 0o644))
	}
}

// cmdPlanted looks for the story's secrets and people in unpacked/, in files and names.
func cmdPlanted(ts *testscript.TestScript, neg bool, args []string) {
	files, finder, found := 0, standin.NewPlantFinder(), map[string]string{}
	ts.Check(filepath.WalkDir(ts.MkAbs(args[0]), func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		files++
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		here, err := finder.Find(f, name)
		for _, what := range here {
			found[what] = name
		}
		return err
	}))
	if files < 20 {
		ts.Fatalf("only %d files were looked at", files)
	}
	if neg {
		if len(found) < len(standin.Planted)-3 { // two are passengers, and of a file of many not all are listed
			ts.Fatalf("only %d planted values are there: %v", len(found), found)
		}
		return
	}
	for what, name := range found {
		ts.Fatalf("%s is in %s", what, name)
	}
}

// cmdDamage changes a file: damage flip FILE AT, damage cut FILE BYTES, damage append FILE TEXT
func cmdDamage(ts *testscript.TestScript, neg bool, args []string) {
	found, err := filepath.Glob(ts.MkAbs(args[1]))
	ts.Check(err)
	if len(found) != 1 {
		ts.Fatalf("%d files match %s", len(found), args[1])
	}
	data, err := os.ReadFile(found[0])
	ts.Check(err)
	switch args[0] {
	case "flip":
		at, err := strconv.Atoi(args[2])
		ts.Check(err)
		data[(at+len(data))%len(data)] ^= 0xff
	case "cut":
		n, err := strconv.Atoi(args[2])
		ts.Check(err)
		data = data[:len(data)-n]
	case "append":
		data = append(data, args[2]...)
	}
	ts.Check(os.Chmod(found[0], 0o600))
	ts.Check(os.WriteFile(found[0], data, 0o600))
}

// cmdSizeof wants a file to be larger or smaller: sizeof FILE < 5000
func cmdSizeof(ts *testscript.TestScript, neg bool, args []string) {
	info, err := os.Stat(ts.MkAbs(args[0]))
	ts.Check(err)
	n, err := strconv.ParseInt(args[2], 10, 64)
	ts.Check(err)
	if (args[1] == "<") != (info.Size() < n) {
		ts.Fatalf("%s has %d bytes", args[0], info.Size())
	}
}

// cmdTimes wants a text so many times in a file: times 2 TEXT FILE
func cmdTimes(ts *testscript.TestScript, neg bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	if got := strings.Count(ts.ReadFile(args[2]), args[1]); got != want {
		ts.Fatalf("%q stands %d times in %s, want %d", args[1], got, args[2], want)
	}
}

// Scripts open with a line that says what they prove, and are named after the command.
func TestScriptsSayWhatTheyProve(t *testing.T) {
	found, err := filepath.Glob("testdata/script/*.txtar")
	require.NoError(t, err)
	require.Greater(t, len(found), 15)
	commands := `^(open|probe|collect|inbox|pack|verify|submit|cases|show|review|reveal|compare|add|run|redact|times|ask|repair|demo|tidy|version|help|site|completion|brief|case)(-[a-z-]+)?\.txtar$`
	for _, f := range found {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(string(data), "# "), f)
		require.Regexp(t, commands, filepath.Base(f))
	}
}

// cmdInterrupted runs envask and interrupts it after a while: interrupted 3s collect --item x
func cmdInterrupted(ts *testscript.TestScript, neg bool, args []string) {
	after, err := time.ParseDuration(args[0])
	ts.Check(err)
	self, err := os.Executable()
	ts.Check(err)
	cmd := exec.Command(filepath.Join(filepath.Dir(self), "envask"), args[1:]...)
	if p, err := exec.LookPath("envask"); err == nil {
		cmd.Path = p
	}
	cmd.Dir = ts.MkAbs(".")
	cmd.Env = append(os.Environ(), "ENVASK_HOME="+ts.Getenv("ENVASK_HOME"), "HOME="+ts.Getenv("HOME"), "SSH_AUTH_SOCK=")
	var said bytes.Buffer
	cmd.Stderr = &said
	ts.Check(cmd.Start())
	time.Sleep(after)
	ts.Check(cmd.Process.Signal(os.Interrupt))
	err = cmd.Wait()
	if cmd.ProcessState.ExitCode() != 130 {
		ts.Fatalf("it ended with %v: %s", err, said.String())
	}
}
