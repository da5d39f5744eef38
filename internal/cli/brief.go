package cli

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/keyfile"
)

// briefing is what the flags of brief say.
type briefing struct {
	set, take []string
	excerpt   []string
	marked    string
	unmarked  string
	from, as  string
	template  string
	edit      bool
	handover  bool
	plain     bool
}

// briefForms are the forms in which the write-up is printed.
var briefForms = []string{"text", "markdown", "mail", "fields", "json"}

func newBrief(s *session) *cobra.Command {
	var x briefing
	c := &cobra.Command{
		Use:   "brief",
		Short: "Fill in and check the write-up that goes with the evidence",
		Long: `Fill in and check the write-up: what fails, for whom, since when, how bad it is, and what the vendor asks for by its
questions.

On a terminal it asks for what is missing, one field at a time, and offers what the evidence says; each answer is kept at once, so
that you can leave it and come back. Without a terminal, or with one of the flags, it takes answers from there. What is to be added
is listed: no score, only what the desk would ask next.`,
		Example: `  envask brief
  envask brief --set title='Gate 2 at Tallow Pier rejects every pass' --take since,environment
  envask brief --excerpt gate-2/gate.log:425-431
  envask brief --as mail`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			return s.brief(cmd.Context(), a, c, x)
		},
	}
	f := c.Flags()
	f.StringArrayVar(&x.set, "set", nil, "answer a field: FIELD=TEXT (several times; an empty text takes the answer back)")
	f.StringSliceVar(&x.take, "take", nil, "take what the evidence says for these fields (or all)")
	f.StringArrayVar(&x.excerpt, "excerpt", nil, "quote lines of the evidence: SYSTEM/FILE:FIRST-LAST (several times)")
	f.StringVar(&x.from, "from", "", "take answers from a YAML file: FIELD: TEXT")
	f.BoolVar(&x.edit, "edit", false, "edit all of it in your editor (VISUAL or EDITOR)")
	f.StringVar(&x.marked, "marked", "", "say that the error is marked in this picture")
	f.StringVar(&x.unmarked, "unmarked", "", "say that it is not, and that this is as it should be")
	f.StringVar(&x.as, "as", "", "print the write-up as: "+strings.Join(briefForms, ", "))
	f.StringVar(&x.template, "template", "", "print it by a template of your own (Go text/template), for a ticket in your own system")
	f.BoolVar(&x.plain, "plain", false, "ask in plain lines, for readers of screens and simple terminals (also: ACCESSIBLE=1, TERM=dumb)")
	f.BoolVar(&x.handover, "handover", false, "print the state of the case for the next shift")
	_ = c.RegisterFlagCompletionFunc("as", cobra.FixedCompletions(briefForms, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (s *session) brief(ctx context.Context, a *flow.App, c *casefile.Case, x briefing) error {
	if x.as != "" && !slices.Contains(briefForms, x.as) {
		return fault.New(fault.Usage, "", "--as", "expected "+strings.Join(briefForms, ", ")+", found "+x.as, "")
	}
	for _, name := range []string{x.marked, x.unmarked} {
		if name != "" {
			if err := a.Mark(c, name, name == x.marked); err != nil {
				return err
			}
		}
	}
	changes, err := s.briefChanges(ctx, a, c, x)
	if err != nil {
		return err
	}
	if len(changes) > 0 {
		if err := a.SetBrief(c, changes); err != nil {
			return err
		}
	}
	if x.edit {
		if err := s.editBrief(ctx, a, c); err != nil {
			return err
		}
	}
	switch {
	case x.handover:
		return s.handOver(a, c)
	case x.template != "":
		return s.printByTemplate(a, c, x.template)
	case x.as != "":
		return s.printBrief(a, c, x.as)
	}
	if s.screen.Ask && !x.edit && len(changes) == 0 && !s.common.json {
		if err := s.askBrief(ctx, a, c, x.plain); err != nil {
			return err
		}
	}
	v, err := a.ShowBrief(c)
	if err != nil {
		return err
	}
	var proposed []flow.Proposed
	if len(changes) == 0 && !s.screen.Ask || s.common.json {
		if proposed, err = a.ProposeBrief(ctx, c); err != nil {
			return err
		}
	}
	if s.common.json {
		return s.writeJSON(struct {
			*flow.BriefView
			Proposed []flow.Proposed `json:"proposed"`
		}{v, append([]flow.Proposed{}, proposed...)})
	}
	s.drawBrief(v, proposed)
	return nil
}

// briefChanges gathers the answers that the flags give.
func (s *session) briefChanges(ctx context.Context, a *flow.App, c *casefile.Case, x briefing) (out []flow.BriefChange, err error) {
	if x.from != "" {
		if out, err = readBrief(x.from); err != nil {
			return nil, err
		}
	}
	for _, set := range x.set {
		id, text, ok := strings.Cut(set, "=")
		if !ok {
			return nil, fault.New(fault.Usage, "", "--set", fmt.Sprintf("expected FIELD=TEXT, found %q", set), "")
		}
		out = append(out, flow.BriefChange{ID: id, Text: text})
	}
	if len(x.excerpt) > 0 {
		quote, err := a.Excerpt(ctx, c, x.excerpt)
		if err != nil {
			return nil, err
		}
		out = append(out, *quote)
	}
	if len(x.take) == 0 {
		return out, nil
	}
	proposed, err := a.ProposeBrief(ctx, c)
	if err != nil {
		return nil, err
	}
	took := map[string]bool{}
	for _, p := range proposed {
		if !took[p.Field] && (slices.Contains(x.take, p.Field) || slices.Contains(x.take, "all")) {
			took[p.Field] = true
			out = append(out, flow.BriefChange{ID: p.Field, Text: p.Text, From: p.From})
		}
	}
	for _, want := range x.take {
		if want != "all" && !took[want] {
			return nil, fault.New(fault.Usage, "", "--take", "the evidence says nothing of "+want, "envask brief shows what it says")
		}
	}
	return out, nil
}

// readBrief reads answers from a file.
func readBrief(file string) (out []flow.BriefChange, err error) {
	data, err := keyfile.ReadFile(file)
	if err != nil {
		return nil, &fault.Error{Class: fault.Usage, Op: "read the answers", Err: err}
	}
	f, m := keyfile.Parse(file, data)
	for _, k := range m.Keys() {
		out = append(out, flow.BriefChange{ID: k, Text: m.String(k)})
	}
	m.Done()
	if err := f.Err(); err != nil {
		return nil, &fault.Error{Class: fault.Usage, Err: err, Hint: "fix the file; nothing was changed"}
	}
	return out, nil
}

// briefColumn is where answers begin.
const briefColumn = 16

// drawBrief shows the write-up, what the evidence offers, and what is to be added.
func (s *session) drawBrief(v *flow.BriefView, proposed []flow.Proposed) {
	for _, f := range v.Fields {
		if f.Answer == "" {
			continue
		}
		text := f.Answer
		if f.From != "" {
			text += "  (from " + f.From + ")"
		}
		name := f.ID
		for _, l := range strings.Split(text, "\n") {
			s.screen.Named(0, briefColumn, name, term.Clean(l))
			name = ""
		}
	}
	if len(proposed) > 0 {
		s.screen.Print("the evidence says (take it with --take FIELD):")
		for _, p := range proposed {
			text := strings.ReplaceAll(p.Text, "\n", "; ") + "  (from " + p.From + ")"
			if p.Instead {
				text = "now something else: " + text
			}
			s.screen.Named(2, briefColumn, p.Field, term.Clean(text))
		}
	}
	if len(v.Remarks) > 0 {
		s.screen.Print("%s", s.screen.Paint(term.Warn, "to add or to correct:"))
		for _, r := range v.Remarks {
			s.screen.Named(2, briefColumn, r.Field, term.Clean(r.Text))
		}
	}
	if v.Desk != "" {
		s.screen.Named(0, briefColumn, "desk", term.Clean(v.Desk))
	}
}

// printBrief prints the write-up in a form.
func (s *session) printBrief(a *flow.App, c *casefile.Case, form string) error {
	v, err := a.ShowBrief(c)
	if err != nil {
		return err
	}
	switch form {
	case "json":
		return s.writeJSON(v)
	case "markdown":
		return v.Brief.Write(term.SafeWriter(s.env.Out))
	case "mail":
		s.screen.Print("Subject: [%s] %s", term.Clean(v.Brief.Case), term.Clean(v.Brief.Title))
		s.screen.Print("")
		return v.Brief.Text(term.SafeWriter(s.env.Out))
	case "fields":
		for _, f := range v.Fields {
			if f.Answer != "" {
				s.screen.Print("%s: %s", f.ID, term.Clean(strings.ReplaceAll(f.Answer, "\n", `\n`)))
			}
		}
		return nil
	}
	return v.Brief.Text(term.SafeWriter(s.env.Out))
}

// handOver prints the state of a case for the next shift.
func (s *session) handOver(a *flow.App, c *casefile.Case) error {
	h, err := a.HandOver(c)
	if err != nil {
		return err
	}
	if s.common.json {
		return s.writeJSON(h)
	}
	return h.Write(term.SafeWriter(s.env.Out))
}

// printByTemplate prints the write-up by a template of the engineer's.
func (s *session) printByTemplate(a *flow.App, c *casefile.Case, file string) error {
	text, err := keyfile.ReadFile(file)
	if err != nil {
		return &fault.Error{Class: fault.Usage, Op: "read the template", Err: err}
	}
	v, err := a.ShowBrief(c)
	if err != nil {
		return err
	}
	if err := v.Brief.ByTemplate(term.SafeWriter(s.env.Out), file, string(text)); err != nil {
		return fault.New(fault.Usage, "", "--template", err.Error(),
			"it knows .Case, .Title, .Vendor, .Site, .Window, .Field \"ID\" and .Fields")
	}
	return nil
}

// editBrief lets a person edit all of it in an editor. What was written is never lost: a file with a mistake stays, and its place is said.
func (s *session) editBrief(ctx context.Context, a *flow.App, c *casefile.Case) error {
	editor := s.env.Getenv("VISUAL")
	if editor == "" {
		editor = s.env.Getenv("EDITOR")
	}
	if editor == "" {
		return fault.New(fault.Usage, "", "--edit", "neither VISUAL nor EDITOR names an editor", "or answer with --set FIELD=TEXT")
	}
	v, err := a.ShowBrief(c)
	if err != nil {
		return err
	}
	file := filepath.Join(c.Dir, "brief-edit.yaml")
	if _, err := os.Lstat(file); err != nil { // one with a mistake is opened again
		if err := os.WriteFile(file, brief.Editable(v.Brief), 0o600); err != nil {
			return fault.Wrap("write", file, err)
		}
	}
	words := strings.Fields(editor)
	cmd := exec.CommandContext(ctx, words[0], append(words[1:], file)...) // #nosec G204 -- the engineer's own editor
	cmd.Stdin, cmd.Stdout, cmd.Stderr = s.env.In, s.env.Out, s.env.Err
	if err := cmd.Run(); err != nil {
		return fault.New(fault.Failed, "edit", editor, err.Error(), "what you wrote is in "+file)
	}
	changes, err := readBrief(file)
	if err == nil {
		err = a.SetBrief(c, withoutSame(changes, v))
	}
	if err != nil {
		return &fault.Error{Class: fault.ClassOf(err), Err: err, Hint: "nothing was changed; what you wrote is in " + file +
			": envask brief --edit opens it again"}
	}
	return fault.Wrap("remove", file, os.Remove(file))
}

// withoutSame leaves out the answers that are as they were, so that it is still known where they came from.
func withoutSame(changes []flow.BriefChange, v *flow.BriefView) (out []flow.BriefChange) {
	for _, ch := range changes {
		if strings.TrimSpace(ch.Text) != v.Brief.Value(ch.ID) {
			out = append(out, ch)
		}
	}
	return out
}
