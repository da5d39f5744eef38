package judge

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestNamesThatAreRemovedEverywhere(t *testing.T) {
	for _, yes := range []string{"m.quintela", "mquintela", "ilka", "Ilka Brandvold", "Jan van der Berg", "J. R. Brandvold",
		"svc-fare7", "O'Brandvold",
		`PIER\mquintela`, "q1417", "Łukasz Brandvold", "ines-k", "maria"} {
		require.True(t, Name([]byte(yes)), yes)
	}
	for _, no := range []string{"specified", "configuration", "member", "it's", "general", "connections", "parameters",
		"identifiers", "and C", "remove unused",
		"Free Software Foundation", "node_modules", "use_user_site", "human-readable", ".gitignore", "test2", "socketpair",
		"Optional[str", "config[", "username",
		"getUserName", "human:reviewer", "sandbox", "Current", "self.headers", "user's", "Enable", "Thomas"} {
		require.False(t, Name([]byte(no)), no)
	}
}

func TestPiecesOfPrograms(t *testing.T) {
	for _, yes := range []string{"errors.New(", "strings.Repeat(", "%q; want %q", "%q, want %q", "config['password']",
		"map[string]bool{", "self.get_cached_creds(",
		"bytes.NewBuffer(nil)", "--user-output-enabled", "::getAnalysisUsage(AU)", "samba.generate_random_password(32, 32)",
		"new(int)", "creds)", "req.Header[",
		"client->password(", "os.Getenv(\"TOKEN\")"} {
		require.True(t, Code([]byte(yes)), yes)
	}
	for _, no := range []string{"Kelp-71!brass", "hunter2(", "Tr0ub4dor&3", "a(b", "x[1", "%7Bcipher%7D4f", "p4ss.w0rd-9", "qX(7)z",
		"correct horse battery staple", "%aB3xK!9"} {
		require.False(t, Code([]byte(no)), no)
	}
}

func TestSecretsThatAreRemovedEverywhere(t *testing.T) {
	for _, yes := range []string{"Kelp-71!brass", "9f86d081884c7d65", "hunter2x9", "correct-kelp-battery",
		"Only-There-77", "lighthouse-4471"} {
		require.True(t, Secret([]byte(yes)), yes)
	}
	for _, no := range []string{"New file.", "remove unused", "MachineFunctionPass:", "PassInfoMixin", "_DSAPrivateKey_", "errors.New(",
		"test_status", "true", "Basic ", "`command"} {
		require.False(t, Secret([]byte(no)), no)
	}
}

func TestParts(t *testing.T) {
	for in, want := range map[string][]string{
		"getUserName": {"get", "User", "Name"}, "HTTPServer2": {"HTTP", "Server", "2"}, "node_modules": {"node", "modules"},
		"a.b-c": {"a", "b", "c"}, "": nil, "_x": {"x"},
	} {
		var got []string
		for _, p := range Parts([]byte(in)) {
			got = append(got, string(p))
		}
		require.Equal(t, want, got, in)
	}
}

func FuzzJudge(f *testing.F) {
	for _, s := range []string{"m.quintela", "it's", "errors.New(", "\\", "%", "", "a\\"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(_ *testing.T, text []byte) {
		Name(text)
		if len(text) > 0 {
			Secret(text)
		}
		Code(text)
		Parts(text)
	})
}

func place(line string) Place {
	var p Place
	before, rest, _ := bytes.Cut([]byte(line), []byte("⟦"))
	p.Before = before
	p.Text, p.After, _ = bytes.Cut(rest, []byte("⟧"))
	return p
}

