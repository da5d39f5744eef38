package submit

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"

	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/webtrust"
)

// put sends with HTTP PUT: to a plain server or a pre-signed address, where the file has its final name from the beginning.
type put struct {
	*web
	u *url.URL // of the file; a folder when it ends with a slash
}

var (
	_ Courier = (*put)(nil)
	_ Remover = (*put)(nil)
)

func openPut(_ context.Context, name string, u *url.URL, m *Means) (Route, error) {
	w, err := newWeb(name, u, m)
	if err != nil {
		return nil, err
	}
	p := &put{w, u}
	address, err := w.secret(w.cred.Address)
	if err != nil {
		return nil, err
	}
	if address != "" { // it is bound to the host of the route like any credential
		signed, err := url.Parse(address)
		if err != nil || !webtrust.SameOrigin(signed, u) {
			return nil, fault.New(fault.Refused, "route", name, "the address in credentials.yaml leads to another host than the route", "")
		}
		p.u = signed
	}
	return p, nil
}

func (p *put) Server() string { return p.server(p.u) }
func (p *put) Cover() string  { return p.covered() }
func (p *put) Close() error   { p.client.CloseIdleConnections(); return nil }

// file gives the address of the file, and a name for it without what may be secret.
func (p *put) file(name string) (u *url.URL, shown string) {
	u = p.u
	if strings.HasSuffix(u.Path, "/") || u.Path == "" {
		u = u.JoinPath(name) // #nosec G125 -- a parcel has a plain name, see Parcel.sendable
	}
	bare := *u
	bare.RawQuery, bare.User = "", nil
	return u, bare.String()
}

func (p *put) Deliver(ctx context.Context, parcel Parcel, told func(int64), rec *Receipt) error {
	u, shown := p.file(parcel.Name)
	rec.Path = shown
	signed := u.RawQuery != ""
	id, ours := p.means.Left[shown]
	if !signed && !ours { // a signature is for one method only
		if there, err := p.look(ctx, u, parcel, rec); err != nil || there {
			return err
		}
	}
	if !ours {
		var err error
		if id, err = p.means.Changes.Begin(shown, parcel.SHA256); err != nil {
			return err
		}
		if p.means.Left == nil {
			p.means.Left = map[string]string{}
		}
		p.means.Left[shown] = id
	}
	err := p.send(ctx, u, parcel, told, rec, signed)
	if err == nil {
		delete(p.means.Left, shown)
		return p.means.Changes.Done(id, "arrived")
	}
	return err
}

