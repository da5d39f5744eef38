package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json/v1"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/crypto/ssh/agent"

	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/keyfile"
	"envask/internal/patience"
	"envask/internal/reach"
	"envask/internal/site"
)

// Version is stamped in when the program is built.
var Version = "dev"

// Env is what a run of the command line gets from the process.
type Env struct {
	In     io.Reader
	Out    io.Writer
	Err    io.Writer
	Getenv func(string) string
	// Unsetenv takes a variable away once the secret in it was read; nil leaves it.
	Unsetenv func(string) error
	Now      func() time.Time
	Screen   *term.Screen // nil: found out from the streams
}

// ProcessEnv is the environment of this process.
func ProcessEnv() Env {
	return Env{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv, Unsetenv: os.Unsetenv, Now: time.Now}
}

// session is one run of one command.
type session struct {
	asking *term.Board // live lines that give way to a question; nil for none
	env    Env
	screen *term.Screen
	common common
	words  string // the command line, for the lock
	out    *resultWriter

	patience    patience.Clock
	each        bool           // a row for each system, also where many share a reason
	zone        *time.Location // of the times on the screen; nil is the local one
	caseFromEnv bool           // ENVASK_CASE names the case
	typedIn     []string       // passphrases and passwords that a person typed in
	secretsMu   sync.Mutex
	secrets     map[string]string // from the environment, by name
}

// common holds the flags that every command has.
type common struct {
	home, caseName                string
	json, quiet, verbose, noColor bool
	yes                           bool
}

// resultWriter remembers that a result could not be written, such as to a full disk: that is a failure, though the work
// was done.
type resultWriter struct {
	w   io.Writer
	err error
}

func (r *resultWriter) Write(b []byte) (int, error) {
	n, err := r.w.Write(b)
	if err != nil && r.err == nil {
		r.err = err
	}
	return n, err
}

// commands is the ordered table of commands, which is also the order of the help. It is a function because the demo, one of
// them, runs the others.
// group is a heading of the help with its commands.
type group struct {
	title    string
	commands []func(*session) *cobra.Command
}

// groups are the commands in the order of the work.
func groups() []group {
	return []group{
		{"Prepare:", []func(*session) *cobra.Command{newDemo, newAsk, newSite}},
		{"Work on a case:", []func(*session) *cobra.Command{newOpen, newProbe, newCollect, newInbox, newBrief, newPack, newReview,
			newVerify, newSubmit, newRun}},
		{"Afterwards:", []func(*session) *cobra.Command{newAdd, newReveal, newCompare, newTidy, newCase, newRepair}},
		{"Look:", []func(*session) *cobra.Command{newCases, newShow}},
		{"Without a case:", []func(*session) *cobra.Command{newRedact, newTimes, newCompletion, newVersion}},
	}
}

// Main runs one command line and gives the exit code.
func Main(ctx context.Context, args []string, env Env) int {
	s := &session{env: env, words: "envask " + strings.Join(args, " ")}
	root := newRoot(s)
	root.SetArgs(args)
	root.SetIn(env.In)
	root.SetOut(env.Out)
	root.SetErr(env.Err)
	err := root.ExecuteContext(ctx)
	if err == nil && s.out != nil && s.out.err != nil {
		err = fault.Wrap("write the result", "", s.out.err)
	}
	if err == nil {
		return 0
	}
	var said *fault.Error
	if errors.Is(err, context.Canceled) && (fault.ClassOf(err) != fault.Interrupted || !errors.As(err, &said)) {
		err = &fault.Error{Class: fault.Interrupted, Err: errors.New("interrupted"),
			Hint: "run the same command again; what is finished stays"}
	}
	s.complain(env.Err, err)
	return fault.ExitCode(err)
}

// Root gives all commands, for what describes them.
func Root() *cobra.Command { return newRoot(&session{env: ProcessEnv()}) }

