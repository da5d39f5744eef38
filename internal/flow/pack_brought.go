package flow

import (
	"net/url"
	"os"
	"strings"

	"envask/internal/archive"
	"envask/internal/bring"
	"envask/internal/fault"
	"envask/internal/redact"
	"envask/internal/round"
)

// brought tells how a piece came that a person brought, and which requests of a recording failed. All of it goes through redaction.
func (t *telling) brought(x *piece) *archive.Brought {
	b, e := x.Entry.Brought, t.e
	out := &archive.Brought{By: e.String(b.By), At: b.At, Type: b.Type, About: e.String(b.About),
		Note: e.String(b.Note), Boxes: len(b.Boxes)}
	if b.Type != "har" || x.Opaque || x.AsIs {
		return out
	}
	in, err := os.Open(x.raw())
	if err != nil {
		return out
	}
	defer in.Close()
	rec, err := bring.ReadHAR(in)
	if err != nil { // it is in the archive all the same
		return out
	}
	out.More = rec.More
	for _, f := range rec.Failed {
		out.Requests = append(out.Requests, archive.Request{Method: e.String(f.Method), Path: e.String(f.Path()), Status: f.Status,
			Took: f.Took.Seconds(), At: f.At, Why: e.String(f.Why)})
	}
	return out
}

// elsewhere tells what lies elsewhere.
func (t *telling) elsewhere() (out []archive.Elsewhere) {
	for _, x := range t.links {
		out = append(out, archive.Elsewhere{System: x.System, Item: x.Item, Address: t.e.String(x.Brought.Link),
			Size: x.Size, SHA256: x.SHA256,
			Note: t.e.String(x.Brought.Note), By: t.e.String(x.Brought.By), At: x.Brought.At})
	}
	return out
}

// keepLinks lets the hosts of addresses stay readable that somebody gave for the vendor to fetch from. A secret in an address is none
// the less taken out.
func (r *ruleset) keepLinks(rounds []*round.Round) error {
	for _, x := range rounds {
		list, err := x.Brought()
		if err != nil {
			return fault.Wrap("read the round", x.ID, err)
		}
		for i := range list {
			if u, err := url.Parse(list[i].Brought.Link); err == nil && u.Hostname() != "" {
				r.keep[strings.ToLower(u.Hostname())] = redact.Host
				r.keep[u.Hostname()] = redact.Host
			}
		}
	}
	return nil
}