func TestSecretsWhereTheyStand(t *testing.T) {
	for _, yes := range []string{"password = ⟦sunshine⟧", "password: ⟦Kelp-71!brass⟧ # of the pier", "--token ⟦a8f7c2⟧ --port 9",
		`"password": "⟦correct horse battery⟧",`,
		"passphrase: ⟦correct horse battery staple⟧", "password = ⟦Password123⟧", "username svc password ⟦sunshine⟧",
		"password = ⟦super_secret⟧", "PIN: ⟦4711⟧",
		"token: '⟦s3cr3t⟧', x", "DB_PASSWORD=⟦hunter2⟧", `password="⟦!Sunshine⟧"`, "password: ⟦root⟧", "password = ⟦SuperSecretPassword⟧",
		"password=⟦@dminpass⟧",
		"username svc password ⟦sunshine⟧ privilege 15", "passwd: ⟦blue horse⟧", "password: ⟦sunshine⟧ for bob",
		"db_password = ⟦my_password⟧", "password=⟦/x9Kq+tR7/aa0==⟧"} {
		p := place(yes)
		require.True(t, p.Secret(), yes)
	}
	for _, no := range []string{"upcaseTokens = ⟦upcase_tokens⟧", `<a accesskey="⟦p⟧" href`, "AsmToken:⟦:TokenKind OperatorToken⟧,",
		"c.sessionID = ⟦event.SessionID⟧",
		":param refresh_token: ⟦Unicode⟧ refresh token.", "@param password ⟦Sable7wharf⟧ of the gate",
		"// Second pass: ⟦find⟧ repeats of it", "NOPASSWD: ⟦/bin/sh⟧",
		"MAGIC\t⟦0x5345434d⟧", "pass := ⟦!isEmpty(object)⟧",
		"credentials=⟦self.creds⟧, lp=lp)", "<auth>⟦EXTERNAL⟧</auth>", "(token, ⟦*Group⟧) {", `passwd "⟦$user⟧")`,
		"GOOGLE_API_KEY='⟦your-api-key⟧'", "pw = ⟦getpass(⟧\"x\")",
		"stored as a secret ⟦named⟧ by it", "token = ⟦Name.Builtin.Pseudo⟧ # x", "x_TOKEN = ⟦18⟧,", "token := ⟦src[s]⟧",
		"my $pass = ⟦$assert-⟧>{pass};"} {
		p := place(no)
		require.False(t, p.Secret(), no)
	}
}

func TestPersonsWhereTheyStand(t *testing.T) {
	for _, yes := range []string{"user=⟦m.quintela⟧ ok", "for user ⟦ilka⟧ from", "passenger=⟦JOHN SMITH⟧ seat=3", `"owner": "⟦ines⟧"`,
		"Author: ⟦Ilka van der Berg⟧ <x@y.example>",
		"login: ⟦mark.stone⟧", "operator=⟦JKB⟧", "user=⟦backup2⟧", "user: ⟦maria⟧ logged in"} {
		p := place(yes)
		require.True(t, p.Person(), yes)
	}
	for _, no := range []string{"for user ⟦connections⟧ only", "username=⟦username⟧, x", "\\-\\-username=admin\\⟦fR⟧;",
		"account: ⟦use⟧ two factors", "owner = ⟦self.owner⟧",
		"member='⟦allAuthenticatedUsers⟧' x", "user = ⟦os.environ[⟧\"X\"]", "fullname = ⟦entry.path⟧",
		"recipient: ⟦DSN⟧ option not supported", "<author>⟦foo⟧</author>",
		"debug user => \"⟦trying frontend $type⟧\";", "the ⟦Free Software Foundation⟧.", ":param uid: ⟦Numeric⟧ id of the user"} {
		p := place(no)
		require.False(t, p.Person(), no)
	}
}

func TestWholeNames(t *testing.T) {
	for line, want := range map[string]string{
		"passenger=⟦JOHN⟧ SMITH seat=3": "JOHN SMITH", "by ⟦Ilka⟧ E. van der Berg <x>": "Ilka E. van der Berg",
		"Author: ⟦Fred⟧ L. Drake, Jr.": "Fred L. Drake",
		"user: ⟦Maria⟧ Logged in":      "Maria", "user=⟦Ilka⟧ Lane=3": "Ilka", "user ⟦ilka⟧ Brandvold": "ilka",
		"operator=⟦JKB⟧ lane 2": "JKB",
		"by ⟦Łukasz⟧ Langa and": "Łukasz Langa", "guest=⟦Jean⟧ Le Goff-Brandvold paid": "Jean Le Goff-Brandvold",
	} {
		p := place(line)
		text := string(p.Before) + string(p.Text) + string(p.After)
		start := len(p.Before)
		require.Equal(t, want, text[start:WholeName([]byte(text), start, start+len(p.Text))], line)
	}
}