func newRoot(s *session) *cobra.Command {
	root := &cobra.Command{
		Use:   "envask",
		Short: "Collect the evidence that a vendor's support desk asks for",
		Long: `Envask takes the logs, configuration and command output of the hours that matter from many systems, keeps secrets
and people out of it, packs it in an archive named after the case, sends it and keeps the proof that it arrived.

Begin with: envask demo`,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error { return s.begin(c.Context()) },
	}
	f := root.PersistentFlags()
	f.StringVar(&s.common.home, "home", "", "folder of all cases (default: ENVASK_HOME, else the XDG data folder)")
	f.StringVar(&s.common.caseName, "case", "", "case to work on (default: ENVASK_CASE, else the one used last in this terminal)")
	f.BoolVar(&s.common.json, "json", false, "write the result as JSON")
	f.BoolVar(&s.common.quiet, "quiet", false, "no progress and no remarks")
	f.BoolVar(&s.common.verbose, "verbose", false, "say more about what is done")
	f.BoolVar(&s.common.noColor, "no-color", false, "no colours")
	f.BoolVar(&s.common.yes, "yes", false,
		"answer yes to a large estimate, to the last question before sending, and to what tidy would remove")
	cobra.EnableCommandSorting = false // the order is that of the work
	for _, g := range groups() {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title})
		for _, newCommand := range g.commands {
			c := newCommand(s)
			c.GroupID = g.title
			root.AddCommand(c)
		}
	}
	root.SetHelpCommandGroupID(groups()[len(groups())-1].title)
	root.Version = Version
	root.Flags().Bool("version", false, "print the version") // without the short form that Cobra gives it
	root.SetVersionTemplate("envask {{.Version}}\n")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error { return usage(c, nearFlag(c, err)) })
	root.CompletionOptions.DisableDefaultCmd = true
	wrapArgs(root)
	root.RunE = func(c *cobra.Command, _ []string) error { return s.standing(c) }
	s.completes(root)
	return root
}

// usage makes an error of class Usage that says where the help is.
func usage(c *cobra.Command, err error) error {
	return &fault.Error{Class: fault.Usage, Err: err, Hint: c.CommandPath() + " --help shows its usage"}
}

// nearFlag proposes the flag that an unknown one looks like.
func nearFlag(c *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	if !errors.As(err, &unknown) || len(unknown.GetSpecifiedName()) < 2 {
		return err
	}
	var known []string
	c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
	if near := keyfile.Nearest(unknown.GetSpecifiedName(), known); near != "" {
		return fmt.Errorf("%w; did you mean --%s?", err, near)
	}
	return err
}

// wrapArgs makes sure that wrong arguments count as wrong usage.
func wrapArgs(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if err := check(c, args); err != nil {
				return usage(c, err)
			}
			return nil
		}
	} else if c.HasSubCommands() {
		c.Args = func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage(c, fmt.Errorf("%q is no command of %s", args[0], c.CommandPath()))
			}
			return nil
		}
		if c.RunE == nil {
			c.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
		}
	}
	for _, sub := range c.Commands() {
		wrapArgs(sub)
	}
}

// begin finds out about the terminal, once the flags are read.
func (s *session) begin(ctx context.Context) error {
	noColor := s.common.noColor || s.env.Getenv("NO_COLOR") != ""
	if s.env.Screen != nil {
		copied := *s.env.Screen
		s.screen = &copied
		s.screen.Color = s.screen.Color && !noColor
	} else {
		s.screen = term.New(s.env.In, s.env.Out, s.env.Err, noColor)
	}
	s.out = &resultWriter{w: s.env.Out}
	s.env.Out, s.screen.Out = s.out, s.out
	s.screen.Ended = ctx.Done()
	if s.common.caseName == "" {
		s.common.caseName = s.env.Getenv("ENVASK_CASE")
		s.caseFromEnv = s.common.caseName != ""
	}
	s.screen.Quiet, s.screen.Verbose = s.common.quiet, s.common.verbose
	if s.common.json {
		s.screen.Live = false
	}
	return nil
}

