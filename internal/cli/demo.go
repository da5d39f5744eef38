package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"envask/internal/archive"
	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/standin"
)

// demoMark is a file by which the demo knows its own folder, so that it never removes another.
const demoMark = ".envask-demo"

// demoCase is the case that the demo goes through, and demoHurriedCase one that has gaps.
const (
	demoCase        = "26031407"
	demoHurriedCase = "26031302"
)

func newDemo(s *session) *cobra.Command {
	var dir, files, console string
	var stay, routes bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "The whole job on a simulated site, in under a minute",
		Long: `Start a simulated site within the program (two boarding gates behind a jump host, a fare service, a display that is down, and
the vendor's desk, on loopback ports), and do the whole job on it with the real code. The case stays in the folder, to be read.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if console != "" {
				return standin.Attach(cmd.Context(), console, s.env.In, s.env.Out, s.env.Err)
			}
			if files != "" {
				if err := standin.WriteSamples(files); err != nil {
					return fault.Wrap("write the samples", files, err)
				}
				s.screen.Print("wrote boarding-gateway.yaml (the vendor's ask) and tallow-pier.yaml (the systems) to %s", term.Clean(files))
				return nil
			}
			abs, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			return s.demo(cmd.Context(), abs, stay, routes)
		},
	}
	c.Flags().StringVar(&dir, "dir", "envask-demo", "folder for the demo; an earlier demo in it is replaced")
	c.Flags().BoolVar(&stay, "stay", false, "keep the site up afterwards, and say what to try by hand")
	c.Flags().BoolVar(&routes, "routes", false, "hand the archive over by every route of the ask, one after the other")
	c.Flags().StringVar(&console, "console", "", "attach to the shell of a simulated container, at this address")
	_ = c.Flags().MarkHidden("console") // the flag is there
	c.Flags().StringVar(&files, "files", "", "only write the sample ask and systems file to this folder")
	return c
}

// demoStep is one command of the demo, as it would be typed.
type demoStep struct {
	say  string
	args []string
}

// demoBefore is what an engineer does before a change: the fare service will be upgraded tonight.
func demoBefore(files string) []demoStep {
	ask := filepath.Join(files, "boarding-gateway.yaml")
	return []demoStep{
		{"The fare service will be upgraded tonight. Keep how it is, under a working name; there is no case yet:",
			[]string{"open", "before-the-upgrade", "--working-name", "--ask", ask, "--systems", filepath.Join(files, "tallow-pier.yaml"),
				"--around", "2026-03-13 20:00"}},
		{"An ask comes from outside. See all that it would do, and approve it:", []string{"ask", "approve", ask, "--digest"}},
		{"A baseline:", []string{"collect", "--baseline", "--system", "fare-1", "--item", "fare-config,fare-tables,vitals"}},
		{"Another case was written in a hurry:", []string{"open", demoHurriedCase, "--ask", ask, "--systems",
			filepath.Join(files, "tallow-pier.yaml"), "--title", "boarding gateway does not work", "--around", "2026-03-13 20:00"}},
		{"What would the desk ask next?", []string{"brief", "--set", "severity=halted", "--set", "how-often=sometimes",
			"--set", "steps=open lane 2", "--set", "attachments=see lane.png"}},
	}
}

func demoSteps(files string) []demoStep {
	return []demoStep{
		{"Gate 2 accepts no passes since 06:12. The vendor opened case " + demoCase + " and sent an ask. Open the case:",
			[]string{"open", demoCase, "--ask", filepath.Join(files, "boarding-gateway.yaml"), "--systems",
				filepath.Join(files, "tallow-pier.yaml"),
				"--title", "gate 2 accepts no passes", "--answer", "serial=OG004417", "--around", "2026-03-14 06:12", "--margin", "40m"}},
		{"Can every system be reached? What do their clocks show? One display is switched off:", []string{"probe"}},
		{"What would be taken? Nothing is, yet:", []string{"collect", "--dry-run", "--system", "gate-2"}},
		{"Collect from all systems at once, and receive what the switch can only send:",
			[]string{"collect", "--listen", "127.0.0.1", "--note", "before any restart"}},
		{"What can only a person bring?", []string{"show", "--todo"}},
		{"The operator sends a picture of the screen and a recording of the browser. Each is told by its content, and checked:",
			[]string{"add", filepath.Join(files, standin.PictureFile), filepath.Join(files, standin.RecordingFile), "--note",
				"from the operator, by mail"}},
		{"Gate 2's clock was 90 seconds ahead, and a part of the window had been rotated away and compressed:",
			[]string{"show", "r1", "--system", "gate-2", "--item", "gate-log"}},
		{"The switches have command lines of their own. For its dump an account was opened on one, and closed again; the stack names a " +
			"member that nobody listed:", []string{"show", "r1", "--system", "pier-switch,deck-stack"}},
		{"How do the systems differ? Gate 2 is busy, runs an older agent, and its clock is wrong:", []string{"show", "--vitals"}},
		{"What is different from before the upgrade?", []string{"compare", "baseline", "r1", "--system", "fare-1"}},
		{"The desk wants to know more. What does the evidence say?", []string{"brief", "--set",
			"title=gate 2 at Tallow Pier rejects every pass",
			"--take", "happens,since,environment,changed", "--set", "severity=hindered", "--set",
			"severity-why=gate 1 takes the passengers of both lanes",
			"--set", "category=gates", "--set", "affected=all passengers of lane 2, some 400 an hour", "--set", "expected=the gate opens",
			"--set", "steps=hold any pass to the reader of lane 2 -> the screen turns red"}},
		{"Keep secrets and people out of it, and package it. Nobody but a person can read the picture; it may go:",
			[]string{"pack", "--opaque", "error-picture"}},
		{"Review what was replaced, look at the picture, then approve it:",
			[]string{"review", "--looked", standin.PictureFile, "--approve"}},
		{"Check the archive as the vendor would:", []string{"verify"}},
		{"Send it, and keep the proof:", []string{"submit", "--yes"}},
		{"The desk answers. Its reply is kept with the case, and never packed:",
			[]string{"add", "--reply", filepath.Join(files, standin.ReplyFile)}},
		{"Read it with the real names:", []string{"reveal", standin.ReplyFile}},
		{"What the case holds now:", []string{"show"}},
	}
}

// routeSteps hand the archive over by every other way that the sample ask names.
func routeSteps() []demoStep {
	var steps []demoStep
	for _, r := range []struct{ name, say string }{
		{"ftp", "The desk takes it over FTP with TLS as well, and computes the checksum:"},
		{"web", "Or by PUT:"},
		{"folder", "Or into a WebDAV folder, which is made for the case:"},
		{"form", "Or by its web form, with the fields filled in; the desk answers with a ticket:"},
		{"upload", "Or by an upload that resumes after a break:"},
		{"mail", "Or by mail, through the engineer's own server:"},
		{"draft", "Or as a mail for the engineer's mail program:"},
		{"page", "And where there is no interface at all, the fields of the vendor's page, ready to paste:"},
	} {
		steps = append(steps, demoStep{r.say, []string{"submit", "--yes", "--route", r.name}})
	}
	return append(steps, demoStep{"Is it still there? The desk is asked again:",
		[]string{"submit", "--confirm", "--route", "desk", "--route", "folder"}})
}

func (s *session) demo(ctx context.Context, dir string, stay, routes bool) error {
	if err := clearDemo(dir); err != nil {
		return err
	}
	begun := time.Now()
	site, err := standin.StartSite(dir)
	if err != nil {
		return fault.Wrap("start the simulated site", "", err)
	}
	defer site.Close()
	site.Program = os.Args[0]
	home, files := filepath.Join(dir, "home"), filepath.Join(dir, "files")
	if err := site.WriteFiles(files, home); err != nil {
		return fault.Wrap("write the demo's files", dir, err)
	}
	steps := demoSteps(files)
	if routes {
		steps = append(steps, routeSteps()...)
	}
	upgrade := standin.FareBeforeUpgrade(site.System("fare-1"))
	for _, step := range demoBefore(files) {
		if err := s.demoStep(ctx, home, step); err != nil {
			return err
		}
	}
	upgrade()
	for _, step := range steps {
		if err := s.demoStep(ctx, home, step); err != nil {
			return err
		}
	}
	if err := s.demoProof(ctx, home); err != nil {
		return err
	}
	s.screen.Print("\nDone in %s. The case is in %s; look at:", time.Since(begun).Round(100*time.Millisecond), term.Clean(dir))
	for _, l := range []string{"tar -xzf " + filepath.Join(dir, "desk", "incoming", "*.tar.gz") +
		"   and open START-HERE.html in a browser",
		"envask --home " + home + " show r1", "envask demo --files DIR   for the ask and systems file to start your own from"} {
		s.screen.Print("  %s", term.Clean(l))
	}
	if stay {
		return s.demoStay(ctx, site, home, files)
	}
	return nil
}

func clearDemo(dir string) error {
	entries, err := os.ReadDir(dir)
	if err == nil && len(entries) > 0 {
		if _, err := os.Stat(filepath.Join(dir, demoMark)); err != nil {
			return fault.New(fault.Usage, "demo", dir, "the folder exists and was not created by envask demo", "choose another with --dir")
		}
		if err := durable.RemoveAll(dir); err != nil {
			return fault.Wrap("remove the earlier demo", dir, err)
		}
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fault.Wrap("demo", "", err)
	}
	return os.WriteFile(filepath.Join(dir, demoMark), []byte("made by envask demo; it may be removed\n"), 0o600)
}

// demoStep shows a command and runs it, with the same code as if it had been typed.
func (s *session) demoStep(ctx context.Context, home string, step demoStep) error {
	args := step.args
	switch args[len(args)-1] {
	case "--digest":
		sum, err := AskDigest(args[len(args)-2])
		if err != nil {
			return err
		}
		args = append(args, sum)
	case "verify":
		a, err := newestArchive(home)
		if err != nil {
			return err
		}
		args = append(args, a)
	}
	s.screen.Print("\n%s\n%s", s.screen.Paint(term.Bold, step.say), s.screen.Paint(term.Faint, "$ envask "+quoteArgs(args)))
	env := s.env
	env.Screen = s.screen
	env.Getenv = func(name string) string {
		if name == "ENVASK_HOME" {
			return home
		}
		return s.env.Getenv(name)
	}
	if code := Main(ctx, args, env); code != 0 && (code != fault.ExitCodes[fault.Incomplete] || args[0] != "probe") { // one system is down
		if ctx.Err() != nil {
			return &fault.Error{Class: fault.Interrupted, Op: "demo", Err: errors.New("interrupted")}
		}
		return fault.New(fault.Failed, "demo", "", fmt.Sprintf("the step above ended with exit code %d", code), "")
	}
	return nil
}

func quoteArgs(args []string) string {
	var out []string
	for _, a := range args {
		if strings.ContainsAny(a, " *'\"") {
			a = "'" + a + "'"
		}
		out = append(out, a)
	}
	return term.Clean(strings.Join(out, " "))
}

func newestArchive(home string) (string, error) {
	found, err := filepath.Glob(filepath.Join(casefile.Home{Dir: home}.Dir, "cases", demoCase, "out", "*.tar.gz"))
	if err != nil || len(found) == 0 {
		return "", fault.New(fault.Failed, "demo", "", "no archive was made", "")
	}
	return found[len(found)-1], nil
}

// demoProof looks for every planted secret and person in the archive.
func (s *session) demoProof(ctx context.Context, home string) error {
	a, err := newestArchive(home)
	if err != nil {
		return err
	}
	hits, finder := 0, standin.NewPlantFinder()
	_, err = archive.VerifyFile(ctx, a, func(name string, r io.Reader) error {
		found, err := finder.Find(r, name)
		for _, what := range found {
			s.screen.Print("%s is in %s", what, name)
			hits++
		}
		return err
	})
	if err != nil {
		return err
	}
	if hits > 0 {
		return fault.New(fault.Failed, "demo", "", "planted values are in the archive", "")
	}
	s.screen.Print("\nThe story planted %d secrets and people in its files; none of them is in the archive: not bare, not escaped, not "+
		"in base64, not in a gzip in a tar, not in a name.", len(standin.Planted))
	return nil
}

func (s *session) demoStay(ctx context.Context, site *standin.Site, home, files string) error {
	s.screen.Print("\nThe site stays up until Ctrl-C. In another terminal:")
	for _, l := range []string{"export ENVASK_HOME=" + home, "envask cases", "envask collect --depth deep --note 'with system logs'",
		"envask show r2 --system gate-2",
		"envask collect --system fare-1 --item fare-log", "envask pack", "less " + filepath.Join(files, "boarding-gateway.yaml")} {
		s.screen.Print("  %s", term.Clean(l))
	}
	s.screen.Print("The switches take you by hand, too; the passwords are in %s:", term.Clean(filepath.Join(files, "*.password")))
	for _, l := range site.ByHand() {
		s.screen.Print("  %s", l)
	}
	<-ctx.Done()
	s.screen.Print("the site is down")
	return nil
}
