package reach_test

import (
	"context"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
	"envask/internal/standin"
)

// The shell of a Windows account is recognised once, and words are quoted as it reads them.
func TestWordsForTheShellsOfWindows(t *testing.T) {
	for name, c := range map[string]struct {
		says  func(string) string
		words map[string]string // "" is refused
	}{
		"cmd": {func(s string) string { return strings.ReplaceAll(s, "%ComSpec%", `C:\Windows\system32\cmd.exe`) }, map[string]string{
			"lane 4": `"lane 4"`, "it's": `"it's"`, `C:\log\`: `"C:\log\\"`, "a&reboot": "", "%PATH%": "", `say "x"`: "",
			"a|b": "", "two\nlines": ""}},
		"powershell": {func(s string) string {
			return strings.ReplaceAll(s, "$PSHOME", `C:\Windows\System32\WindowsPowerShell\v1.0`)
		}, map[string]string{"lane 4": "'lane 4'", "it's": "'it''s'", "$(reboot)": "'$(reboot)'",
			"it\u2019s": "'it\u2019\u2019s'", "%PATH%": "'%PATH%'"}},
		"bash": {func(s string) string { return strings.ReplaceAll(s, "$PSHOME", "") }, map[string]string{"it's": `'it'\''s'`}},
	} {
		asked := 0
		_, d, s := standIn(t, func(s *standin.Server) {
			s.Windows, s.NoShell = true, true
			s.Exec = func(command string, out io.Writer) (int, bool) {
				if text, ok := strings.CutPrefix(command, "echo "); ok {
					if strings.Contains(text, "ComSpec") {
						asked++
					}
					_, _ = io.WriteString(out, c.says(text)+"\r\n")
					return 0, true
				}
				return 1, true
			}
		})
		system := open(t, d, s)
		require.True(t, reach.OnWindows(system), name)
		for text, want := range c.words {
			got, err := reach.Word(context.Background(), system, text)
			if want == "" {
				require.Error(t, err, "%s: %q", name, text)
				continue
			}
			require.NoError(t, err, name)
			require.Equal(t, want, got, name)
		}
		require.Equal(t, 1, asked, name)
	}
	local := reach.NewLocal("")
	got, err := reach.Word(context.Background(), local, "it's")
	require.NoError(t, err)
	require.Equal(t, reach.OnWindows(local), got == `"it's"`)
	require.Contains(t, reach.PowerShell("a"), "powershell.exe -NoProfile -NonInteractive -EncodedCommand JABQ")
}