func (p *put) send(ctx context.Context, u *url.URL, parcel Parcel, told func(int64), rec *Receipt, signed bool) error {
	f, err := os.Open(parcel.File)
	if err != nil {
		return err
	}
	defer f.Close()
	raw, _ := hex.DecodeString(parcel.SHA256)
	header := http.Header{"Content-Type": {"application/octet-stream"}}
	if !signed { // a header that was not signed would break the signature
		header.Set("Repr-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(raw)+":")
	}
	res, err := p.do(ctx, http.MethodPut, u, &meter{ctx: ctx, r: f, size: parcel.Size, told: told, rate: p.means.Rate}, parcel.Size, header)
	if err != nil {
		return err
	}
	rec.Server, rec.Cover = p.Server(), p.Cover()
	digest, tag := digestOf(res.Header), res.Header.Get("ETag")
	if rec.Answer, err = p.answered(res, http.StatusOK, http.StatusCreated, http.StatusNoContent, http.StatusAccepted); err != nil {
		return err
	}
	if strings.Contains(rec.Answer, "<") {
		rec.Answer = ""
	}
	if rec.Answer == "" && tag != "" {
		rec.Answer = "ETag " + brief(tag)
	}
	if digest != "" {
		return agree(rec, digest, parcel.SHA256, "as the server answered (RFC 9530)")
	}
	if signed {
		rec.Proof = "the server took all of it (HTTP " + fmt.Sprint(res.StatusCode) + "); a pre-signed address cannot be asked for it"
		return nil
	}
	rec.Proof, rec.Proved, err = p.prove(ctx, u, parcel)
	return err
}

// Remove removes what an interrupted PUT left.
func (p *put) Remove(place string) error {
	u, shown := p.file(path.Base(place))
	if shown != place || u.RawQuery != "" {
		return ErrStays
	}
	res, err := p.do(context.Background(), http.MethodDelete, u, nil, 0, nil)
	if err != nil {
		return err
	}
	res.Body.Close()
	switch res.StatusCode {
	case http.StatusOK, http.StatusNoContent:
		return nil
	case http.StatusNotFound:
		return fs.ErrNotExist
	}
	return ErrStays
}

// agree compares the server's digest with ours.
func agree(rec *Receipt, got, want, how string) error {
	if got != want {
		return fmt.Errorf("what arrived is not what was sent: its SHA-256 is %s (%s)", got, how)
	}
	rec.Proof, rec.Proved = "SHA-256 agrees ("+how+")", true
	return nil
}

// digestOf reads the SHA-256 that a server tells of a file: Repr-Digest (RFC 9530), or the older Digest (RFC 3230).
func digestOf(h http.Header) string {
	for _, key := range []string{"Repr-Digest", "Content-Digest", "Digest"} {
		for _, part := range strings.Split(strings.Join(h.Values(key), ","), ",") {
			kind, value, ok := strings.Cut(strings.TrimSpace(part), "=")
			if !ok || !strings.EqualFold(kind, "sha-256") {
				continue
			}
			if raw, err := base64.StdEncoding.DecodeString(strings.Trim(value, ":")); err == nil && len(raw) == 32 {
				return hex.EncodeToString(raw)
			}
		}
	}
	return ""
}

// look finds out whether the file is there already.
func (p *put) look(ctx context.Context, u *url.URL, parcel Parcel, rec *Receipt) (there bool, err error) {
	res, err := p.do(ctx, http.MethodHead, u, nil, 0, http.Header{"Want-Repr-Digest": {"sha-256=10"}})
	if err != nil {
		return false, err
	}
	res.Body.Close()
	rec.Server, rec.Cover = p.Server(), p.Cover()
	if res.StatusCode != http.StatusOK || res.ContentLength < 0 {
		return false, nil
	}
	other := fault.New(fault.Refused, "", rec.Path, "another file of this name is there already, and is not overwritten",
		"ask the vendor to remove it, or pack again under another name")
	if res.ContentLength != parcel.Size {
		return false, other
	}
	proof, proved, err := p.prove(ctx, u, parcel)
	switch {
	case err != nil && isPassing(err): // nothing is known of it
		return false, err
	case err != nil:
		return false, other
	}
	rec.Already, rec.Proved, rec.Proof = true, proved, "it was there already; "+proof
	return true, nil
}

// prove asks the server for size and digest of the file, or reads it back.
func (p *put) prove(ctx context.Context, u *url.URL, parcel Parcel) (proof string, proved bool, err error) {
	res, err := p.do(ctx, http.MethodHead, u, nil, 0, http.Header{"Want-Repr-Digest": {"sha-256=10"}})
	if err != nil {
		return "", false, err
	}
	res.Body.Close()
	if res.StatusCode != http.StatusOK || res.ContentLength < 0 {
		return fmt.Sprintf("the server took all of it and tells nothing about it (HEAD: %d)", res.StatusCode), false, nil
	}
	if res.ContentLength != parcel.Size {
		return "", false, fmt.Errorf("only %d of %d bytes arrived", res.ContentLength, parcel.Size)
	}
	sum, how := digestOf(res.Header), "as the server answered (RFC 9530)"
	if sum == "" {
		if parcel.Size > ReadBackLimit && !p.means.ReadBack {
			return "the size agrees; the server tells no digest, and the file is too large to be read back unasked (--read-back does it)",
				false, nil
		}
		if sum, err = p.readBack(ctx, u); err != nil {
			return "", false, err
		}
		if how = "read back from the server"; sum == "" {
			return "the size agrees; the server neither tells a digest nor lets us read the file back", false, nil
		}
	}
	if sum != parcel.SHA256 {
		return "", false, fmt.Errorf("what arrived is not what was sent: its SHA-256 is %s (%s)", sum, how)
	}
	return "size and SHA-256 agree (" + how + ")", true, nil
}

func (w *web) readBack(ctx context.Context, u *url.URL) (string, error) {
	res, err := w.do(ctx, http.MethodGet, u, nil, 0, http.Header{"Accept-Encoding": {"identity"}})
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return "", nil
	}
	sum, err := durable.Sum(ctx, res.Body)
	if err != nil {
		return "", passing{err}
	}
	return sum, nil
}

