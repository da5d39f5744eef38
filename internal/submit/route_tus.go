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
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/webtrust"
)

// tus sends by the open protocol for uploads that can be gone on with, tus 1.0 (https://tus.io/protocols/resumable-upload):
// with its extensions for making, checking and ending an upload.
type tus struct {
	*web
	u *url.URL
}

var (
	_ Courier = (*tus)(nil)
	_ Remover = (*tus)(nil)
)

const tusVersion = "1.0.0"

func openTus(_ context.Context, name string, u *url.URL, m *Means) (Route, error) {
	plain := *u
	plain.Scheme = strings.TrimPrefix(u.Scheme, "tus+")
	w, err := newWeb(name, &plain, m)
	if err != nil {
		return nil, err
	}
	return &tus{w, &plain}, nil
}

func (t *tus) Server() string { return t.server(t.u) }
func (t *tus) Cover() string  { return t.covered() }
func (t *tus) Close() error   { t.client.CloseIdleConnections(); return nil }

func (t *tus) header() http.Header { return http.Header{"Tus-Resumable": {tusVersion}} }

func (t *tus) Deliver(ctx context.Context, p Parcel, told func(int64), rec *Receipt) error {
	sums, err := t.able(ctx, p)
	if err != nil {
		return err
	}
	rec.Server, rec.Cover = t.Server(), t.Cover()
	where, id, at, err := t.begin(ctx, p)
	if err != nil {
		return err
	}
	rec.Path, rec.Resumed = where.String(), at
	defer func() { rec.Server, rec.Cover = t.Server(), t.Cover() }()
	for at < p.Size || p.Size == 0 && at == 0 {
		if at, err = t.piece(ctx, where, p, at, told, sums); err != nil {
			t.means.piece = max(t.pieceSize()/4, leastPiece)
			return err
		}
		if p.Size == 0 {
			break
		}
	}
	got, err := t.offset(ctx, where)
	if err != nil {
		return err
	}
	if got != p.Size {
		return fmt.Errorf("only %d of %d bytes arrived", got, p.Size)
	}
	rec.Proof = "the server has all bytes"
	if sums {
		rec.Proof, rec.Proved = "the server has all bytes, and compared the SHA-256 of every piece", true
	}
	delete(t.means.Left, where.String())
	return t.means.Changes.Done(id, "is complete")
}

// able asks what the server can do: the largest upload, and whether it compares checksums.
func (t *tus) able(ctx context.Context, p Parcel) (sums bool, err error) {
	res, err := t.do(ctx, http.MethodOptions, t.u, nil, 0, nil)
	if err != nil {
		return false, err
	}
	if _, err := t.answered(res, http.StatusOK, http.StatusNoContent); err != nil {
		return false, err
	}
	if v := res.Header.Get("Tus-Version"); v != "" && !slices.Contains(strings.Split(v, ","), tusVersion) {
		return false, fault.New(fault.Failed, "route", t.name, "the server speaks tus "+brief(v)+", not "+tusVersion, "")
	}
	if most, err := strconv.ParseInt(res.Header.Get("Tus-Max-Size"), 10, 64); err == nil && most > 0 && p.Size > most {
		return false, fault.New(fault.Refused, "route", t.name, fmt.Sprintf("the server takes %s at most, and the archive has %s",
			humanize.IBytes(uint64(most)), humanize.IBytes(uint64(p.Size))), "choose another route or a smaller window")
	}
	return slices.Contains(strings.Split(res.Header.Get("Tus-Checksum-Algorithm"), ","), "sha256"), nil
}

