package judge

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What stands around a value says that it is none, behind keys for passwords too; what people choose may look alike.
func TestWhatIsToldOfKeys(t *testing.T) {
	for _, no := range []string{"a user with no password: ⟦it⟧ means that every one enters", `bad token: ⟦got⟧ %s, expected %s`,
		"The Original Code is: ⟦TidalGL⟧ Sample Implementation,", "tests pass: ⟦`make⟧ tests`",
		"The option --passphrase= ⟦can⟧ be empty.",
		"pw = ⟦pw[:-1]⟧", "pw = ⟦pw + c⟧", "pwd_age = ⟦rows[0]['age'][0]⟧", "f(password=⟦user_pass⟧, host=h)",
		"    password=⟦user_pass⟧,", "f(password=⟦pwd_buf)⟧",
		"connect(force_password_change_at_next_req=⟦must_change_at_next⟧, x)", `CHALLENGE_PASSWORD: "⟦challengePassword⟧"`,
		"my $pwd = ⟦`cmd⟧ /c cd`;", "PWD=`⟦pwd⟧`", "spf = pass:⟦softfail:neutral⟧", "gate.exp: pass=⟦0:⟧ continue",
		`$ok{pass} ? "PASS" : "⟦FAIL⟧"`,
		`'Unknown token: "⟦' . $raw . '⟧"'`, `nonce={⟦0.nonce!r⟧}`, `"base64:⟦\x00\x00ABC⟧"`, "[$user [,$passwd [⟦,\\%attr⟧]]]",
		"password []byte ⟦]byte⟧ x", "user root >⟦>$dc⟧", `context["sessionId"] = ⟦jsonMsg[⟧"Authorization"]`,
		"base-passwd (⟦3.6.1⟧) unstable; urgency=medium", `in "$pwd": ⟦$!⟧`, `die "(pwd is ⟦$cwd)\n⟧"`, `rmd "⟦$ROOT$1⟧"`,
		"TOKEN: ⟦while (@tokens) {⟧", "runner(id, token, ⟦gate.RunnerOptions{...⟧", `"""Password for encrypted ⟦files.""⟧"`,
		`getpass("⟦New Password: ⟧")`, `outf("passwords: ⟦%s\n⟧")`, `SIMPLE_AUTH = b'⟦\x80⟧'`, "# /etc/passwd: ⟦gates:x:100:101⟧",
		"*) htpasswd: ⟦Add⟧ an option", "tests/open-session-key.scm: ⟦Likewise.⟧", "NULL_PASSWORD = ⟦1<<8⟧",
		"a password ⟦and/or⟧ the name", "(scheme, password, ⟦host/port⟧)",
		"http_auth_pass : ⟦string⟧", `passphrase ⟦cache\.$⟧`, `the password ⟦change\&⟧. It`,
		"Closes: password ⟦Bug#1071,#872⟧", `pw = f'⟦"{password}"⟧'`, `pass("⟦First test⟧");`, "tests/ext-private-key.home: ⟦Delete.⟧"} {
		require.False(t, placeOf(no).Secret(), no)
	}
	for _, yes := range []string{"password: ⟦it⟧", "no password yet: ⟦Kelp-71!⟧", "pw = ⟦kelp[71]⟧", "pwd: ⟦wind + tide⟧",
		"password=⟦user_pass⟧ x", "password: ⟦`Kelp71`⟧", `pass: "⟦kelpFAIL⟧"`, "token = ⟦{kelp!71}⟧", "password: ⟦[\"x]kelp⟧",
		"password ⟦$kelp)71⟧", "password: ⟦$Kelp$71⟧", `password: "⟦files."x⟧"`, `pw "⟦New Password 7⟧"`, `pass: "⟦\x80kelp⟧"`,
		"passwd: ⟦Kelp71⟧ now", "password: ⟦wind/tide⟧", "pin: ⟦4417⟧", "password ⟦Wind/7tide⟧",
		"pwd: `⟦Kelp71⟧`", "pwd = `⟦brine⟧`", "password: ⟦]brine⟧", "password: ⟦Bug#71kelp⟧", "password: ⟦authprivKelp7⟧", "pw: ⟦<<Eel7⟧",
		"password: ⟦$brine)⟧", "password: ⟦$KELP$TIDE⟧", "password: ⟦tide.Pool{xyz⟧", "password ⟦Kelpsea!⟧", "the password is ⟦wind/tide⟧",
		"invalid password: ⟦kelp⟧ from x", "x password ⟦summer!⟧",
		"passwd: ⟦Brine⟧",
		"db=x,password=⟦gate_pass⟧,host=y", "password = ⟦gate_password⟧", "password: ⟦pass:word1⟧", "password: ⟦,$kelp71x⟧",
		"password: ⟦(?kelp⟧",
		`password: "⟦First test⟧"`, "password: ⟦string⟧", `x->pass("⟦kelp brass⟧")`} {
		require.True(t, placeOf(yes).Secret(), yes)
	}
}

// Behind keys that are none for passwords more is a piece of a program; secrets look otherwise.
func TestWhatTokensAreNot(t *testing.T) {
	for _, no := range []string{`hotp: "⟦HOTP⟧"`, `private_key: "⟦_DSAPrivateKey⟧"`, "max_token => ⟦400⟧",
		"max_num_auth = ⟦2049⟧", "nextToken=⟦-1⟧; x",
		"UnhandledToken = ⟦~0U⟧;", "TOKEN_READ  = ⟦STANDARD_READ | TOKEN_QUERY⟧", "secretValue = ⟦0x53c237_53c237⟧",
		"private_key = ⟦$dir/private/cakey.pem# The key⟧", "- !2707 credentials: ⟦macos:⟧ check",
		"%$credential = ⟦credential_read⟧ $reader;",
		"resetToken = ⟦token⟧", "{PrivateKey: ⟦key⟧}", "early_secret : ⟦string⟧", "tokens = ⟦parse(text, from)⟧",
		`token("⟦scheme⟧")`, "- ⟦Populate⟧ the map of claims.", "(unsigned, token ⟦VectorType⟧ *,",
		"max_token => ⟦10_000⟧", `"EncapsulationKey768": "⟦EncapsulationKey1024⟧"`,
		"- ⟦Fix flaky test.\n  - Fix some typos in the docs.⟧"} {
		require.False(t, placeOf(no).Secret(), no)
	}
	for _, yes := range []string{`hotp: "⟦Kelp-HOTP-7⟧"`, "max_token => ⟦Zx8Qv3LmN0⟧", "token = ⟦4471⟧", "token: ⟦-1-kelp⟧",
		"secret = ⟦0x53c2aa71ff⟧",
		"token = ⟦$kelp/71!⟧", "token: ⟦kelp71:⟧ x", "- ⟦Kelp71⟧ the x", "- ⟦Wind over quay⟧",
		"- ⟦Wind over quay\n- Tide in the bay now⟧", "minio_secret_key = ⟦123456⟧", "mint_token: ⟦4471⟧",
		"token(\"⟦Zx8Qv3LmN0⟧\")", "token ⟦Zx8Qv3LmN0⟧ * of gate"} {
		require.True(t, placeOf(yes).Secret(), yes)
	}
}
