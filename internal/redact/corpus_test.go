package redact

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"os"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// corpus makes labelled samples: a text, what must not be in it afterwards, and the class that it counts for. The same seed
// makes the same samples.
type corpus struct {
	r       *rand.Rand
	samples []labelled
}

type labelled struct{ class, text, value string }

func (c *corpus) pick(words ...string) string { return words[c.r.IntN(len(words))] }

func (c *corpus) letters(n int, from string) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = from[c.r.IntN(len(from))]
	}
	return string(b)
}

const (
	alnum = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"
	hexes = "0123456789abcdef"
)

// secret is a value as people and programs choose them.
func (c *corpus) secret() string {
	switch c.r.IntN(5) {
	case 0:
		return c.letters(4, "bcdfgklmnprstvz") + c.pick("-", "!", "#", ".", "_") + c.letters(4, alnum) + c.pick("71", "88", "2x", "9!")
	case 1:
		return c.letters(24+c.r.IntN(16), alnum)
	case 2:
		return c.letters(32, hexes)
	case 3:
		return c.letters(9, alnum) + "+" + c.letters(10, alnum) + "=="
	}
	return c.letters(1, "TKBMR") + c.letters(6, "abdeklmnorst") + c.letters(3, "123456789") + "!"
}

// The notations in which a value stands next to its key: %[1]s is the key, %[2]s the value.
var notations = []string{
	"%[1]s=%[2]s", "%[1]s = %[2]s", "%[1]s: %[2]s", "%[1]s=\"%[2]s\"", "%[1]s: '%[2]s'", `{"%[1]s":"%[2]s","id":7}`, `{"a":1, "%[1]s" : "%[2]s"}`, `{"x":{"%[1]s":"%[2]s"}}`,
	"<%[1]s>%[2]s</%[1]s>", `<conf %[1]s="%[2]s" port="8080"/>`, "%[1]s => %[2]s,", "2026-03-14T06:12:00Z INFO conf loaded %[1]s=%[2]s from=disk", "export %[1]s=%[2]s",
	"level=info %[1]s=%[2]s msg=\"table loaded\"", "--%[1]s=%[2]s --table 7", "--%[1]s %[2]s --table 7", "PUT /conf?zone=1&%[1]s=%[2]s&x=2 HTTP/1.1", "[auth]\n%[1]s=%[2]s\n", "  %[1]s: \"%[2]s\" # of the gate\n",
	`msg="{\"%[1]s\":\"%[2]s\"}"`, "set %[1]s = %[2]s;", "-D%[1]s=%[2]s -Xmx512m",
}

var secretKeys = []string{"password", "db_password", "dbPassword", "DB_PASSWORD2", "fare.db.password", "passwd", "secret", "client_secret", "clientSecret", "api_key", "apiKey", "API-KEY", "access_token", "accessToken",
	"refresh-token", "auth_token", "x-api-key", "passphrase", "private_key", "session_token", "credentials", "gatePassword", "smtp_pass"}

