package submit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/mail"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"envask/internal/durable"
	"envask/internal/fault"
)

// DefaultMailLimit is how large an archive may be for a mail when the ask names no limit, in bytes: base64 makes it a third
// larger, and few servers take more than 25 MB.
const DefaultMailLimit = 18 << 20

// ByMail says whether a route goes by mail.
func ByMail(to string) bool {
	return strings.HasPrefix(to, "mailto:") || strings.HasPrefix(to, "mail-draft:")
}

// letter is what both routes by mail have in common.
type letter struct {
	*web
	to string
}

func newLetter(name string, u *url.URL, m *Means) (*letter, error) {
	address, err := mail.ParseAddress(u.Opaque)
	if err != nil {
		return nil, fault.New(fault.Usage, "route", name, fmt.Sprintf("%q is no mail address", u.Opaque),
			"write mailto:evidence@vendor.example")
	}
	_, domain, _ := strings.Cut(address.Address, "@")
	w, err := newWeb(name, &url.URL{Scheme: "https", Host: domain}, m)
	if err != nil {
		return nil, err
	}
	return &letter{w, address.Address}, nil
}

// message makes the mail: the brief as text, the archive attached.
func (l *letter) message(p Parcel, from string) (*gomail.Msg, error) {
	if limit := cmp.Or(l.means.Terms.Limit, DefaultMailLimit); p.Size > limit {
		return nil, fault.New(fault.Refused, "route", l.name, fmt.Sprintf("the archive has %d bytes; by mail go %d at most", p.Size, limit),
			"choose another route, a smaller window or a lower depth")
	}
	msg := gomail.NewMsg()
	if from != "" {
		if err := msg.From(from); err != nil {
			return nil, fault.New(fault.Usage, "route", l.name, fmt.Sprintf("from: %q is no mail address", from),
				"fix it in credentials.yaml")
		}
	}
	if err := msg.To(l.to); err != nil {
		return nil, err
	}
	subject := l.means.fill(cmp.Or(l.means.Terms.Subject, "Case {case}: {title}"))
	subject = strings.TrimSuffix(brief(subject), ":")
	if p.Part > 0 {
		subject += fmt.Sprintf(" (part %d of %d)", p.Part, p.Parts)
	}
	msg.Subject(subject)
	text := l.means.fill("{brief}")
	if text != "" {
		text += "\n\n"
	}
	msg.SetBodyString(gomail.TypeTextPlain, text+fmt.Sprintf("Attached: %s\n%d bytes, SHA-256 %s\n", p.Name, p.Size, p.SHA256))
	msg.AttachFile(p.File, gomail.WithFileName(p.Name))
	msg.SetUserAgent("envask")
	msg.SetDate()
	_, domain, ok := strings.Cut(from, "@")
	if !ok { // not of this machine's name, which is nobody's business
		domain = "envask.invalid"
	}
	msg.SetMessageIDWithValue(fmt.Sprintf("%s.%d@%s", p.SHA256[:24], time.Now().UnixNano(), strings.Trim(domain, "> ")))
	return msg, nil
}

// mailRoute sends by the engineer's own mail server (RFC 5321), with STARTTLS (RFC 3207) or TLS from the beginning.
type mailRoute struct {
	*letter
	client *gomail.Client
}

var _ Courier = (*mailRoute)(nil)

// implicitTLS is the port on which a mail server speaks TLS from the beginning (RFC 8314).
const implicitTLS = 465

func openMail(ctx context.Context, name string, u *url.URL, m *Means) (Route, error) {
	l, err := newLetter(name, u, m)
	if err != nil {
		return nil, err
	}
	if l.cred.Server == "" || l.cred.From == "" {
		return nil, fault.New(fault.Usage, "route", name, "it is not known through which mail server, and from whom, to send",
			"credentials.yaml needs server: and from: (and user: and password:) for this route, or use a mail-draft: route")
	}
	host, port, err := net.SplitHostPort(l.cred.Server)
	if err != nil {
		host, port = l.cred.Server, "587"
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, fault.New(fault.Usage, "route", name, fmt.Sprintf("server: %q is no host:port", l.cred.Server), "")
	}
	conf, err := l.tls(host)
	if err != nil {
		return nil, err
	}
	options := []gomail.Option{gomail.WithPort(number), gomail.WithTLSConfig(conf), gomail.WithoutNoop(),
		gomail.WithDialContextFunc(func(dial context.Context, network, address string) (net.Conn, error) {
			conn, err := (&net.Dialer{Timeout: 30 * time.Second}).DialContext(dial, network, address)
			if err != nil {
				return nil, err
			}
			return steady(ctx, conn, m.stall()), nil
		})}
	switch {
	case number == implicitTLS:
		options = append(options, gomail.WithSSL())
	case l.cred.PlainMail:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSOpportunistic))
	default:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory))
	}
	password, err := l.secret(l.cred.Password)
	if err != nil {
		return nil, err
	}
	if l.cred.User != "" {
		options = append(options, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover), gomail.WithUsername(l.cred.User),
			gomail.WithPassword(password))
	}
	client, err := gomail.NewClient(host, options...)
	if err != nil {
		return nil, fault.Wrap("route", name, err)
	}
	return &mailRoute{letter: l, client: client}, nil
}