// complain writes an error as a person reads it: what, where, why, once; then what to do.
func (s *session) complain(w io.Writer, err error) {
	if err == nil {
		return
	}
	w = term.SafeWriter(w)
	var problems keyfile.Problems
	if errors.As(err, &problems) {
		for _, line := range strings.Split(err.Error(), "\n") {
			fmt.Fprintln(w, term.Clean(line))
		}
	} else {
		fmt.Fprintln(w, "error: "+term.Clean(strings.ReplaceAll(err.Error(), "\n", "; ")))
	}
	if hint := fault.HintOf(err); hint != "" {
		fmt.Fprintln(w, "hint: "+term.Clean(s.withCase(hint)))
	}
}

// app makes what the core needs.
func (s *session) app() (*flow.App, error) {
	home, err := s.home()
	if err != nil {
		return nil, err
	}
	a := &flow.App{Home: casefile.Home{Dir: home, Terminal: terminalKey(s.screen.Ask)}, Version: Version, Who: s.who(), Now: s.env.Now,
		Command: s.words, Proxy: http.ProxyFromEnvironment}
	a.Dialer = func(st *site.Site, accept map[string]string) (*reach.Dialer, error) {
		return s.dialer(a.Home, st, accept)
	}
	if s.screen.Ask {
		a.Approve, a.Confirm, a.Large = s.approve, s.confirm, s.large
	}
	if s.common.yes {
		a.Large = func(string) (bool, error) { return true, nil }
	}
	a.Report = s.remark
	a.Secret, a.Typed, a.Patience = s.secret, s.allTyped, &s.patience
	return a, nil
}

// appAndCase makes what the core needs, and opens the case that is meant.
func (s *session) appAndCase() (*flow.App, *casefile.Case, error) {
	a, err := s.app()
	if err != nil {
		return nil, nil, err
	}
	c, err := a.Case(s.common.caseName)
	return a, c, err
}

// remark shows the events that concern every command.
func (s *session) remark(e any) {
	switch e := e.(type) {
	case flow.UsingCase:
		title := ""
		if e.Case.Title != "" {
			title = ": " + term.Clean(e.Case.Title)
		}
		s.zone = e.Case.Window.Zone
		s.screen.Say("case %s%s (times in %s)", e.Case.Name, title, s.zoneShown())
	case flow.Note:
		s.screen.Say("note: %s", term.Clean(s.withCase(e.Text)))
	}
}

func (s *session) home() (string, error) {
	for _, dir := range []string{s.common.home, s.env.Getenv("ENVASK_HOME")} {
		if dir != "" {
			return filepath.Abs(dir)
		}
	}
	if dir := s.env.Getenv("XDG_DATA_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "envask"), nil
	}
	if dir := s.env.Getenv("LOCALAPPDATA"); dir != "" {
		return filepath.Join(dir, "envask"), nil
	}
	h, err := os.UserHomeDir()
	if err != nil {
		return "", fault.New(fault.Usage, "find the home folder", "", err.Error(), "say where the cases are to be with --home")
	}
	return filepath.Join(h, ".local", "share", "envask"), nil
}

func (s *session) who() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}

// dialer gives the core its secrets, agent and prompts.
func (s *session) dialer(home casefile.Home, st *site.Site, accept map[string]string) (*reach.Dialer, error) {
	userHome, err := os.UserHomeDir()
	if err != nil {
		userHome = home.Dir
	}
	d := &reach.Dialer{Patience: &s.patience, Site: st, Secret: s.secret, User: s.who(), HomeDir: userHome, Getenv: s.env.Getenv,
		HostKeys: &reach.HostKeys{Files: []string{filepath.Join(userHome, ".ssh", "known_hosts")}, Own: home.KnownHosts(), Accept: accept}}
	files := []string{filepath.Join(userHome, ".ssh", "config")}
	if runtime.GOOS != "windows" {
		files = append(files, "/etc/ssh/ssh_config")
	}
	d.Config = reach.LoadClientConfig(files...)
	for _, r := range d.Config.Remarks {
		s.screen.Say("note: %s", term.Clean(r))
	}
	if s.screen.Ask {
		d.HostKeys.Confirm = func(name, address, keyType, fingerprint string) (bool, error) {
			return s.confirm(fmt.Sprintf("%s at %s shows a host key that is not known:\n  %s %s\n"+
				"Is that the key of %s, as its owner tells it?",
				name, address, keyType, fingerprint, name))
		}
		d.Passphrase = func(file string) ([]byte, error) {
			defer s.pause()()
			text, err := s.screen.Secret("Passphrase of " + file)
			s.typed(string(text))
			return text, err
		}
		d.Password = func(system, account string) ([]byte, error) {
			defer s.pause()()
			text, err := s.screen.Secret(fmt.Sprintf("Password of %s for %s (empty leaves it out)", term.Clean(account), system))
			s.typed(string(text))
			return text, err
		}
	}
	if sock := s.env.Getenv("SSH_AUTH_SOCK"); sock != "" {
		if conn, err := dialAgent(sock); err == nil {
			d.Agent = agent.NewClient(conn)
		} else {
			s.screen.Detail("the SSH agent cannot be used: %v", err)
		}
	}
	return d, nil
}