func (c *corpus) make() {
	for range 80 {
		for _, n := range notations {
			v := c.secret()
			if strings.Contains(n, "?zone") || strings.Contains(n, "set ") {
				v = c.letters(20, alnum)
			}
			c.samples = append(c.samples, labelled{"keyed secret", fmt.Sprintf(n, c.pick(secretKeys...), v), v})
		}
		v := c.letters(30, alnum)
		basic := base64.StdEncoding.EncodeToString([]byte("svc:" + c.secret()))
		user := c.letters(2, "bdfklm") + "." + c.letters(8, "abdeiklmnorst")
		c.samples = append(c.samples,
			labelled{"header", "Authorization: Bearer " + v, v}, labelled{"header", `"headers":{"Authorization":"Basic ` + basic + `"}`, basic},
			labelled{"header", "> Cookie: sid=" + v + "; zone=1", v}, labelled{"header", "Set-Cookie: session=" + v + "; Path=/; HttpOnly", v}, labelled{"header", "Proxy-Authorization: Basic " + basic, basic},
			labelled{"token", "used eyJhbGciOiJIUzI1NiJ9." + v + "." + v + " for it", v}, labelled{"token", "clone with glpat-" + v, v}, labelled{"token", "paid by sk_live_" + v + ".", v},
			labelled{"token", "GET https://svc:" + v + "@fare.tallow.example/tables", v}, labelled{"token", "postgres://fare:" + v + "@192.0.2.61:5432/fare?sslmode=on", v},
			labelled{"token", "root:$6$" + c.letters(8, alnum) + "$" + c.letters(86, alnum) + ":19000:0:", "$6$"}, labelled{"token", "hash $2b$12$" + c.letters(53, alnum), "$2b$12$"},
			labelled{"mail", "sent to " + user + "@merrowick.example today", user}, labelled{"mail", "<" + user + "+gate@merrowick.example>", user}, labelled{"mail", `"mail":"` + user + `@merrowick.example"`, user},
			labelled{"user", "checked by operator=" + user + " lane 2", user}, labelled{"user", `{"user":"` + user + `"}`, user}, labelled{"user", "login: " + user, user}, labelled{"user", "username = '" + user + "'", user},
		)
		v4 := fmt.Sprintf("10.%d.%d.%d", c.r.IntN(256), c.r.IntN(256), 1+c.r.IntN(254))
		v6 := fmt.Sprintf("2001:db8:%x:%x::%x", c.r.IntN(0xffff), c.r.IntN(0xffff), 1+c.r.IntN(0xfff0))
		mac := fmt.Sprintf("00:00:5e:%02x:%02x:%02x", c.r.IntN(256), c.r.IntN(256), 0xa0+c.r.IntN(80))
		for _, n := range []string{"from %s port 22", "peer=%s", "(%s)", `"ip":"%s"`, "%s - - [14/Mar/2026:06:12:00 +0000]", "connect %s, retry", "bound to [%s]"} {
			c.samples = append(c.samples, labelled{"address", fmt.Sprintf(n, v4), v4}, labelled{"address", fmt.Sprintf(n, v6), v6}, labelled{"address", fmt.Sprintf(n, mac), mac})
		}
		c.samples = append(c.samples, labelled{"address", v4 + ":8443 up", v4}, labelled{"address", "[" + v6 + "]:8443 up", v6}, labelled{"address", "arp " + strings.ToUpper(strings.ReplaceAll(mac, ":", "-")), strings.ToUpper(strings.ReplaceAll(mac, ":", "-"))})
	}
}

// Recall by class on the labelled corpus. The figures are printed; a class that falls below its floor fails.
func TestRecall(t *testing.T) {
	c := &corpus{r: rand.New(rand.NewPCG(26, 31407))}
	c.make()
	floors := map[string]float64{"keyed secret": 0.995, "header": 0.995, "token": 0.995, "mail": 0.97, "user": 0.97, "address": 0.97}
	all, found, missed := map[string]int{}, map[string]int{}, map[string][]string{}
	for _, s := range c.samples {
		require.Contains(t, s.text, s.value, "a sample without its value proves nothing")
		all[s.class]++
		if out := redactText(t, s.text+"\n"); !strings.Contains(out, s.value) {
			found[s.class]++
		} else if len(missed[s.class]) < 12 {
			missed[s.class] = append(missed[s.class], s.text)
		}
	}
	var classes []string
	for class := range all {
		classes = append(classes, class)
	}
	sort.Strings(classes)
	for _, class := range classes {
		recall := float64(found[class]) / float64(all[class])
		t.Logf("%-14s %5d samples, recall %.2f %% %s", class, all[class], 100*recall, strings.Join(missed[class], " | "))
		require.GreaterOrEqual(t, recall, floors[class], "%s: missed\n%s", class, strings.Join(missed[class], "\n"))
	}
	require.GreaterOrEqual(t, len(c.samples), 4000)
}

// What the vendor needs survives: every line of the list comes back as it was.
func TestSurvival(t *testing.T) {
	data, err := os.ReadFile("testdata/survive.txt")
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(data)), "\n")
	for i, l := range lines {
		assert.Equal(t, l+"\n", redactText(t, l+"\n"), "survive.txt:%d", i+1)
	}
	require.GreaterOrEqual(t, len(lines), 300)
}
