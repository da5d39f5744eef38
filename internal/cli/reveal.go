package cli

import (
	"errors"
	"io"

	"github.com/spf13/cobra"

	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/flow"
)

func newReveal(s *session) *cobra.Command {
	return &cobra.Command{
		Use:   "reveal [FILE]",
		Short: "Turn the aliases in a vendor's reply back into the real names",
		Long: `Copy a text to standard output and turn the aliases of the case back into the real names. Nothing is sent. Secrets cannot be
turned back, because the case does not keep them. FILE is a path, or the name of a reply that was added to the case.`,
		Example: `  envask reveal reply.txt
  envask reveal < page.html`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			var in io.Reader = s.env.In
			if len(args) > 0 {
				path, err := flow.ReplyPath(cmd.Context(), c, args[0])
				if err != nil {
					return err
				}
				f, err := durable.OpenRegular(path)
				if err != nil {
					return fault.Wrap("reveal", "", err)
				}
				defer f.Close()
				in = f
			}
			out, done := s.foreign()
			n, err := a.Reveal(cmd.Context(), c, out, in)
			if err = errors.Join(err, done()); err != nil {
				return err
			}
			s.screen.Say("%d %s turned back", n, one(n, "alias", "aliases"))
			return nil
		},
	}
}
