package standin

import (
	"bytes"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// MailDesk is a mail server that takes mails after STARTTLS and a login, and keeps them.
type MailDesk struct {
	User, Password string
	Certificate    []byte // PEM
	Full           bool   // it takes no mail for now
	relay          bool   // it takes mails from anybody, and knows no encryption

	server   *smtp.Server
	listener net.Listener
	mu       sync.Mutex
	mails    []Mail
}

// Mail is one that arrived.
type Mail struct {
	From string
	To   []string
	Data []byte
}

// StartMailDesk starts a mail server on a loopback port, with a certificate of its own.
func StartMailDesk(user, password string) (*MailDesk, error) {
	text, conf, err := ownTLS()
	if err != nil {
		return nil, err
	}
	d := &MailDesk{User: user, Password: password, Certificate: text}
	return d, d.start(conf)
}

// StartMailRelay starts a mail server that takes mails without encryption and without a login, as relays within a network do.
func StartMailRelay() (*MailDesk, error) {
	d := &MailDesk{relay: true}
	return d, d.start(nil)
}

func (d *MailDesk) start(conf *tls.Config) (err error) {
	d.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &mailSession{desk: d}, nil }))
	d.server.Domain = "desk.ostrevane.example"
	d.server.TLSConfig = conf
	d.server.ReadTimeout, d.server.WriteTimeout = time.Minute, time.Minute
	if d.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	go func() { _ = d.server.Serve(d.listener) }()
	return nil
}

// Address gives host and port.
func (d *MailDesk) Address() string { return d.listener.Addr().String() }

// Mails gives what arrived.
func (d *MailDesk) Mails() []Mail {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]Mail{}, d.mails...)
}

// Close stops it.
func (d *MailDesk) Close() error { return d.server.Close() }

type mailSession struct {
	desk  *MailDesk
	known bool
	mail  Mail
}

func (s *mailSession) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *mailSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != s.desk.User || password != s.desk.Password {
			return errors.New("who is it?")
		}
		s.known = true
		return nil
	}), nil
}

func (s *mailSession) Mail(from string, _ *smtp.MailOptions) error {
	if !s.known && !s.desk.relay {
		return smtp.ErrAuthRequired
	}
	if s.desk.Full {
		return &smtp.SMTPError{Code: 452, EnhancedCode: smtp.EnhancedCode{4, 3, 1}, Message: "no room for now"}
	}
	s.mail = Mail{From: from}
	return nil
}

func (s *mailSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.mail.To = append(s.mail.To, to)
	return nil
}

func (s *mailSession) Data(r io.Reader) error {
	var b bytes.Buffer
	if _, err := io.Copy(&b, r); err != nil {
		return err
	}
	s.mail.Data = b.Bytes()
	s.desk.mu.Lock()
	defer s.desk.mu.Unlock()
	s.desk.mails = append(s.desk.mails, s.mail)
	return nil
}

func (s *mailSession) Reset()        {}
func (s *mailSession) Logout() error { return nil }
