package ask

import (
	"envask/internal/posix"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPlacesOfPlaceholders(t *testing.T) {
	for command, want := range map[string]string{
		"tool --since {from} --until={to}":           "",
		"tool {from} > {folder}/out.txt 2>&1":        "",
		"X={answer.note} tool":                       "",
		"export X={answer.note}; tool":               "",
		"for f in {case} b; do echo $f; done":        "",
		"echo $(date -d {from})":                     "",
		"echo \"$(tool {from})\"":                    "",
		"(cd /x && tool {from}) | sort":              "",
		"sudo -n tool {from}":                        "",
		"if tool {case}; then echo y; fi":            "",
		"case {case} in 2*) echo old;; esac":         "",
		"show ports | begin x":                       "",
		"show what's up":                             "",
		"cat <<EOF\n{answer.note}\nEOF":              "here-document",
		"cat <<'EOF'\n{answer.note}\nEOF":            "here-document",
		"cat <<-EOF\n\t$(tool {answer.note})\n\tEOF": "here-document",
		"tool # {answer.note}":                       "comment",
		"tool\n# {answer.note}\n":                    "comment",
		"echo $(( {answer.note} + 1 ))":              "arithmetic",
		"echo \"{from}\"":                            "within quotes",
		"echo '{from}'":                              "within quotes",
		"echo \"$(echo '{from}')\"":                  "within quotes",
		"echo \"$(echo \"{from}\")\"":                "within quotes",
		"echo `tool {from}`":                         "backquotes",
		"echo ${X:-{answer.note}}":                   "",
		"sh -c 'echo {answer.note}'":                 "within quotes",
		"sh -c {answer.note}":                        "reads it as commands",
		"/bin/sh -c {answer.note}":                   "reads it as commands",
		"eval tool {answer.note}":                    "reads it as commands",
		"sudo -n sh -c {answer.note}":                "reads it as commands",
		"ssh inner tool {answer.note}":               "reads it as commands",
		"trap {answer.note} EXIT":                    "reads it as commands",
		"{answer.note} --help":                       "the command itself",
		"case x in {answer.note}) echo;; esac":       "pattern of case",
		"f() { tool {answer.note}; }; f":             "function",
		"tool {from} 'unfinished":                    "cannot be read",
	} {
		bad := checkPlaces(command)
		if command == "echo ${X:-{answer.note}}" {
			require.NotEmpty(t, bad, command)
			continue
		}
		if want == "" {
			require.Empty(t, bad, command)
			continue
		}
		require.NotEmpty(t, bad, command)
		require.Contains(t, bad[0].why, want, command)
	}
	require.Equal(t, 3, checkPlaces("tool\ntool\necho '{from}'")[0].line)
}

// Whatever passes the check runs nothing of what is filled in.
func FuzzPlaceholders(f *testing.F) {
	for _, c := range []string{"echo {answer.x}", "cat <<EOF\n{answer.x}\nEOF", "echo \"$(echo {answer.x})\"", "X={answer.x}; echo \"$X\"",
		"echo $(( {answer.x} ))", "echo a{answer.x}b 'q' \"d\""} {
		f.Add(c)
	}
	f.Fuzz(func(t *testing.T, command string) {
		if !strings.Contains(command, "{answer.x}") || len(command) > 200 || len(checkPlaces(command)) > 0 || !onlyEcho(command) {
			return
		}
		filled, err := Fill(command, func(string) (string, error) { return "$(echo RAN)`echo RAN`;echo RAN'\"", nil },
			func(s string) (string, error) { return posix.Word(s), nil })
		if err != nil {
			return
		}
		out, _ := exec.CommandContext(t.Context(), "/bin/sh", "-c", filled).CombinedOutput()
		for line := range strings.Lines(string(out)) {
			require.NotEqual(t, "RAN", strings.TrimSpace(line), "%q became %q", command, filled)
		}
	})
}

// onlyEcho makes sure that fuzzing runs nothing but echo and cat.
func onlyEcho(command string) bool {
	for _, r := range command {
		if r < ' ' && r != '\n' || r > '~' || strings.ContainsRune("><&|/*?[]~!=%.:@^,+-_0123456789", r) &&
			!strings.ContainsRune("{}.=-", r) {
			return false
		}
	}
	for _, word := range strings.FieldsFunc(command, func(r rune) bool { return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z') }) {
		if word != "echo" && word != "answer" && word != "x" && word != "X" && word != "a" && word != "b" && word != "q" &&
			word != "d" && word != "EOF" {
			return false
		}
	}
	return true
}