func (r *mailRoute) Deliver(ctx context.Context, p Parcel, told func(int64), rec *Receipt) error {
	msg, err := r.message(p, r.cred.From)
	if err != nil {
		return err
	}
	rec.Path = r.to
	if err := r.client.DialWithContext(ctx); err != nil {
		return r.smtpError(err)
	}
	rec.Server, rec.Cover = r.Server(), r.Cover()
	if r.covered() == "" {
		r.means.note("the mail goes to " + r.cred.Server + " without encryption, as insecure-plain-mail in credentials.yaml allows")
	}
	err = r.client.Send(msg)
	if e := r.client.Close(); err == nil && e != nil {
		r.means.note(fmt.Sprintf("the mail server took the mail, and did not say goodbye: %v", e))
	}
	if err != nil {
		return r.smtpError(err)
	}
	told(p.Size)
	rec.Answer = brief(msg.ServerResponse())
	rec.Proof = "the mail server took it as " + msg.GetMessageID() + "; whether it reached the vendor shows only by an answer"
	return nil
}

func (r *mailRoute) smtpError(err error) error {
	var refused *fault.Error
	var sent *gomail.SendError
	switch {
	case errors.As(err, &refused):
		return refused
	case errors.As(err, &sent) && sent.IsTemp():
		return passing{err}
	case errors.As(err, &sent):
		return fault.New(fault.Failed, "route", r.name, "the mail server does not take it: "+brief(err.Error()), "")
	case strings.Contains(err.Error(), "STARTTLS"):
		return fault.New(fault.Refused, "route", r.name, "the mail server "+r.cred.Server+
			" offers no encryption (STARTTLS), so nothing was sent", "use a server that does; for a relay in a trusted network say "+
			"insecure-plain-mail: yes for this route in credentials.yaml (the receipt shows it)")
	case strings.Contains(err.Error(), "535") || strings.Contains(strings.ToLower(err.Error()), "auth"):
		return fault.New(fault.Failed, "route", r.name, "login refused by the mail server: "+brief(err.Error()),
			"check user and password in credentials.yaml")
	}
	return r.failed(err)
}

func (r *mailRoute) Server() string {
	s := "mail server " + r.cred.Server
	if _, peer, ok := strings.Cut(r.server(&url.URL{Host: r.cred.Server}), ", "); ok {
		s += ", " + peer
	}
	return s
}

func (r *mailRoute) Cover() string { return cmp.Or(r.covered(), uncovered) + " to the mail server" }
func (r *mailRoute) Close() error  { return nil }

// draft writes the mail as a file that mail programs open (RFC 5322), for a person to send.
type draft struct{ *letter }

var _ Courier = draft{}

func openDraft(_ context.Context, name string, u *url.URL, m *Means) (Route, error) {
	l, err := newLetter(name, u, m)
	if err != nil {
		return nil, err
	}
	return draft{l}, nil
}

func (d draft) Deliver(_ context.Context, p Parcel, told func(int64), rec *Receipt) error {
	msg, err := d.message(p, d.cred.From)
	if err != nil {
		return err
	}
	if d.cred.From == "" { // the mail program fills it in; without this header it opens the file as one to be sent
		msg.SetGenHeader("X-Unsent", "1")
	}
	rec.Path = filepath.Join(d.means.Out, p.Name+"."+d.name+".eml")
	if err := durable.Write(rec.Path, 0o600, func(w io.Writer) error { _, err := msg.WriteTo(w); return err }); err != nil {
		return err
	}
	told(p.Size)
	rec.Handed = true
	rec.Proof = "open it with your mail program and send it; the receipt knows only that it was made"
	return nil
}

func (d draft) Server() string { return "your mail program" }
func (d draft) Cover() string  { return "" }
func (d draft) Close() error   { return nil }
