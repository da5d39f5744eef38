package redact

import (
	"fmt"
	"html"
	"net/url"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// notation is one way of writing a key with its value.
type notation struct {
	form   string
	secret bool // of secrets only
	bare   bool // what a value must not hold ends it
}

func allNotations(t *testing.T) (all []notation) {
	t.Helper()
	data, err := os.ReadFile("testdata/notations.txt")
	require.NoError(t, err)
	for _, l := range strings.Split(strings.TrimRight(string(data), "\n"), "\n") {
		if strings.HasPrefix(l, "# ") {
			continue
		}
		var n notation
		l, n.secret = strings.CutPrefix(l, "!")
		l, n.bare = strings.CutPrefix(l, "~")
		n.form = strings.NewReplacer(`\n`, "\n", `\t`, "\t", `\r`, "\r").Replace(l)
		all = append(all, n)
	}
	return all
}

func (n notation) write(key, value string) string {
	capitals := strings.NewReplacer("-", "_", ".", "_").Replace(strings.ToUpper(key))
	return strings.NewReplacer("%k", key, "%K", capitals, "%v", value, "%u", url.QueryEscape(value), "%x", html.EscapeString(value)).Replace(n.form)
}

// leftOf redacts many texts in one and gives those of which something is left.
func leftOf(t *testing.T, texts []string, left func(i int, out string) bool) (missed []string) {
	t.Helper()
	var all strings.Builder
	for i, text := range texts {
		fmt.Fprintf(&all, "\n@@%d@@\n%s\n", i, text)
	}
	out := redactText(t, all.String())
	marks := regexp.MustCompile(`(?m)^@@(\d+)@@$`).FindAllStringSubmatchIndex(out, -1)
	require.Len(t, marks, len(texts))
	for k, m := range marks {
		i, err := strconv.Atoi(out[m[2]:m[3]])
		require.NoError(t, err)
		end := len(out)
		if k+1 < len(marks) {
			end = marks[k+1][0]
		}
		if left(i, out[m[1]:end]) {
			missed = append(missed, texts[i]+"   became   "+strings.TrimSpace(out[m[1]:end]))
		}
	}
	return missed
}

// pieces are the parts of a value that must not be left, four letters of it or more.
var pieces = regexp.MustCompile(`[ ,;:#&"']+`)

func leaves(value string) func(out string) bool {
	return func(out string) bool {
		for _, p := range append(pieces.Split(value, -1), value, url.QueryEscape(value)) {
			if len(p) > 3 && strings.Contains(out, p) {
				return true
			}
		}
		return false
	}
}

// Every telling key with every kind of value in every notation.
func TestSecretsInEveryNotation(t *testing.T) {
	keys := strings.Fields("password passwd pwd passphrase secret clientSecret api_key X-Api-Key access_token authToken private_key dbPassword2 DB_PASSWORD spring.datasource.password aws_secret_access_key encryptionKey psk pin otp snmp_community smtp_pass rootpw PGPASSWORD MYSQL_PWD REDISCLI_AUTH bind_pw accountKey license_key sessionToken shared-secret")
	values := []string{"Kelp-71!brass", "harbour22", "q9#Zt,7xy", "Tide;Rip8", "a1b2c3d4e5f6", "zK8/pQ+3vR==", "with space 7!", "Größe-71x", "pa$$w0rd", "x9:y=z9kelp"}
	var texts, used []string
	for _, n := range allNotations(t) {
		for _, k := range keys {
			for _, v := range values {
				if n.bare && strings.ContainsAny(v, " ,;&") {
					continue
				}
				texts, used = append(texts, n.write(k, v)), append(used, v)
			}
		}
	}
	require.Greater(t, len(texts), 10_000)
	missed := leftOf(t, texts, func(i int, out string) bool { return leaves(used[i])(out) })
	require.Empty(t, missed, "%d of %d", len(missed), len(texts))
}

func TestNamesInEveryNotation(t *testing.T) {
	keys := strings.Fields("user username userName user_name login operator passenger owner fullName full_name first_name lastName customer customerName contact_name X-Forwarded-User samAccountName employee assignee created_by modifiedBy remote_user account_name cardholder")
	values := []string{"m.quintela", "Ilka Brandvold", "João Figueira", "ibrandvold", "quintela_m", "O'Donnell", "Anne-Marie Sund", "mquint7", "Brandvold, Ilka"}
	var texts, used []string
	for _, n := range allNotations(t) {
		for _, k := range keys {
			for _, v := range values {
				if n.secret || n.bare && strings.ContainsAny(v, " ,") || strings.Contains(v, "'") && strings.Contains(n.form, "'") {
					continue
				}
				texts, used = append(texts, n.write(k, v)), append(used, v)
			}
		}
	}
	require.Greater(t, len(texts), 5_000)
	missed := leftOf(t, texts, func(i int, out string) bool { return leaves(used[i])(out) })
	require.Empty(t, missed, "%d of %d", len(missed), len(texts))
}
