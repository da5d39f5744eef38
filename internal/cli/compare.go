package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/compare"
	"envask/internal/fault"
	"envask/internal/flow"
)

func newCompare(s *session) *cobra.Command {
	var q flow.CompareRequest
	var systems []string
	c := &cobra.Command{
		Use:   "compare [A] [B]",
		Short: "Say what changed between two rounds, archives or folders",
		Long: `Show what changed from A to B: new, removed and changed files, configuration keys with other values, and versions and
facts of the systems. A and B are rounds (r1, or 26031406/r2 of another case), archives, or folders of either. The
default for A is the newest baseline of the site (collect --baseline, also of an earlier case), else the round before
B. The default for B is the newest round. One of the two can be a file that the vendor sent back (envask add --reply), by its name: it is
compared with the files of that name on the other side. Logs are compared by size only. Changed secrets are reported without their
values.`,
		Example: `  envask compare
  envask compare r1 r2
  envask compare baseline
  envask compare 26031406/r3 r1 --system gate-2
  envask compare before.tar.gz after.tar.gz
  envask compare r1 gate.toml`,
		Args: cobra.MaximumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				q.Before = args[0]
			}
			if len(args) > 1 {
				q.Now = args[1]
			}
			if q.Unmask && (s.common.json || !s.screen.OnTerminal()) {
				return usage(cmd, fault.New(fault.Usage, "", "--unmask", "shows secrets on a terminal only", ""))
			}
			a, err := s.app()
			if err != nil {
				return err
			}
			q.Case = s.common.caseName
			board := s.screen.NewBoard()
			a.Report = func(e any) {
				if p, ok := e.(flow.CompareProgress); ok {
					board.Set("compare", "compared %s of %s files", humanize.Comma(int64(p.Done)), humanize.Comma(int64(p.Total)))
					return
				}
				s.remark(e)
			}
			got, err := a.Compare(cmd.Context(), q)
			board.Close()
			if err != nil {
				return err
			}
			only(got, systems)
			if s.common.json {
				return s.writeJSON(got)
			}
			s.drawCompared(got)
			return nil
		},
	}
	c.Flags().StringSliceVar(&systems, "system", nil, "only these systems")
	c.Flags().BoolVar(&q.Unmask, "unmask", false, "show secrets that changed (on a terminal only)")
	return c
}

// only keeps what concerns the chosen systems.
func only(got *flow.Compared, systems []string) {
	if len(systems) == 0 {
		return
	}
	other := func(name string) bool { return !slices.Contains(systems, name) }
	got.OnlyBefore, got.OnlyNow = slices.DeleteFunc(got.OnlyBefore, other), slices.DeleteFunc(got.OnlyNow, other)
	got.Facts = slices.DeleteFunc(got.Facts, func(f compare.Facts) bool { return other(f.System) })
	got.NotAsked = slices.DeleteFunc(got.NotAsked, func(n compare.NotAsked) bool { return other(n.System) })
	got.Files = slices.DeleteFunc(got.Files, func(d compare.Difference) bool { return other(d.System) })
}

func (s *session) drawCompared(got *flow.Compared) {
	s.screen.Print("before   %s", s.sideText(got.Before))
	s.screen.Print("now      %s", s.sideText(got.Now))
	for _, n := range got.Notes {
		s.screen.Print("%s %s", s.screen.Paint(term.Warn, "note:"), term.Clean(n))
	}
	for _, l := range []struct {
		names []string
		text  string
	}{{got.OnlyBefore, "no evidence any more of"}, {got.OnlyNow, "no evidence before of"}} {
		if len(l.names) > 0 {
			s.screen.Print("%s %s", s.screen.Paint(term.Warn, l.text), term.Clean(strings.Join(l.names, ", ")))
		}
	}
	for _, f := range got.Facts {
		s.screen.Print("")
		s.screen.Print("%s", s.screen.Paint(term.Bold, term.Clean(f.System)))
		s.drawChanges(f.Changes)
	}
	for _, d := range got.Files {
		if len(d.Keys) == 0 && d.Diff == "" {
			continue
		}
		s.screen.Print("")
		s.screen.Print("%s", s.screen.Paint(term.Bold, fileText(d)))
		s.drawChanges(d.Keys)
		for _, line := range strings.Split(strings.TrimSuffix(d.Diff, "\n"), "\n") {
			switch {
			case d.Diff == "" || strings.HasPrefix(line, "--- ") || strings.HasPrefix(line, "+++ "):
			case strings.HasPrefix(line, "+"):
				s.screen.Print("  %s", s.screen.Paint(term.Good, term.Clean(line)))
			case strings.HasPrefix(line, "-"):
				s.screen.Print("  %s", s.screen.Paint(term.Bad, term.Clean(line)))
			default:
				s.screen.Print("  %s", term.Clean(line))
			}
		}
		if d.Note != "" {
			s.screen.Print("  %s", d.Note)
		}
	}
	s.drawOtherFiles(got)
}

