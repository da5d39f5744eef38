package judge

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestExpressions(t *testing.T) {
	for text, want := range map[string]bool{
		` + err.Error())`: true, `json:"access_token"`: true, "1 << iota": true, "len(ciphertext)": true, "true, // of all": true, "false`": true,
		"parser.next_token": true, "KeyUsage.SERVER_AUTH": true, "tofu-2183839A-1.txt": true, "$dir/private/cakey.pem": true,
		"_glue.generate(5, 10)": true, "g_strdup(s)": true, "getpw($whoever)": true, "_raw_input(prompt": true,
		"git-credential.c": true, "secrets.keytab": true,
		"brass-Kelp-71!": false, "Anchor.Chain": false, "trueNorth,7": false, "len": false, "x.y_7z": false, "Sheet(Bend)": false,
		"Wharf7.go!": false, "a.txt": false, "Brine7.c": false, "kelp_7.Q": false, "tide_pool.": false, "Kelp(7": false, "tide(pool)": false, "+Kelp": false,
	} {
		require.Equal(t, want, expression([]byte(text)) || namesFile([]byte(text)), text)
	}
}

func TestPasswordsMayLookLikeFiles(t *testing.T) {
	for before, want := range map[string]bool{"password: ": true, "db.PASS=": true, "passphrase = \"": true, "private_key = ": false, "token=": false} {
		p := Place{Before: []byte(before), Text: []byte("kelp7.sh"), After: []byte("\"")}
		require.Equal(t, want, p.Secret(), before)
	}
}
