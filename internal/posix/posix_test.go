package posix

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
)

func FuzzWord(f *testing.F) {
	for _, s := range []string{"", "it's", "a b\n$(reboot) `x` \\ \" '", "-n", "\xff"} {
		f.Add(s)
	}
	shell, err := exec.LookPath("sh")
	f.Fuzz(func(t *testing.T, s string) {
		for i := range len(s) {
			if s[i] == 0 {
				t.Skip("no command line holds a NUL")
			}
		}
		if err != nil {
			t.Skip("there is no sh here")
		}
		out, err := exec.Command(shell, "-c", "printf '%s.' "+Word(s)).Output()
		require.NoError(t, err)
		require.Equal(t, s+".", string(out))
	})
}
