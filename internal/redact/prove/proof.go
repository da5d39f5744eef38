package prove

import (
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"html"
	"io"
	"math/big"
	"net/url"
	"strings"

	"envask/internal/redact"
	"envask/internal/redact/alias"
	"envask/internal/redact/mutate"
)

// Proof is a test of the redaction as it runs on a day: secrets and identities that nobody has ever seen, made up for it, are
// put through the same rules, learned values and leak check as the evidence, in several notations. None of it goes into the
// archive.
type Proof struct {
	Values    int      `json:"values"`    // made up
	Notations int      `json:"notations"` // in which they stood, all together
	Caught    int      `json:"caught"`    // of those
	Missed    []string `json:"missed"`    // what was not caught, in words
}

// planted is one made-up value, the text that announces it, and the class that it is of.
type planted struct {
	what, text, value string
	class             alias.Class
	rule              string
}

// Prover makes one proof. Its values are learned together with those of the evidence, so that one matcher knows both.
type Prover struct {
	config redact.Config
	values []planted
}

// NewProver makes up values. What the configuration leaves alone is not asked for.
func NewProver(c redact.Config) *Prover {
	p := &Prover{config: c}
	word := func(n int) string { return pick(n, "abcdefghjkmnpqrstuvwxyz") }
	mixed := func(n int) string {
		return pick(n, "abcdefghjkmnpqrstuvwxyz") + pick(n-2,
			"ABCDEFGHJKMNPQRSTUVWXYZ23456789") + pick(1, "ABCDEFGHJKMNPQRSTUVWXYZ") + pick(1, "23456789")
	}
	add := func(rule string, class alias.Class, format, value string) {
		if !c.Keeps(class, rule) {
			p.values = append(p.values, planted{what: rule, text: fmt.Sprintf(format,
				value) + "\n", value: value, class: class, rule: rule})
		}
	}
	for _, format := range []string{"db_password=%s", "Password: %s",
		`{"clientSecret":"%s"}`, "<apiKey>%s</apiKey>", "export ACCESS_TOKEN='%s'",
		`"{\"passphrase\":\"%s\"}"`, "conf loaded auth_token=%s from=disk", "<add key=\"DbPassword\" value=\"%s\"/>"} {
		add("keyed-secret", alias.Secret, format, mixed(6)+"-"+word(5)+"!")
	}
	add("password-option", alias.Secret, "run tool --password %s --lane 7", mixed(7))
	add("url-credentials", alias.Secret, "connect amqp://gate:%s@mq:5672/x", mixed(8))
	add("authorization", alias.Secret, "Authorization: Bearer %s", mixed(12))
	add("cookie", alias.Secret, "Cookie: %s", "sid="+mixed(9))
	add("worded-secret", alias.Secret, "enable secret %s", mixed(6))
	add("mail", alias.Mail, "sent to %s today", word(7)+"."+word(6)+"@"+word(8)+".example")
	add("user", alias.User, "operator=%s lane 7", word(4)+"."+word(8))
	add("log-user", alias.User, "session opened for user %s by (uid=0)", word(3)+"."+word(7))
	add("home", alias.User, "open /home/%s/gate.log", word(3)+"."+word(8))
	add("host", alias.Host, "connect to %s:5432 failed", word(7)+"."+word(5)+".internal")
	add("ipv4", alias.IPv4, "from %s port 22", fmt.Sprintf("10.%d.%d.%d", 1+number(250), number(250), 1+number(250)))
	add("ipv6", alias.IPv6, "peer [%s]:443", fmt.Sprintf("2001:db8:%x:%x::%x",
		0x1000+number(0xeffe), 0x1000+number(0xeffe), 0x1000+number(0xeffe)))
	add("mac", alias.MAC, "link %s up", fmt.Sprintf("00:00:5e:%02x:%02x:%02x", 0xa0+number(80), number(250), 0xa0+number(80)))
	add("phone", alias.Phone, "phone: %s", fmt.Sprintf("+351 9%08d", number(99_999_999)))
	add("document-number", alias.ID, "passport=%s", pick(2, "ABCDEFGHJKLMNPRST")+fmt.Sprintf("%07d", 1_000_000+number(8_999_999)))
	return p
}

func number(n int) int {
	v, err := rand.Int(rand.Reader, big.NewInt(int64(n)))
	if err != nil {
		panic(err) // the system has no randomness: nothing can be proven
	}
	return int(v.Int64())
}

func pick(n int, from string) string {
	out := make([]byte, n)
	for i := range out {
		out[i] = from[number(len(from))]
	}
	return string(out)
}

