package submit

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/fault"
	"envask/internal/site"
	"envask/internal/standin"
)

// readMail takes a mail apart: its text, and its one attachment.
func readMail(t *testing.T, data []byte) (h mail.Header, text string, name string, attached []byte) {
	t.Helper()
	m, err := mail.ReadMessage(bytes.NewReader(data))
	require.NoError(t, err)
	_, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	require.NoError(t, err)
	parts := multipart.NewReader(m.Body, params["boundary"])
	for {
		p, err := parts.NextPart()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		var body io.Reader = p
		if p.Header.Get("Content-Transfer-Encoding") == "base64" {
			body = base64.NewDecoder(base64.StdEncoding, p)
		}
		content, err := io.ReadAll(body)
		require.NoError(t, err)
		if p.FileName() != "" {
			name, attached = p.FileName(), content
		} else {
			text = string(content)
		}
	}
	return m.Header, text, name, attached
}

func mailMeans(t *testing.T) (*standin.MailDesk, *Means) {
	t.Helper()
	d, err := standin.StartMailDesk("svc@merrowick.example", "right")
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	authority := filepath.Join(t.TempDir(), "mail.pem")
	require.NoError(t, os.WriteFile(authority, d.Certificate, 0o600))
	return d, &Means{Changes: &changeLog{}, Out: t.TempDir(), Secret: func(s site.Secret) (string, error) { return strings.TrimPrefix(string(s), "env:"), nil },
		Pause: func(context.Context, int) error { return nil },
		Text: func(name string) string {
			return map[string]string{"case": "26031407", "title": "Gates stand open", "brief": "# Gates stand open\n\nSince 05:32."}[name]
		},
		Credentials: Credentials{{Route: "web", Host: "desk.ostrevane.example", Server: d.Address(), From: "svc@merrowick.example", User: "svc@merrowick.example", Password: "env:right", Authority: authority}}}
}

func TestMail(t *testing.T) {
	d, m := mailMeans(t)
	p := parcel(t, 300_000)
	const to = "mailto:evidence@desk.ostrevane.example"
	rec, err := Send(context.Background(), over(to, m), p, m)
	require.NoError(t, err)
	require.False(t, rec.Proved, "a mail server's yes is no proof of arrival")
	require.Contains(t, rec.Cover, "TLS 1.")
	require.Len(t, d.Mails(), 1)
	got := d.Mails()[0]
	require.Equal(t, []string{"evidence@desk.ostrevane.example"}, got.To)
	h, text, name, attached := readMail(t, got.Data)
	require.Equal(t, "Case 26031407: Gates stand open", h.Get("Subject"))
	require.Equal(t, p.Name, name)
	want, err := os.ReadFile(p.File)
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, attached))
	require.Contains(t, text, "Since 05:32.")
	require.Contains(t, text, p.SHA256)
	host, err := os.Hostname()
	require.NoError(t, err)
	require.NotContains(t, fmt.Sprint(h), host, "the name of this machine goes nowhere")

	d.Full = true
	_, err = Send(context.Background(), over(to, m), p, m)
	require.ErrorContains(t, err, "tried 5 times")
	d.Full = false
	m.Credentials[0].Password = "env:hunter2"
	_, err = Send(context.Background(), over(to, m), p, m)
	require.ErrorContains(t, err, "login refused")
	require.NotContains(t, err.Error(), "hunter2")
	m.Credentials[0].Authority = ""
	_, err = Send(context.Background(), over(to, m), p, m)
	require.ErrorContains(t, err, "certificate")
	big := p
	big.Size = DefaultMailLimit + 1
	_, err = Send(context.Background(), over(to, m), big, m)
	require.Equal(t, fault.Refused, fault.ClassOf(err))
	m.Credentials = nil
	_, err = Send(context.Background(), over(to, m), p, m)
	require.ErrorContains(t, err, "through which mail server")
	_, err = Open(context.Background(), "web", "mailto:nobody", m)
	require.ErrorContains(t, err, "is no mail address")
	require.Len(t, d.Mails(), 1)
}

