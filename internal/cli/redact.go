package cli

import (
	"bufio"
	"errors"

	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/redact"
)

func newRedact(s *session) *cobra.Command {
	var q flow.RedactRequest
	var rules bool
	c := &cobra.Command{
		Use:   "redact [FILE...]",
		Short: "Redact any file, or standard input to standard output",
		Long: `Redact files or standard input. Files are read twice, so that a value found next to a key in one file is removed from all of
them. So is standard input of up to 1 MiB; what is longer is read once. With --case the aliases and learned values of that case are used.`,
		Example: `  journalctl --since -1h | envask redact > safe.log
  envask redact -o safe/ logs/gate.log logs/agent.log`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if rules {
				return s.listRules()
			}
			a, err := s.app()
			if err != nil {
				return err
			}
			if s.common.caseName != "" {
				if q.Table != "" {
					return usage(cmd, fault.New(fault.Usage, "", "--key", "does not go together with --case", ""))
				}
				if q.Case, err = a.Case(s.common.caseName); err != nil {
					return err
				}
			}
			if q.Dir != "" && len(args) == 0 {
				return usage(cmd, fault.New(fault.Usage, "", "-o", "goes with files", ""))
			}
			return s.redact(cmd, a, q, args)
		},
	}
	c.Flags().StringVarP(&q.Dir, "output", "o", "", "folder that receives the files, under their given paths")
	c.Flags().StringVar(&q.Table, "key", "", "file that keeps the aliases, so that they are the same next time")
	c.Flags().StringSliceVar(&q.Domains, "domain", nil, "host names under these domains are removed too")
	c.Flags().BoolVar(&rules, "rules", false, "list the rules")
	return c
}

func (s *session) redact(cmd *cobra.Command, a *flow.App, q flow.RedactRequest, files []string) error {
	to, done := s.foreign()
	out := bufio.NewWriterSize(to, 64<<10)
	q.Files, q.In, q.Out = files, s.env.In, out
	res, err := a.Redact(cmd.Context(), q)
	if e := errors.Join(out.Flush(), done()); err == nil && e != nil {
		err = fault.Wrap("write the result", "", e)
	}
	if res != nil {
		for _, n := range res.Notes {
			s.screen.Say("note: %s", term.Clean(n))
		}
		if q.Dir != "" || s.common.verbose {
			s.screen.Say("replaced %s", countsText(res.Counts))
		}
	}
	return err
}

func (s *session) listRules() error {
	if s.common.json {
		type row struct {
			Name  string       `json:"name"`
			Class redact.Class `json:"class"`
			Doc   string       `json:"finds"`
		}
		rows := []row{}
		for _, r := range redact.Rules {
			rows = append(rows, row{r.Name, r.Class, r.Doc})
		}
		return s.writeJSON(rows)
	}
	var rows [][]string
	for _, r := range redact.Rules {
		rows = append(rows, []string{r.Name, string(r.Class), r.Doc})
	}
	s.screen.Table([]term.Column{{Title: "rule"}, {Title: "class"}, {Title: "finds", Wide: true, Least: 30}}, rows)
	return nil
}
