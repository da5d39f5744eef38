package submit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"envask/internal/fault"
	"envask/internal/late"
	"envask/internal/reach"
	"envask/internal/site"
)

// Receipt is the proof that an archive arrived.
type Receipt struct {
	Case     string    `json:"case"`
	Route    string    `json:"route"`
	To       string    `json:"to"`   // as the route says, without credentials
	Path     string    `json:"path"` // of the archive there
	Name     string    `json:"name"`
	Size     int64     `json:"size"`         // bytes
	SHA256   string    `json:"sha256"`       // of the archive, as it was sent
	Of       string    `json:"of,omitempty"` // of an encrypted archive: the name of the plain one, and its SHA-256
	OfSHA256 string    `json:"of_sha256,omitempty"`
	Server   string    `json:"server"`            // who took it: host, version and host key or certificate, or the folder
	Cover    string    `json:"cover"`             // what kept others from reading along: "SSH", "TLS 1.3"; "" is nothing
	Answer   string    `json:"answer,omitempty"`  // of the server, such as the number of a ticket
	Proof    string    `json:"proof"`             // how it is known that it arrived whole
	Proved   bool      `json:"proved"`            // the checksum of what is there was compared, not only the size
	Handed   bool      `json:"handed,omitempty"`  // it is ready to hand over for a person to send: whether it arrived is not known
	ByHand   string    `json:"by_hand,omitempty"` // a person handed it over, and says how: a desk's page, a mail of its own, a stick
	Ticket   string    `json:"ticket,omitempty"`  // the desk's number of it, as a person says
	Already  bool      `json:"already,omitempty"`
	Resumed  int64     `json:"resumed_at,omitempty"` // bytes that were there from an earlier try
	Tries    int       `json:"tries"`
	Started  time.Time `json:"started"`
	Finished time.Time `json:"finished"`
	By       string    `json:"by"`
	Ask      string    `json:"ask_sha256,omitempty"`    // of the approved ask, by which it was packed and sent
	Ledger   string    `json:"ledger_sha256,omitempty"` // of the case's last record before it was sent
	Parts    []Receipt `json:"parts,omitempty"`         // when it went in parts
	Word     string    `json:"word,omitempty"`          // what a proof that was brought rests on
	Brought  string    `json:"brought,omitempty"`       // who took it into the case, and when, where it was sent from elsewhere
}

// Plain gives name and SHA-256 of the archive as it was packed.
func (r *Receipt) Plain() (name, sum string) {
	if r.Of != "" {
		return r.Of, r.OfSHA256
	}
	return r.Name, r.SHA256
}

// Settled reports whether it is known that it arrived: it was compared, or a person stands for it.
func (r *Receipt) Settled() bool { return r.Proved || r.ByHand != "" }

// ByHandRoute is the route of what a person handed over.
const ByHandRoute = "by-hand"

// Line gives the receipt in one line of text.
func (r *Receipt) Line() string {
	what := "arrived"
	if r.ByHand != "" {
		return fmt.Sprintf("%s case %s: %s was handed over by hand (%s), ticket %s, %d bytes, SHA-256 %s, %s",
			r.Finished.Format(time.RFC3339),
			r.Case, r.Name, r.ByHand, cmp.Or(r.Ticket, "none"), r.Size, r.SHA256, r.Proof)
	}
	switch {
	case r.Handed:
		what = "ready to hand over"
	case !r.Proved:
		what = "taken without proof"
	case r.Already:
		what = "was there already"
	}
	line := fmt.Sprintf("%s case %s: %s %s over %s at %s (%s), %d bytes, SHA-256 %s, %s", r.Finished.Format(time.RFC3339), r.Case, r.Name,
		what, r.Route, r.Path, r.Server, r.Size, r.SHA256, r.Proof)
	if r.Answer != "" {
		line += ", answer: " + r.Answer
	}
	if r.Ticket != "" {
		line += ", ticket: " + r.Ticket
	}
	return line
}

