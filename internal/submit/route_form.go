package submit

import (
	"bytes"
	"cmp"
	"context"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"slices"
	"strings"
)

// form sends the archive as the file of a web form (multipart/form-data, RFC 7578), with the vendor's fields.
type form struct {
	*web
	u *url.URL
}

var _ Courier = (*form)(nil)

func openForm(_ context.Context, name string, u *url.URL, m *Means) (Route, error) {
	plain := *u
	plain.Scheme = strings.TrimPrefix(u.Scheme, "form+")
	w, err := newWeb(name, &plain, m)
	if err != nil {
		return nil, err
	}
	return &form{w, &plain}, nil
}

func (f *form) Server() string { return f.server(f.u) }
func (f *form) Cover() string  { return f.covered() }
func (f *form) Close() error   { f.client.CloseIdleConnections(); return nil }

// defaultFileField is the field of the file when the ask names none.
const defaultFileField = "file"

func (f *form) Deliver(ctx context.Context, p Parcel, told func(int64), rec *Receipt) error {
	rec.Path = f.u.String()
	in, err := os.Open(p.File)
	if err != nil {
		return err
	}
	defer in.Close()
	// The form around the file is made first, so that the length of all is known: few servers take a body without.
	var head bytes.Buffer
	mw := multipart.NewWriter(&head)
	t := f.means.Terms
	for _, k := range slices.Sorted(maps.Keys(t.Fields)) {
		if err := mw.WriteField(k, f.means.fill(t.Fields[k])); err != nil {
			return err
		}
	}
	part := textproto.MIMEHeader{"Content-Disposition": {multipart.FileContentDisposition(cmp.Or(t.File, defaultFileField), p.Name)},
		"Content-Type": {"application/octet-stream"}}
	if _, err := mw.CreatePart(part); err != nil {
		return err
	}
	n := head.Len()
	if err := mw.Close(); err != nil {
		return err
	}
	around := head.Bytes()
	file := &meter{ctx: ctx, r: in, size: p.Size, told: told, rate: f.means.Rate}
	body := io.MultiReader(bytes.NewReader(around[:n]), file, bytes.NewReader(around[n:]))
	res, err := f.do(ctx, http.MethodPost, f.u, body, p.Size+int64(len(around)), http.Header{"Content-Type": {mw.FormDataContentType()}})
	if err != nil {
		return err
	}
	rec.Server, rec.Cover = f.Server(), f.Cover()
	digest := digestOf(res.Header)
	said, err := f.answered(res, http.StatusOK, http.StatusCreated, http.StatusAccepted, http.StatusNoContent)
	if err != nil {
		return err
	}
	if rec.Answer = said; strings.HasPrefix(said, "<") {
		rec.Answer = "a page"
	}
	if digest == "" && strings.Contains(said, p.SHA256) {
		digest = p.SHA256
	}
	if digest != "" {
		return agree(rec, digest, p.SHA256, "as the server answered")
	}
	rec.Proof = "the server took all of it (HTTP " + res.Status + "); a form cannot be asked for what it took"
	return nil
}
