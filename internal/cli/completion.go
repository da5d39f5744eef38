package cli

import (
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/parts"
	"envask/internal/round"
	"envask/internal/site"
)

// shells are those that completion is written for, with how each is told of it.
var shells = []struct {
	name  string
	how   string
	write func(root *cobra.Command, w io.Writer) error
}{
	{"bash", "source <(envask completion bash)", bashCompletion},
	{"zsh", "source <(envask completion zsh)", func(c *cobra.Command, w io.Writer) error { return c.GenZshCompletion(w) }},
	{"fish", "envask completion fish | source", func(c *cobra.Command, w io.Writer) error { return c.GenFishCompletion(w, true) }},
	{"powershell", "envask completion powershell | Out-String | Invoke-Expression",
		func(c *cobra.Command, w io.Writer) error { return c.GenPowerShellCompletionWithDesc(w) }},
}

// escapedFirst is the line of Cobra's script for bash by which an escaped proposal is held against what was typed.
const escapedFirst = `&>/dev/null || comp=$(printf "%q" "${compline%%$tab*}")` + "\n"

// bashCompletion writes Cobra's script, and mends one thing of it: a comma is escaped in proposals and not in what is typed, so that lists
// with commas were never completed.
func bashCompletion(c *cobra.Command, w io.Writer) error {
	var b strings.Builder
	if err := c.GenBashCompletionV2(&b, true); err != nil {
		return err
	}
	_, err := io.WriteString(w, strings.Replace(b.String(), escapedFirst, escapedFirst+"        comp=${comp//\\\\,/,}\n", 1))
	return err
}

func newCompletion(s *session) *cobra.Command {
	var names []string
	how := ""
	for _, sh := range shells {
		names = append(names, sh.name)
		how += "\n  " + sh.how
	}
	return &cobra.Command{
		Use:   "completion " + strings.Join(names, "|"),
		Short: "Print what makes a shell complete commands, cases, systems and items",
		Long: `Print a script for your shell, which then completes commands and flags, and also the names of cases, systems, roles, items,
sets, rounds, routes and archives. Bash needs its package bash-completion.

For this session; the same line in the start-up file makes it stay:` + how,
		Args:      cobra.MatchAll(cobra.ExactArgs(1), cobra.OnlyValidArgs),
		ValidArgs: names,
		RunE: func(c *cobra.Command, args []string) error {
			for _, sh := range shells {
				if sh.name == args[0] {
					return fault.Wrap("write the completion", sh.name, sh.write(c.Root(), s.env.Out))
				}
			}
			return nil
		},
	}
}

// completer gives the values that a flag or an argument may have. It must be quick and silent: it runs at each press of a key.
type completer func(k *known) []string

// known is what values come from. What cannot be read is empty, and is not proposed; current is nil where no case is.
type known struct {
	app     *flow.App
	current *casefile.Case
	ask     ask.Ask
	site    site.Site
}

// each gives the names of things.
func each[T any](of []T, name func(T) string) (out []string) {
	for _, x := range of {
		out = append(out, name(x))
	}
	return out
}

// ofFlags are the flags whose values are known, whatever command has them.
var ofFlags = map[string]completer{
	"system": func(k *known) []string {
		return each(k.site.Systems, func(x site.System) string { return x.Name })
	},
	"role": func(k *known) (out []string) {
		for _, sys := range k.site.Systems {
			out = append(out, sys.Roles...)
		}
		return out
	},
	"item":      itemsOf,
	"without":   itemsOf,
	"opaque":    itemsOf,
	"set":       func(k *known) []string { return each(k.ask.Sets, func(x ask.Set) string { return x.Name }) },
	"route":     func(k *known) []string { return each(k.ask.Routes, func(x ask.Route) string { return x.Name }) },
	"round":     roundsOf,
	"new-since": roundsOf,
	"case": func(k *known) (out []string) {
		cases, _ := k.app.Home.Cases() // what cannot be read is not proposed
		for _, c := range cases {
			if c.Case != nil {
				out = append(out, c.Name+"\t"+c.Case.Title)
			}
		}
		return out
	},
	"depth": func(*known) []string { return []string{"light", "standard", "deep"} },
}