// Learn puts the texts that announce the values through an engine, and gives what it learned. What should have been learned
// and was not is missed.
func (p *Prover) Learn(o redact.Options) ([]alias.Value, []string, error) {
	o.Learned, o.Matcher = redact.NewLearned(), nil
	e := redact.NewEngine(o)
	for _, v := range p.values {
		if _, err := e.Text(nil, strings.NewReader(v.text+v.text)); err != nil { // what is found once on weak evidence teaches nothing
			return nil, nil, err
		}
	}
	known := map[string]bool{}
	values := o.Learned.Values()
	for _, v := range values {
		known[v.Text] = true
	}
	var missed []string
	for _, v := range p.values {
		if !known[v.value] {
			missed = append(missed, "rule "+v.what+" did not find its value")
		}
	}
	return values, missed, nil
}

// notations gives the forms in which a value is looked for without its key.
func (v planted) notations() map[string]string {
	out := map[string]string{"bare": "tried " + v.value + " twice", "name of a file": "/srv/" + v.value + ".log"}
	if v.class == alias.Secret {
		out["within a word"] = "x" + v.value + "x"
		out["base64"] = "got " + base64.StdEncoding.EncodeToString([]byte("svc:"+v.value+":x")) + " back"
		out["percent escapes"] = "q=" + url.QueryEscape(v.value) + "&n=1"
		out["XML escapes"] = "<a>" + html.EscapeString(v.value) + "</a>"
	}
	if v.class == alias.Mail {
		out["percent escapes"] = "q=" + url.QueryEscape(v.value) + "&n=1"
	}
	return out
}

// Check puts every value through the redaction: with what announces it, by the rules alone, in every way in which a line comes to stand
// elsewhere; then without that, as a learned value, which the leak check has to see, too. The matcher must know what Learn gave; the
// table is not changed.
func (p *Prover) Check(o redact.Options, missed []string) (Proof, error) {
	proof := Proof{Values: len(p.values), Missed: append([]string{}, missed...)}
	o.Aliases, o.Learned = o.Aliases.Clone(), nil
	alone := o
	alone.Matcher = nil
	if err := p.Announced(redact.NewEngine(alone), &proof); err != nil {
		return proof, err
	}
	return proof, p.bare(redact.NewEngine(o), redact.NewLeakFinder(o.Matcher, o), &proof)
}

// Announced looks for values that their texts give away, by the rules of an engine alone, and adds what came of it to a proof.
func (p *Prover) Announced(e *redact.Engine, proof *Proof) error {
	var out bytes.Buffer
	for _, v := range p.values {
		for _, m := range mutate.All {
			text, ok := m.Write(strings.TrimSuffix(v.text, "\n"))
			if !ok || v.class != alias.Secret && m.Codes() {
				continue
			}
			out.Reset()
			if _, err := e.File(&out, strings.NewReader(text+"\n"), redact.Source{}); err != nil {
				return err
			}
			proof.count(!m.Holds(out.String(), v.value), "rule %s: its value was not found (%s)", v.what, m.Name)
		}
	}
	return nil
}

// count counts one notation, and says what was missed in it.
func (p *Proof) count(caught bool, format string, args ...any) {
	if p.Notations++; caught {
		p.Caught++
		return
	}
	p.Missed = append(p.Missed, fmt.Sprintf(format, args...))
}

// bare looks for values without what announces them.
func (p *Prover) bare(e *redact.Engine, finder *redact.LeakFinder, proof *Proof) error {
	for _, v := range p.values {
		for name, text := range v.notations() {
			text += "\n"
			for form, data := range map[string][]byte{"text": []byte(text), "UTF-16": mutate.UTF16(text), "gzip": gzipped(text)} {
				if form != "text" && name != "bare" {
					continue
				}
				var out bytes.Buffer
				if _, err := e.File(&out, bytes.NewReader(data), redact.Source{}); err != nil {
					return err
				}
				plain := opened(out.Bytes(), form)
				removed := !bytes.Contains(plain, []byte(v.value)) && len(plain) > 0
				proof.count(removed, "rule %s: the value %s (%s) was not removed", v.what, name, form)
				leaks, err := finder.Find(bytes.NewReader(data), "")
				if err != nil {
					return err
				}
				if len(leaks) == 0 {
					proof.Missed = append(proof.Missed, fmt.Sprintf("rule %s: the leak check did not see the value %s (%s)",
						v.what, name, form))
				}
			}
		}
	}
	return nil
}

func gzipped(text string) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := io.WriteString(w, text)
	if err = errors.Join(err, w.Close()); err != nil {
		panic(err) // memory does not fail
	}
	return out.Bytes()
}

// opened gives the text of what became of one of the forms.
func opened(data []byte, form string) []byte {
	switch form {
	case "UTF-16":
		return bytes.ReplaceAll(data, []byte{0}, nil)
	case "gzip":
		r, err := gzip.NewReader(bytes.NewReader(data))
		if err != nil {
			return nil
		}
		out, err := io.ReadAll(r)
		if err != nil {
			return nil
		}
		return out
	}
	return data
}