// Parcel is what is sent.
type Parcel struct {
	File   string // on our side
	Name   string // under which it arrives
	Size   int64
	SHA256 string
	Part   int // of so many Parts; 0 is the whole
	Parts  int
}

// Changes is told of every file of ours on the other side before it is made, and how it ended. of is the SHA-256 of what the
// file is a part of.
type Changes interface {
	Begin(path, of string) (id string, err error)
	Done(id, how string) error
}

// Terms are what the ask says about a route beside its address.
type Terms struct {
	Fields  map[string]string // of forms and pages, with {placeholders}
	File    string            // name of the form's field for the file
	Subject string            // of mails
	Limit   int64             // bytes of the largest file that the vendor takes; 0 is not known
}

// Means is what routes need from the outside.
type Means struct {
	Dialer      *reach.Dialer
	Credentials Credentials
	Changes     Changes
	Left        map[string]string        // what an earlier submit of the same parcel left on the system: path to id
	Progress    func(done int64)         // so many bytes are there; may be nil
	Note        func(text string)        // something a person should know; may be nil
	ReadBack    bool                     // prove the checksum by reading all of it back, where there is no other way
	Terms       Terms                    // of the route that is opened
	Text        func(name string) string // what stands for a placeholder; may be nil
	Secret      func(site.Secret) (string, error)
	Proxy       func(*http.Request) (*url.URL, error)         // the web proxy; nil is none
	Rate        *rate.Limiter                                 // bytes a second; nil is no limit
	All         []Parcel                                      // everything that goes over the route, when it is more than one file
	Out         string                                        // folder for what is made for a person to send
	Pause       func(ctx context.Context, failures int) error // between tries; nil waits longer each time
	Stall       time.Duration                                 // how long nothing may move on a connection; 0 is DefaultStall
	piece       int64                                         // of an upload by tus; smaller after each break
}

// Route is one opened way to a vendor: a Store or a Courier.
type Route interface {
	// Server says who it is that takes the file.
	Server() string
	// Cover says what keeps others from reading along; "" is nothing.
	Cover() string
	Close() error
}

// Store is a route to a place that keeps files under names. All its paths are whole paths on the other side.
type Store interface {
	Route
	// Place gives the path under which a name arrives, and the one it has while it is not whole.
	Place(name string) (final, part string)
	// Size gives the size of a file there; the error is fs.ErrNotExist when there is none.
	Size(path string) (int64, error)
	// Put writes a file there from an offset on, whole and flushed. At offset 0 it is made anew. A store that cannot go on
	// with a file is never given another offset.
	Put(ctx context.Context, path string, content io.Reader, at int64) error
	// Resumes says whether a file can be gone on with, and how far before its end that is safe, in bytes.
	Resumes() (back int64, ok bool)
	// Sum gives the SHA-256 of a file there, in hex, and how it was found out; "" when there is no way to know.
	Sum(ctx context.Context, path string, size int64) (sum, how string, err error)
	// Rename gives a file its final name.
	Rename(from, to string) error
	// Remove removes a file of ours.
	Remove(path string) error
}

// Roomy is a store that can tell how many bytes it takes; -1 is unknown.
type Roomy interface{ Room() int64 }

// Courier is a route that takes a parcel in one piece, or by rules of its own.
type Courier interface {
	Route
	// Deliver hands the parcel over, and tells how many bytes are there. It fills path, proof and answer of the receipt.
	Deliver(ctx context.Context, p Parcel, told func(done int64), rec *Receipt) error
}

// ErrStays is what a Remover gives when the other side does not let us remove what is ours.
var ErrStays = errors.New("the server does not let us remove it")

// Remover is a route that can remove what an earlier submit left there.
type Remover interface{ Remove(path string) error }

// kind opens routes of one kind.
type kind struct {
	Scheme string // of the URL in the ask; "" is a plain path
	Doc    string
	Open   func(ctx context.Context, name string, u *url.URL, m *Means) (Route, error)
}