func TestMailDraftAndPage(t *testing.T) {
	_, m := mailMeans(t)
	m.Credentials = nil
	p := parcel(t, 10_000)
	rec, err := Send(context.Background(), over("mail-draft:evidence@desk.ostrevane.example", m), p, m)
	require.NoError(t, err)
	require.True(t, rec.Handed)
	require.False(t, rec.Proved)
	data, err := os.ReadFile(rec.Path)
	require.NoError(t, err)
	h, _, name, attached := readMail(t, data)
	require.Equal(t, "1", h.Get("X-Unsent"))
	require.Equal(t, p.Name, name)
	require.Len(t, attached, 10_000)

	m.Terms = Terms{Fields: map[string]string{"Case": "{case}", "What happened": "{brief}"}}
	rec, err = Send(context.Background(), over("desk-page:https://desk.ostrevane.example/new", m), p, m)
	require.NoError(t, err)
	text, err := os.ReadFile(rec.Path)
	require.NoError(t, err)
	require.Equal(t, "Page: https://desk.ostrevane.example/new\n\n--- Case ---\n26031407\n\n--- What happened ---\n# Gates stand open\n\nSince 05:32.\n\n--- file to attach ---\n"+p.File+"\n10000 bytes\nSHA-256 "+p.SHA256+"\n", string(text))
	_, err = Open(context.Background(), "web", "desk-page:javascript:alert(1)", m)
	require.ErrorContains(t, err, "names no page")
}

// Without a login, FTP servers are given the word anonymous and a mail address that is nobody's.
func TestAnonymousFTP(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	said := make(chan string, 10)
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		fmt.Fprint(c, "220 ready\r\n")
		for in := bufio.NewScanner(c); in.Scan(); {
			switch word, rest, _ := strings.Cut(in.Text(), " "); word {
			case "USER":
				said <- rest
				fmt.Fprint(c, "331 and the password?\r\n")
			case "PASS":
				said <- rest
				fmt.Fprint(c, "530 no\r\n")
			default:
				fmt.Fprint(c, "502 no\r\n")
			}
		}
	}()
	_, err = Open(context.Background(), "web", "ftp://"+l.Addr().String()+"/in", &Means{})
	require.ErrorContains(t, err, "login refused for anonymous (530 no)")
	require.Equal(t, "anonymous", <-said)
	require.Equal(t, anonymousPassword, <-said)
}

// A relay without encryption gets a mail only where the engineer's own file says so, and the receipt tells it.
func TestMailOverAPlainRelay(t *testing.T) {
	_, m := mailMeans(t)
	relay, err := standin.StartMailRelay()
	require.NoError(t, err)
	t.Cleanup(func() { relay.Close() })
	p := parcel(t, 3000)
	const to = "mailto:evidence@desk.ostrevane.example"
	m.Credentials[0] = Credential{Route: "web", Host: "desk.ostrevane.example", Server: relay.Address(), From: "svc@merrowick.example"}
	_, err = Send(context.Background(), over(to, m), p, m)
	require.Equal(t, fault.Refused, fault.ClassOf(err), "%v", err)
	require.Contains(t, fault.HintOf(err), "insecure-plain-mail: yes")
	require.Empty(t, relay.Mails())

	var said []string
	m.Note = func(text string) { said = append(said, text) }
	m.Credentials[0].PlainMail = true
	rec, err := Send(context.Background(), over(to, m), p, m)
	require.NoError(t, err)
	require.Equal(t, "nothing: NOT encrypted to the mail server", rec.Cover)
	require.Len(t, relay.Mails(), 1)
	require.Contains(t, strings.Join(said, ""), "without encryption")

	file := filepath.Join(t.TempDir(), "credentials.yaml")
	require.NoError(t, os.WriteFile(file, []byte("credentials:\n  - {route: mail, host: desk.ostrevane.example, server: 'relay.merrowick.example:25', from: svc@merrowick.example, user: svc, insecure-plain-mail: yes}\n"), 0o600))
	_, err = LoadCredentials(file)
	require.ErrorContains(t, err, "a login is never sent without encryption")
}
