package cli

import (
	"runtime"

	"github.com/spf13/cobra"

	"envask/internal/redact"
)

func newVersion(s *session) *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Say which version this is",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if s.common.json {
				return s.writeJSON(map[string]string{"version": Version, "rules": redact.RulesVersion, "go": runtime.Version(),
					"platform": runtime.GOOS + "/" + runtime.GOARCH})
			}
			s.screen.Print("envask %s (redaction rules %s, %s, %s/%s)", Version, redact.RulesVersion, runtime.Version(),
				runtime.GOOS, runtime.GOARCH)
			return nil
		},
	}
}