// kinds is the table of routes. An init keeps the compiler from seeing a circle.
var kinds []kind

func init() {
	kinds = []kind{
		{"", "a folder: a mounted share, a stick", openFolder},
		{"file", "a folder", openFolder},
		{"sftp", "an SFTP server", openSFTP},
		{"ftps", "an FTP server, encrypted (explicit TLS)", openFTP},
		{"ftp", "an FTP server, not encrypted", openFTP},
		{"https", "a web server or a pre-signed address, by PUT", openPut},
		{"http", "the same, on loopback addresses", openPut},
		{"dav+https", "a WebDAV folder", openDAV},
		{"dav+http", "the same, on loopback addresses", openDAV},
		{"form+https", "a web form with a file", openForm},
		{"form+http", "the same, on loopback addresses", openForm},
		{"tus+https", "a resumable upload (tus 1.0)", openTus},
		{"tus+http", "the same, on loopback addresses", openTus},
		{"mailto", "a mail by your own mail server", openMail},
		{"mail-draft", "a mail for your own mail program to send", openDraft},
		{"desk-page", "the fields of a vendor's page, for you to paste", openPage},
	}
}

// Schemes lists the keys of the table.
func Schemes() []string {
	var out []string
	for _, k := range kinds {
		out = append(out, k.Scheme)
	}
	return out
}

// Check says what is wrong with the address of a route, before anything is opened.
func Check(name, to string) error {
	u, err := parse(to)
	if err != nil {
		return &fault.Error{Class: fault.Usage, Op: "route", Target: name, Err: err}
	}
	return known(name, u)
}

func known(name string, u *url.URL) error {
	if slices.Contains(Schemes(), u.Scheme) {
		return nil
	}
	all := slices.DeleteFunc(Schemes(), func(s string) bool { return s == "" })
	return fault.New(fault.Usage, "route", name, fmt.Sprintf("%q is no known way to send; known are a folder and %s", u.Scheme,
		strings.Join(all, ", ")), "")
}

// Open opens the route to an address: a folder, or a URL.
func Open(ctx context.Context, name, to string, m *Means) (Route, error) {
	u, err := parse(to)
	if err != nil {
		return nil, &fault.Error{Class: fault.Usage, Op: "route", Target: name, Err: err}
	}
	for _, k := range kinds {
		if k.Scheme == u.Scheme {
			return k.Open(ctx, name, u, m)
		}
	}
	return nil, known(name, u)
}

// Naked says whether anybody on the way could read what goes to an address.
func Naked(to string) bool {
	return strings.HasPrefix(to, "ftp:") || strings.HasPrefix(to, "http:") || strings.Contains(to, "+http:")
}

var placeholder = late.Pattern(`\{[^{}]*\}`)

func parse(to string) (*url.URL, error) {
	if filepath.IsAbs(to) || !strings.Contains(to, ":") {
		return &url.URL{Path: to}, nil
	}
	u, err := url.Parse(to)
	if err != nil || u.Scheme == "" {
		return nil, errors.New("its address is not a usable URL")
	}
	if _, has := u.User.Password(); has {
		return nil, errors.New("a password does not stand in a route; put it into credentials.yaml")
	}
	return u, nil
}

// sshSystem gives the address of an SSH server in the form in which systems are reached.
func sshSystem(name string, u *url.URL, c Credential) (*site.System, error) {
	host := u.Host
	if user := u.User.Username(); user != "" {
		host = user + "@" + host
	}
	user, h, port, ok := site.SplitAddress(host)
	if !ok {
		return nil, fault.New(fault.Usage, "route", name, fmt.Sprintf("%q names no server", u.Host), "")
	}
	return &site.System{Name: name, Ways: []string{"ssh"}, Stall: site.DefaultStall,
		SSH: site.SSH{User: user, Host: h, Port: port, Key: c.Key, Password: c.Password}}, nil
}
