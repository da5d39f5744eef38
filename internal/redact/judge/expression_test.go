package judge

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestExpressions(t *testing.T) {
	for text, want := range map[string]bool{
		` + err.Error())`: true, `json:"access_token"`: true, "1 << iota": true, "len(ciphertext)": true, "true, // of all": true,
		"false`":            true,
		"parser.next_token": true, "KeyUsage.SERVER_AUTH": true, "tofu-2183839A-1.txt": true, "$dir/private/cakey.pem": true,
		"_glue.generate(5, 10)": true, "g_strdup(s)": true, "getpw($whoever)": true, "_raw_input(prompt": true,
		"git-credential.c": true, "secrets.keytab": true,
		`creds\-name\-1`: true, `info\&`: true, "bg:#ffffe0": true, "#5021": true, `sshtype:"50"`: true, "{0.nonce!r}": true,
		"26&ndash;latest": true, `name=\"$id\"`: true, "v8.md#serialization": true, "__PKCS#11__": true, "Impact**": true,
		"C<$pass>": true,
		"3.6.1":    true, "GateAgent/4.2.9": true, "lp#314814": true, "$1": true, "$2, x": true, "true|false": true,
		"#Kelp5021": false, "bg:#Kelp71": false, `Kelp:"71`: false, "{Kelp.71!brass}": false, "Impact*": false,
		"3.6.1x": false, "kelp#71": false,
		"Brass/4.2x": false, "$1Kelp": false, "__Kelp": false,
		"brass-Kelp-71!": false, "Anchor.Chain": false, "trueNorth,7": false, "len": false, "x.y_7z": false, "Sheet(Bend)": false,
		"Wharf7.go!": false, "a.txt": false, "Brine7.c": false, "kelp_7.Q": false, "tide_pool.": false, "Kelp(7": false,
		"tide(pool)": false, "+Kelp": false,
	} {
		require.Equal(t, want, expression([]byte(text)) || loosePiece([]byte(text)) || namesFile([]byte(text)), text)
	}
}

// What stands behind a key without quotes, or is the argument of a call, may be a piece of a program; the same signs stand in passwords.
func TestPiecesOfProgramsBehindKeys(t *testing.T) {
	for _, no := range []string{"token = ⟦start_mark⟧", "credentials=⟦user_creds⟧,", "token = ⟦current_token⟧", "token = ⟦head + c⟧",
		"token_number = ⟦self.taken+len(x)⟧",
		"TOKEN_ALL = ⟦RIGHTS_REQUIRED |⟧", "token ⟦X509_STORE_CTX⟧ structure", "token := ⟦decodeHex(t⟧, x)",
		"state = token.get('⟦state⟧', None)",
		`InvalidToken("⟦Supplied value does not match.⟧")`, `WithAPIKey("⟦My API Key⟧")`, `token: "⟦test-token⟧"`,
		"<li><⟦code>code⟧</code>",
		"* **auth:** ⟦isolate⟧ the requests of tokens", "tests/passwd ⟦eaf2ad85b5ccd06cceb19a3e75f40c63⟧",
		"password hash ⟦userPassword⟧ schemes", "proxy_pass ⟦http://192.0.2.61:8080⟧;",
		"who has the pw of ⟦gate⟧? thanks", "password: ⟦required⟧, at least 12 characters", "$pw = ⟦ConvertTo-SecureString⟧ 'x'",
		"auth: ⟦Credentials⟧ { user", "auth = ⟦eap-mschapv2⟧"} {
		require.False(t, placeOf(no).Secret(), no)
	}
	for _, yes := range []string{"password = ⟦user_pass⟧", "password=⟦Ray20auth⟧ priv", "sha ⟦Ray20auth⟧ priv aes",
		`password: "⟦test-password⟧"`, `password: "⟦wind is over the quay⟧"`,
		"token = ⟦tide_7mark⟧", "webhook_secret = ⟦https://hooks.example/in/B0QUAY77/kelpZx8Qv3LmN0pR7t⟧",
		"password=⟦Eye_Splice1⟧,jndi=x)", "api_key: ⟦X7F3_9Q2K⟧", "password = ⟦X509_KELP⟧",
		"pw: ⟦kelpsea⟧ lane three now",
		"token=⟦eaf2ad85b5ccd06cceb19a3e75f40c63⟧", `secret.get("⟦kelp7Brass⟧")`, "pin: ⟦4417⟧? yes", "password: ⟦kelp#4417⟧",
		"username svc password ⟦AdminPass⟧",
		"passphrase: ⟦wind or tide⟧", "password=⟦SUPER_SECRET_1⟧", "pwd: ⟦Brass**⟧"} {
		require.True(t, placeOf(yes).Secret(), yes)
	}
}

func placeOf(text string) *Place {
	p := place(text)
	return &p
}

func TestPasswordsMayLookLikeFiles(t *testing.T) {
	for before, want := range map[string]bool{"password: ": true, "db.PASS=": true, "passphrase = \"": true, "private_key = ": false,
		"token=": false} {
		p := Place{Before: []byte(before), Text: []byte("kelp7.sh"), After: []byte("\"")}
		require.Equal(t, want, p.Secret(), before)
	}
}