func (s *session) sideText(v flow.SideView) string {
	text := term.Clean(v.Name)
	if !v.At.IsZero() {
		text += ", " + s.when(v.At)
	}
	if v.Baseline {
		text += ", a baseline"
	}
	return fmt.Sprintf("%s (%s %s)", text, humanize.Comma(int64(v.Files)), one(v.Files, "file", "files"))
}

func fileText(d compare.Difference) string {
	return strings.TrimSpace(term.Clean(d.System) + " " + term.Clean(strings.TrimPrefix(d.Path, "files")))
}

// drawChanges draws keys one below the other: what was there and is not, what is new, and what is another.
func (s *session) drawChanges(list []compare.Change) {
	wide := 0
	for _, c := range list {
		wide = min(max(wide, len([]rune(c.Name))), 40)
	}
	for _, c := range list {
		name := fmt.Sprintf("%-*s", wide, term.Clean(c.Name))
		before, now := term.Clean(c.Before), term.Clean(c.Now)
		switch {
		case !c.Was:
			s.screen.Print("  %s", s.screen.Paint(term.Good, "+ "+name+"  "+now))
		case !c.Is:
			s.screen.Print("  %s", s.screen.Paint(term.Bad, "- "+name+"  "+before))
		case before == now: // both are hidden
			s.screen.Print("  %s", s.screen.Paint(term.Warn, "~ "+name)+"  another value, not shown")
		default:
			s.screen.Print("  %s  %s → %s", s.screen.Paint(term.Warn, "~ "+name), orNone(before), orNone(now))
		}
	}
}

func orNone(text string) string {
	if text == "" {
		return "(empty)"
	}
	return text
}

// maxListed bounds how many files are listed one by one.
const maxListed = 60

// drawOtherFiles lists files of which nothing more is known than that they are new, gone or others.
func (s *session) drawOtherFiles(got *flow.Compared) {
	var rows [][]string
	logs, more := 0, 0
	for _, d := range got.Files {
		switch {
		case len(d.Keys) > 0 || d.Diff != "":
			continue
		case d.Log && d.What == compare.Changed && !s.common.verbose:
			logs++
			continue
		case len(rows) >= maxListed && !s.common.verbose:
			more++
			continue
		}
		what := map[string]string{compare.New: s.screen.Paint(term.Good, d.What), compare.Gone: s.screen.Paint(term.Bad, d.What),
			compare.Changed: s.screen.Paint(term.Warn, d.What)}[d.What]
		before, now := bytesText(d.Before), bytesText(d.Now)
		if d.What == compare.New {
			before = ""
		}
		if d.What == compare.Gone {
			now = ""
		}
		rows = append(rows, []string{what, term.Clean(d.System), term.Clean(strings.TrimPrefix(d.Path, "files")),
			before, now, term.Clean(d.Note)})
	}
	s.screen.Print("")
	if len(rows) > 0 {
		s.screen.Table([]term.Column{{Title: ""}, {Title: "system"}, {Title: "file", Wide: true, Least: 24}, {Title: "before", Right: true},
			{Title: "now", Right: true}, {Title: "", Wide: true, Least: 8}}, rows)
	}
	if more > 0 {
		s.screen.Print("and %d more; --verbose lists them all", more)
	}
	if logs > 0 {
		s.screen.Print("%d %s grew or changed; --verbose lists them", logs, one(logs, "log", "logs"))
	}
	for _, n := range got.NotAsked {
		side := "before"
		if n.Before {
			side = "now"
		}
		s.screen.Print("%s %s: %d %s, not asked for %s", term.Clean(n.System), term.Clean(n.Item), n.Files,
			one(n.Files, "file", "files"), side)
	}
	s.screen.Print("%s %s the same", humanize.Comma(int64(got.Same)), one(got.Same, "file is", "files are"))
}