func itemsOf(k *known) []string {
	return each(k.ask.Items, func(x ask.Item) string { return x.ID + "\t" + x.Why })
}

func roundsOf(k *known) []string {
	if k.current == nil {
		return nil
	}
	rounds, _ := round.List(k.current) // what cannot be read is not proposed
	return each(rounds, func(r *round.Round) string { return r.ID })
}

// ofArguments are the commands whose arguments are known.
var ofArguments = map[string]completer{
	"envask show": roundsOf, "envask compare": roundsOf,
	"envask submit": archivesOf, "envask verify": archivesOf,
	"envask open": ofFlags["case"],
}

func archivesOf(k *known) []string {
	if k.current == nil {
		return nil
	}
	view, err := k.app.ShowCase(k.current)
	if err != nil { // what cannot be read is not proposed
		return nil
	}
	return each(view.Archives, func(x flow.ArchiveView) string { return filepath.Join(k.current.OutDir(), x.Name) })
}

// completes tells the commands and their flags which values there are.
func (s *session) completes(c *cobra.Command) {
	for name, values := range ofFlags {
		if f := c.Flags().Lookup(name); f != nil || c.PersistentFlags().Lookup(name) != nil {
			if _, had := c.GetFlagCompletionFunc(name); !had {
				_ = c.RegisterFlagCompletionFunc(name, s.live(values)) // it has the flag
			}
		}
	}
	if values, ok := ofArguments[c.CommandPath()]; ok && c.ValidArgsFunction == nil {
		live := s.live(values)
		files := c.CommandPath() == "envask verify" || c.CommandPath() == "envask submit" || c.CommandPath() == "envask compare"
		c.ValidArgsFunction = func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			out, d := live(c, args, begun)
			if files { // any other archive, too
				d = cobra.ShellCompDirectiveDefault
			}
			return out, d
		}
	}
	for _, sub := range c.Commands() {
		s.completes(sub)
	}
}

// live gives values from the current case, when they are asked for.
func (s *session) live(values completer) cobra.CompletionFunc {
	return func(c *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		if err := s.begin(c.Context()); err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		a, err := s.app() // with the case that was used last in this terminal
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		s.screen.Quiet, s.screen.Ask, a.Report = true, false, nil
		k := &known{app: a}
		k.current, _ = a.Case(s.common.caseName) // without one, what does not need it is completed
		if k.current != nil {
			theAsk, systems, _ := flow.CaseFiles(k.current)
			if theAsk != nil {
				k.ask = *theAsk
			}
			if systems != nil {
				k.site = *systems
			}
		}
		return beginning(values(k), begun), cobra.ShellCompDirectiveNoFileComp
	}
}

// beginning gives the values that go on with what was typed; before it may stand others, with commas between them.
func beginning(values []string, begun string) (out []string) {
	head := ""
	if i := strings.LastIndexByte(begun, ','); i >= 0 {
		head = begun[:i+1]
	}
	seen := map[string]bool{}
	for _, v := range values {
		if v = head + v; strings.HasPrefix(v, begun) && !seen[v] {
			seen[v] = true
			out = append(out, v)
		}
	}
	return out
}

// completeParts completes the names of parts.
func completeParts(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
	var names []string
	for _, p := range parts.All() {
		name := p.Name
		if p.Value != nil {
			name += "="
		}
		names = append(names, name+"\t"+p.Title)
	}
	return beginning(names, begun), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// completeSystemOf completes the systems of a systems file that a flag names, or of the current case.
func (s *session) completeSystemOf(file *string) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveDefault
		}
		if *file == "" {
			out, _ := s.live(ofFlags["system"])(c, args, begun)
			return out, cobra.ShellCompDirectiveDefault
		}
		st, err := flow.LoadSite(*file)
		if err != nil { // one with mistakes completes nothing
			return nil, cobra.ShellCompDirectiveDefault
		}
		return beginning(ofFlags["system"](&known{site: *st}), begun), cobra.ShellCompDirectiveDefault
	}
}