// secret reads a secret from where the engineer put it.
func (s *session) secret(ref site.Secret) (string, error) {
	if name, ok := strings.CutPrefix(string(ref), "env:"); ok {
		if v := s.fromEnv(name); v != "" {
			return v, nil
		}
		return "", fmt.Errorf("the environment variable %s, which holds the password, is not set", name)
	}
	file := strings.TrimPrefix(string(ref), "file:")
	if rest, ok := strings.CutPrefix(file, "~/"); ok {
		if h, err := os.UserHomeDir(); err == nil {
			file = filepath.Join(h, rest)
		}
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("read the password: %w", err)
	}
	return strings.TrimRight(string(data), "\r\n"), nil
}

// typed remembers for this run what a person typed in: redaction must know it.
func (s *session) typed(text string) {
	s.secretsMu.Lock()
	defer s.secretsMu.Unlock()
	if text != "" && !slices.Contains(s.typedIn, text) {
		s.typedIn = append(s.typedIn, text)
	}
}

func (s *session) allTyped() []string {
	s.secretsMu.Lock()
	defer s.secretsMu.Unlock()
	return slices.Clone(s.typedIn)
}

// fromEnv takes a secret out of our own environment, so that no program that we start inherits it.
func (s *session) fromEnv(name string) string {
	s.secretsMu.Lock()
	defer s.secretsMu.Unlock()
	if v, ok := s.secrets[name]; ok {
		return v
	}
	v := s.env.Getenv(name)
	if s.secrets == nil {
		s.secrets = map[string]string{}
	}
	s.secrets[name] = v
	if s.env.Unsetenv != nil {
		_ = s.env.Unsetenv(name) // it fails for names that no variable can have
	}
	return v
}

// approve shows a sheet and asks for a yes.
func (s *session) approve(sheet flow.Sheet) (bool, error) {
	defer s.pause()()
	s.drawSheet(s.env.Err, sheet)
	return s.screen.Confirm("Approve this ask?")
}

// pause keeps live lines away from a question, until the function that it gives is called.
func (s *session) pause() func() {
	goOn := s.patience.Pause()
	b := s.asking
	if b == nil {
		return goOn
	}
	b.Pause()
	return func() { b.Resume(); goOn() }
}

// confirm asks for a yes.
func (s *session) confirm(question string) (bool, error) {
	defer s.pause()()
	lines := strings.Split(question, "\n")
	for i := range lines {
		lines[i] = term.Clean(lines[i])
	}
	return s.screen.Confirm(strings.Join(lines, "\n"))
}

// large asks whether a collection that is larger than it should be is wanted all the same.
func (s *session) large(why string) (bool, error) {
	return s.confirm(why + ". Collect all the same?")
}

// foreign gives where content goes that is not ours: on a terminal no byte of it may steer that, elsewhere it stays as it is.
func (s *session) foreign() (out io.Writer, done func() error) {
	if !s.screen.OnTerminal() {
		return s.env.Out, func() error { return nil }
	}
	w := term.Foreign(s.env.Out)
	return w, w.Close
}

// writeJSON writes the one document of a command.
func (s *session) writeJSON(v any) error {
	enc := json.NewEncoder(term.JSON(s.env.Out))
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}
