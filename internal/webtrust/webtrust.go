// Package webtrust holds what every conversation over HTTP keeps to: one origin, certificates that are trusted, and answers that move.
package webtrust

import (
	"cmp"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"
)

// SameOrigin says whether two addresses have the same scheme, host and port (RFC 6454, section 5): the three are one thing, for whoever
// answers at another of them is somebody else.
func SameOrigin(a, b *url.URL) bool {
	port := func(u *url.URL) string {
		return cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
	}
	return a.Scheme == b.Scheme && strings.EqualFold(a.Hostname(), b.Hostname()) && port(a) == port(b)
}

// Files are where certificates stand, in PEM. All may be "".
type Files struct {
	Authority   string // whom to trust, instead of the authorities of this machine
	Certificate string // who we are
	Key         string // its private key; "" where that stands with the certificate
}

// ErrNotPEM is the failure of a file of authorities in which there is none.
var ErrNotPEM = errors.New("holds no certificate (PEM)")

// Settings gives those of TLS (1.2 at least) for a host.
func Settings(host string, f Files) (*tls.Config, error) {
	conf := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if f.Authority != "" {
		pem, err := os.ReadFile(f.Authority)
		if err != nil {
			return nil, err
		}
		conf.RootCAs = x509.NewCertPool()
		if !conf.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s %w", f.Authority, ErrNotPEM)
		}
	}
	if f.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(f.Certificate, cmp.Or(f.Key, f.Certificate))
		if err != nil {
			return nil, fmt.Errorf("the client certificate cannot be used: %w", err)
		}
		conf.Certificates = []tls.Certificate{pair}
	}
	return conf, nil
}

// ErrNoCertificate is the failure of a server that shows none.
var ErrNoCertificate = errors.New("the server shows no certificate")

// Fingerprint gives the SHA-256 of the certificate that the other side showed, in small hexadecimal digits.
func Fingerprint(s *tls.ConnectionState) (string, error) {
	if len(s.PeerCertificates) == 0 {
		return "", ErrNoCertificate
	}
	sum := sha256.Sum256(s.PeerCertificates[0].Raw)
	return hex.EncodeToString(sum[:]), nil
}

// Untrusted reports whether an exchange failed because of the other side's certificate.
func Untrusted(err error) bool {
	var unknown x509.UnknownAuthorityError
	var other x509.HostnameError
	var invalid x509.CertificateInvalidError
	return errors.As(err, &unknown) || errors.As(err, &other) || errors.As(err, &invalid)
}
