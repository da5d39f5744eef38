package keyfile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestEveryMistakeHasItsPlace(t *testing.T) {
	f, m := Parse("x.yaml", []byte(strings.Join([]string{
		"name: pier", "tiemout: soon", "wait: soon", "size: huge", "kind: other", "list: {a: b}", "maps: [1]", "many: 7", "flag: perhaps", "text: [a]", "empty: ''", "nothing:",
	}, "\n")))
	require.Equal(t, "pier", m.String("name"))
	require.Equal(t, time.Second, m.Duration("wait", time.Second))
	require.Equal(t, int64(5), m.Size("size", 5))
	require.Equal(t, "one", m.Choice("kind", "one", "two", "three"))
	require.Empty(t, m.Strings("list"))
	require.Empty(t, m.Maps("maps"))
	require.Equal(t, 2, m.Int("many", 1, 5, 2))
	require.True(t, m.Bool("flag", true))
	m.Need("text")
	m.Need("empty")
	m.Need("absent")
	m.Need("nothing")
	m.Duration("timeout", 0)
	m.Done()
	var got []string
	for _, p := range f.Err().(Problems) {
		got = append(got, p.String())
	}
	require.Equal(t, []string{
		`x.yaml:1:1: absent: is missing`,
		`x.yaml:2:1: unknown key "tiemout"; did you mean "timeout"?`,
		`x.yaml:3:7: wait: expected a length of time such as 60s, 5m or 2h, found "soon"`,
		`x.yaml:4:7: size: expected a size such as 20MiB or 5GB, found "huge"`,
		`x.yaml:5:7: kind: expected one, two or three, found "other"`,
		`x.yaml:6:7: list: expected a list, found keys and values`,
		`x.yaml:7:8: maps: expected keys and values, found a single value`,
		`x.yaml:8:7: many: expected a whole number from 1 to 5, found "7"`,
		`x.yaml:9:7: flag: expected true or false, found "perhaps"`,
		`x.yaml:10:7: text: expected a single value, found a list`,
		`x.yaml:11:8: empty: is empty`,
		`x.yaml:12:9: nothing: expected a single value, found nothing`,
	}, got)
}

func TestUnknownKeyWithoutANearOneListsTheKnown(t *testing.T) {
	f, m := Parse("x.yaml", []byte("elephant: 1\n"))
	m.String("of")
	m.String("id")
	m.Done()
	require.EqualError(t, f.Err(), `x.yaml:1:1: unknown key "elephant"; known here: id, of`)
}

func TestBrokenFiles(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"", "x.yaml:1:1: the file is empty"},
		{"- a\n", "expected keys and values at the top level, found a list"},
		{"a: &x 1\nb: *x\n", "anchors and aliases are not used here"},
		{"a: 1\nb: 2\na: 3\n", `x.yaml:3:1: key "a" was given before, on line 1`},
		{"a: 1\n---\nb: 2\n", "a second YAML document"},
		{"a: [1\nb: 2\n", "x.yaml:2:2: not valid YAML"},
		{"a: \"\xff\"\n", "x.yaml:1:1: not valid UTF-8"},
		{"? [a]\n: b\n", "a key must be a plain word"},
		{"a: b: c\n", "not valid YAML"},
	} {
		f, m := Parse("x.yaml", []byte(c.text))
		require.NotNil(t, m)
		require.ErrorContains(t, f.Err(), c.want, "%q", c.text)
	}
}

func TestReadFileHasALimit(t *testing.T) {
	dir := t.TempDir()
	at, over := filepath.Join(dir, "at"), filepath.Join(dir, "over")
	require.NoError(t, os.WriteFile(at, make([]byte, MaxSize), 0o600))
	require.NoError(t, os.WriteFile(over, make([]byte, MaxSize+1), 0o600))
	_, err := ReadFile(at)
	require.NoError(t, err)
	_, err = ReadFile(over)
	require.ErrorContains(t, err, "larger than 2 MiB")
}

func TestParseSize(t *testing.T) {
	for text, want := range map[string]int64{"20MiB": 20 << 20, "5GB": 5e9, "4096": 4096, "1.5 KiB": 1536, "2k": 2000} {
		got, err := ParseSize(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
	}
	for _, bad := range []string{"", "0", "-1", "many", "1e9", "5 apples", "99999999999999999999TB"} {
		_, err := ParseSize(bad)
		require.Error(t, err, bad)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"a: b", "a: [1, 2]\nb: {c: d}", "a: &x [*x]", "\t", "a:\n  - b: |\n      c\n", "!!binary a", "? a", "%YAML 9"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		const canary = "hunter2-canary"
		file, m := Parse("x.yaml", []byte(s+"\npassword: "+canary+"\n"))
		m.Strings("a")
		m.Maps("b")
		m.Map("c")
		m.Size("d", 1)
		m.String("password")
		m.Done()
		if err := file.Err(); err != nil {
			require.Contains(t, err.Error(), "x.yaml:")
			require.NotContains(t, err.Error(), canary, "no message carries a value that was not asked for")
		}
	})
}
