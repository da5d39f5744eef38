// Package submit hands an archive to a vendor and keeps the proof that it arrived.
package submit

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"envask/internal/fault"
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
	Size     int64     `json:"size"`   // bytes
	SHA256   string    `json:"sha256"` // of the archive
	Server   string    `json:"server"` // who took it: host, version and host key, or the folder's file system
	Proof    string    `json:"proof"`  // how it is known that it arrived whole
	Proved   bool      `json:"proved"` // the checksum of what is there was compared, not only the size
	Already  bool      `json:"already,omitempty"`
	Started  time.Time `json:"started"`
	Finished time.Time `json:"finished"`
	By       string    `json:"by"`
}

// Parcel is what is sent.
type Parcel struct {
	File   string // on our side
	Name   string // under which it arrives
	Size   int64
	SHA256 string
}

// Changes is told of every file of ours on the other side before it is made, and how it ended.
type Changes interface {
	Begin(path string) (id string, err error)
	Done(id, how string) error
}

// Means is what routes need from the outside.
type Means struct {
	Dialer      *reach.Dialer
	Credentials Credentials
	Changes     Changes
	Progress    func(bytes int64) // more bytes have gone; may be nil
	ReadBack    bool              // prove the checksum by reading all of it back, where there is no other way
}

// Route is one opened way to a vendor. All its paths are whole paths on the other side.
type Route interface {
	// Place gives the path under which a name arrives, and the one it has while it is not whole.
	Place(name string) (final, part string)
	// Size gives the size of a file there; the error is fs.ErrNotExist when there is none.
	Size(path string) (int64, error)
	// Put writes a file there, whole and flushed.
	Put(ctx context.Context, path string, content io.Reader) error
	// Sum gives the SHA-256 of a file there, in hex, and how it was found out; "" when there is no way to know.
	Sum(ctx context.Context, path string, size int64) (sum, how string, err error)
	// Rename gives a file its final name.
	Rename(from, to string) error
	// Remove removes a file of ours.
	Remove(path string) error
	// Server says who it is that takes the file.
	Server() string
	Close() error
}

// kind opens routes of one kind.
type kind struct {
	Scheme string // of the URL in the ask; "" is a plain path
	Open   func(ctx context.Context, name string, u *url.URL, m *Means) (Route, error)
}

// kinds is the table of routes.
var kinds = []kind{
	{"", openFolder},
	{"file", openFolder},
	{"sftp", openSFTP},
}

// Schemes lists the keys of the table.
func Schemes() []string {
	var out []string
	for _, k := range kinds {
		out = append(out, k.Scheme)
	}
	return out
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
	return nil, fault.New(fault.Usage, "route", name, fmt.Sprintf("%q is no known way to send; known are a folder and sftp://user@host/folder", u.Scheme), "")
}

func parse(to string) (*url.URL, error) {
	if filepath.IsAbs(to) || !strings.Contains(to, "://") {
		return &url.URL{Path: to}, nil
	}
	u, err := url.Parse(to)
	if err != nil {
		return nil, errors.New("its address is not a usable URL")
	}
	if _, has := u.User.Password(); has {
		return nil, errors.New("a password does not stand in a route; put it into credentials.yaml")
	}
	return u, nil
}

// Send sends a parcel over an opened route: under a name that shows it is not whole, compared, then renamed.
func Send(ctx context.Context, r Route, p Parcel, m *Means) (Receipt, error) {
	rec := Receipt{Name: p.Name, Size: p.Size, SHA256: p.SHA256, Server: r.Server(), Started: time.Now().UTC().Truncate(time.Second)}
	final, part := r.Place(p.Name)
	rec.Path = final
	if size, err := r.Size(final); err == nil {
		return alreadyThere(ctx, r, rec, size)
	} else if !errors.Is(err, os.ErrNotExist) {
		return rec, err
	}
	id, err := m.Changes.Begin(part)
	if err != nil {
		return rec, err
	}
	err = transfer(ctx, r, p, part, m)
	if err == nil {
		rec.Proof, rec.Proved, err = prove(ctx, r, part, p)
	}
	if err == nil {
		err = r.Rename(part, final)
	}
	if err != nil {
		return rec, errors.Join(err, takeBack(r, part, id, m))
	}
	if err := m.Changes.Done(id, "became "+final); err != nil {
		return rec, err
	}
	if size, err := r.Size(final); err != nil || size != p.Size {
		return rec, fmt.Errorf("the file is not there under its final name (%d bytes expected, found %d, %v)", p.Size, size, err)
	}
	rec.Finished = time.Now().UTC().Truncate(time.Second)
	return rec, nil
}

func takeBack(r Route, part, id string, m *Means) error {
	err := r.Remove(part)
	if err == nil || errors.Is(err, os.ErrNotExist) {
		return m.Changes.Done(id, "removed")
	}
	return fmt.Errorf("%s is left there and could not be removed; the next submit tries again (%w)", part, err)
}

func transfer(ctx context.Context, r Route, p Parcel, part string, m *Means) error {
	f, err := os.Open(p.File)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := r.Put(ctx, part, &meter{ctx: ctx, r: f, size: p.Size, told: m.Progress}); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return err
	}
	return nil
}

// meter counts what goes, and stops when the context ends.
type meter struct {
	ctx  context.Context
	r    io.Reader
	size int64
	told func(int64)
}

func (m *meter) Read(b []byte) (int, error) {
	if err := m.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := m.r.Read(b)
	if m.told != nil && n > 0 {
		m.told(int64(n))
	}
	return n, err
}

// Size lets the SFTP client send many packets at a time.
func (m *meter) Size() int64 { return m.size }

// prove compares what is there with what was sent, as far as the other side allows.
func prove(ctx context.Context, r Route, path string, p Parcel) (proof string, proved bool, err error) {
	size, err := r.Size(path)
	if err != nil {
		return "", false, err
	}
	if size != p.Size {
		return "", false, fmt.Errorf("only %d of %d bytes arrived", size, p.Size)
	}
	sum, how, err := r.Sum(ctx, path, size)
	switch {
	case err != nil:
		return "", false, err
	case sum == "":
		return "the size agrees; " + how, false, nil
	case sum != p.SHA256:
		return "", false, fmt.Errorf("what arrived is not what was sent: its SHA-256 is %s (%s)", sum, how)
	}
	return "size and SHA-256 agree (" + how + ")", true, nil
}

func alreadyThere(ctx context.Context, r Route, rec Receipt, size int64) (Receipt, error) {
	other := fault.New(fault.Refused, "", rec.Path, "another file of this name is there already, and is not overwritten", "rename or remove it there, or pack again under another name")
	if size != rec.Size {
		return rec, other
	}
	sum, how, err := r.Sum(ctx, rec.Path, size)
	if err != nil {
		return rec, err
	}
	if sum != "" && sum != rec.SHA256 {
		return rec, other
	}
	rec.Already, rec.Proved = true, sum != ""
	rec.Proof = "it was there already, of the same size; " + how
	if rec.Proved {
		rec.Proof = "it was there already; size and SHA-256 agree (" + how + ")"
	}
	rec.Finished = time.Now().UTC().Truncate(time.Second)
	return rec, nil
}

// sumOf reads a stream to its end.
func sumOf(ctx context.Context, r io.Reader) (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, &meter{ctx: ctx, r: r}); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
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