// dav is a WebDAV server (RFC 4918): the file is put under a name that shows it is not whole, and moved.
type dav struct {
	*web
	u *url.URL // of the folder
}

var _ Store = (*dav)(nil)

func openDAV(ctx context.Context, name string, u *url.URL, m *Means) (Route, error) {
	plain := *u
	plain.Scheme = strings.TrimPrefix(u.Scheme, "dav+")
	w, err := newWeb(name, &plain, m)
	if err != nil {
		return nil, err
	}
	d := &dav{w, &plain}
	// Folders are made one below the other; those that are there answer 405.
	made := *d.u
	made.Path = "/"
	for _, part := range strings.Split(strings.Trim(d.u.Path, "/"), "/") {
		if part == "" {
			continue
		}
		made.Path = path.Join(made.Path, part) + "/"
		res, err := w.do(ctx, "MKCOL", &made, nil, 0, nil)
		if err != nil {
			return nil, err
		}
		if _, err := w.answered(res, http.StatusCreated, http.StatusMethodNotAllowed, http.StatusConflict, http.StatusForbidden,
			http.StatusOK); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func (d *dav) Place(name string) (final, part string) {
	return path.Join("/", d.u.Path, name), path.Join("/", d.u.Path, name+".part")
}

func (d *dav) at(p string) *url.URL {
	u := *d.u
	u.Path = p
	return &u
}

func (d *dav) Size(p string) (int64, error) {
	res, err := d.do(context.Background(), http.MethodHead, d.at(p), nil, 0, nil)
	if err != nil {
		return 0, err
	}
	if res.StatusCode == http.StatusNotFound {
		res.Body.Close()
		return 0, fs.ErrNotExist
	}
	if _, err := d.answered(res, http.StatusOK); err != nil {
		return 0, err
	}
	return res.ContentLength, nil
}

func (d *dav) Put(ctx context.Context, p string, content io.Reader, _ int64) error {
	m, ok := content.(*meter)
	size := int64(-1)
	if ok {
		size = m.size
	}
	res, err := d.do(ctx, http.MethodPut, d.at(p), content, size, http.Header{"Content-Type": {"application/octet-stream"}})
	if err != nil {
		return err
	}
	_, err = d.answered(res, http.StatusOK, http.StatusCreated, http.StatusNoContent)
	return err
}

func (d *dav) Resumes() (int64, bool) { return 0, false }

func (d *dav) Sum(ctx context.Context, p string, size int64) (string, string, error) {
	res, err := d.do(ctx, http.MethodHead, d.at(p), nil, 0, http.Header{"Want-Repr-Digest": {"sha-256=10"}})
	if err != nil {
		return "", "", err
	}
	res.Body.Close()
	if sum := digestOf(res.Header); sum != "" {
		return sum, "as the server answered (RFC 9530)", nil
	}
	if size > ReadBackLimit && !d.means.ReadBack {
		return "", "the server tells no digest, and the file is too large to be read back unasked (--read-back does it)", nil
	}
	sum, err := d.readBack(ctx, d.at(p))
	if sum == "" {
		return "", "the server neither tells a digest nor lets us read the file back", err
	}
	return sum, "read back from the server", err
}

func (d *dav) Rename(from, to string) error {
	res, err := d.do(context.Background(), "MOVE", d.at(from), nil, 0, http.Header{"Destination": {d.at(to).String()}, "Overwrite": {"F"}})
	if err != nil {
		return err
	}
	_, err = d.answered(res, http.StatusCreated, http.StatusNoContent)
	return err
}

func (d *dav) Remove(p string) error {
	res, err := d.do(context.Background(), http.MethodDelete, d.at(p), nil, 0, nil)
	if err != nil {
		return err
	}
	if res.StatusCode == http.StatusNotFound {
		res.Body.Close()
		return fs.ErrNotExist
	}
	_, err = d.answered(res, http.StatusOK, http.StatusNoContent)
	return err
}

func (d *dav) Server() string { return d.server(d.u) }
func (d *dav) Cover() string  { return d.covered() }
func (d *dav) Close() error   { d.client.CloseIdleConnections(); return nil }
