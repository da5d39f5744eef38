package find

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Each secret is marked «so»; what is found beside it has to be what is marked [so].
func TestCompanions(t *testing.T) {
	for _, text := range []string{
		"create account admin \"[netops]\" encrypted \"«x9Kd»\"",
		"set user [netops] password-hash «x9Kd»",
		"user [gateapp] on >«x9Kd» ~gate:*",
		"The login for the console is [tpier] and the password is «x9Kd», be careful.",
		"the user was told and the password is «x9Kd»",
		"user name and password are «x9Kd»",
		"    username [probe7]\n    host 192.0.2.9\n    password «x9Kd»\n",
		"    password «x9Kd»\n    username \"[probe7]\";\n  username other\n",
		"username probe8\n\npassword «x9Kd»\n",
		"[first]\nusername = probe8\n[second]\npassword = «x9Kd»\n",
		"  user = [fluentd2]\n  description \"[Tomas Quill]\"\n  description \"the console of lane 2\"\n  password «x9Kd»\n",
		"users:\n  [ilvar]:\n    shell: /bin/sh\n    password: «x9Kd»\n",
		"groups:\n  ilvar:\n    password: «x9Kd»\n",
		"root:«x9Kd»\n[msorley]:[tidal-9-flats]\n[tquill]:[abcd]\n\nhost:pier\n",
		"protocol:https\nroot:«x9Kd»\nhost:pier\n",
	} {
		text = strings.NewReplacer("[first]", "(first)", "[second]", "(second)").Replace(text)
		var want []string
		for _, part := range strings.Split(text, "[")[1:] {
			name, _, _ := strings.Cut(part, "]")
			want = append(want, name)
		}
		plain := strings.NewReplacer("[", "", "]", "", "(first)", "[first]", "(second)", "[second]").Replace(text)
		start := strings.Index(plain, "«")
		plain = strings.ReplaceAll(plain, "«", "")
		end := strings.Index(plain, "»")
		plain = strings.ReplaceAll(plain, "»", "")
		var got []string
		Companions([]byte(plain), start, end, false, func(from, to int, _ Companion) { got = append(got, plain[from:to]) })
		require.ElementsMatch(t, want, got, "%s", plain)
	}
}

// Whatever a text is, what stands beside a place in it is part of it.
func FuzzCompanions(f *testing.F) {
	f.Add([]byte("users:\n  ilvar:\n    password: x9Kd\n"), uint16(30), uint8(4), false)
	f.Add([]byte("root:x9Kd\nmsorley:tidal\n"), uint16(5), uint8(4), true)
	f.Add([]byte("login for it is \\\n- user=\tdescription \"A"), uint16(20), uint8(0), true)
	f.Fuzz(func(t *testing.T, text []byte, at uint16, n uint8, named bool) {
		start := min(int(at), len(text))
		Companions(text, start, min(start+int(n), len(text)), named, func(from, to int, _ Companion) {
			require.True(t, from >= 0 && from < to && to <= len(text))
		})
	})
}