// begin finds the upload that an earlier try made, or makes one.
func (t *tus) begin(ctx context.Context, p Parcel) (where *url.URL, id string, at int64, err error) {
	for place, id := range t.means.Left {
		u, err := url.Parse(place)
		if err != nil || !webtrust.SameOrigin(u, t.u) {
			continue
		}
		if at, err := t.offset(ctx, u); err == nil && at <= p.Size {
			return u, id, at, nil
		} else if err != nil && isPassing(err) {
			return nil, "", 0, err
		}
		delete(t.means.Left, place) // it is gone there
		if err := t.means.Changes.Done(id, "was not there"); err != nil {
			return nil, "", 0, err
		}
	}
	h := t.header()
	h.Set("Upload-Length", fmt.Sprint(p.Size))
	meta := []string{"filename " + base64.StdEncoding.EncodeToString([]byte(p.Name)),
		"sha256 " + base64.StdEncoding.EncodeToString([]byte(p.SHA256))}
	for k, v := range t.means.Terms.Fields {
		meta = append(meta, k+" "+base64.StdEncoding.EncodeToString([]byte(t.means.fill(v))))
	}
	slices.Sort(meta)
	h.Set("Upload-Metadata", strings.Join(meta, ","))
	res, err := t.do(ctx, http.MethodPost, t.u, nil, 0, h)
	if err != nil {
		return nil, "", 0, err
	}
	if _, err := t.answered(res, http.StatusCreated); err != nil {
		return nil, "", 0, err
	}
	if where, err = t.u.Parse(res.Header.Get("Location")); err != nil || res.Header.Get("Location") == "" {
		return nil, "", 0, fault.New(fault.Failed, "route", t.name, "the server made an upload and does not say where", "")
	}
	if !webtrust.SameOrigin(where, t.u) {
		return nil, "", 0, t.elsewhere(where)
	}
	// The address is known only now: a crash before this line leaves an empty upload, which servers drop by themselves.
	if id, err = t.means.Changes.Begin(where.String(), p.SHA256); err == nil && t.means.Left != nil {
		t.means.Left[where.String()] = id
	}
	return where, id, 0, err
}

// How much goes in one request, in bytes. A server that compares checksums may drop a piece of which the end is missing, so
// that pieces become smaller where the connection breaks.
const (
	tusPiece   = 16 << 20
	leastPiece = 256 << 10
)

func (t *tus) pieceSize() int64 {
	if t.means.piece > 0 {
		return t.means.piece
	}
	return tusPiece
}

// piece sends what comes next, and gives the offset behind it.
func (t *tus) piece(ctx context.Context, where *url.URL, p Parcel, at int64, told func(int64), sums bool) (int64, error) {
	f, err := os.Open(p.File)
	if err != nil {
		return at, err
	}
	defer f.Close()
	n := min(t.pieceSize(), p.Size-at)
	h := t.header()
	h.Set("Content-Type", "application/offset+octet-stream")
	h.Set("Upload-Offset", fmt.Sprint(at))
	if sums {
		sum, err := durable.Sum(ctx, io.NewSectionReader(f, at, n))
		if err != nil {
			return at, err
		}
		raw, _ := hex.DecodeString(sum)
		h.Set("Upload-Checksum", "sha256 "+base64.StdEncoding.EncodeToString(raw))
	}
	res, err := t.do(ctx, http.MethodPatch, where, &meter{ctx: ctx, r: io.NewSectionReader(f, at, n), at: at, size: n, told: told,
		rate: t.means.Rate}, n, h)
	if err != nil {
		return at, err
	}
	const mismatch = 460 // of the checksum extension
	if res.StatusCode == mismatch || res.StatusCode == http.StatusConflict {
		res.Body.Close()
		return at, passing{fmt.Errorf("the server does not have what was sent (%d)", res.StatusCode)}
	}
	if _, err := t.answered(res, http.StatusNoContent, http.StatusOK); err != nil {
		return at, err
	}
	next, err := strconv.ParseInt(res.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || next < at || next == at && n > 0 || next > at+n {
		// A server may still be putting away what came before a cut: the next try asks it what it really has.
		return at, passing{fault.New(fault.Failed, "route", t.name, fmt.Sprintf("the server's offset makes no sense (%s after %d)",
			brief(res.Header.Get("Upload-Offset")), at), "")}
	}
	return next, nil
}

func (t *tus) offset(ctx context.Context, where *url.URL) (int64, error) {
	res, err := t.do(ctx, http.MethodHead, where, nil, 0, t.header())
	if err != nil {
		return 0, err
	}
	if _, err := t.answered(res, http.StatusOK, http.StatusNoContent); err != nil {
		return 0, err
	}
	at, err := strconv.ParseInt(res.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || at < 0 {
		return 0, fault.New(fault.Failed, "route", t.name, "the server's offset makes no sense ("+
			brief(res.Header.Get("Upload-Offset"))+")", "")
	}
	return at, nil
}

// Remove ends an upload that is not wanted any more.
func (t *tus) Remove(place string) error {
	u, err := url.Parse(place)
	if err != nil || !webtrust.SameOrigin(u, t.u) {
		return fmt.Errorf("%s is none of this route", place)
	}
	res, err := t.do(context.Background(), http.MethodDelete, u, nil, 0, t.header())
	if err != nil {
		return err
	}
	if res.StatusCode == http.StatusNotFound || res.StatusCode == http.StatusGone {
		res.Body.Close()
		return fs.ErrNotExist
	}
	_, err = t.answered(res, http.StatusNoContent, http.StatusOK)
	return err
}
