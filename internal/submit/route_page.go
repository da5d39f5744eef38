package submit

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"envask/internal/durable"
	"envask/internal/fault"
)

// page is a vendor's page that only a person can fill in: the fields are written into a text file, ready to paste.
type page struct {
	name  string
	to    string
	means *Means
}

var _ Courier = page{}

func openPage(_ context.Context, name string, u *url.URL, m *Means) (Route, error) {
	if !strings.HasPrefix(u.Opaque, "https://") {
		return nil, fault.New(fault.Usage, "route", name, "it names no page", "write desk-page:https://desk.vendor.example/new")
	}
	return page{name, u.Opaque, m}, nil
}

func (g page) Deliver(_ context.Context, p Parcel, told func(int64), rec *Receipt) error {
	rec.Handed = true
	rec.Proof = "fill in the page and attach the file; the receipt proves only that this was prepared"
	if len(g.means.All) > 0 && g.means.All[0].Name != p.Name { // the page of the first one names all
		rec.Path = p.File
		return nil
	}
	rec.Path = filepath.Join(g.means.Out, p.Name+"."+g.name+".txt")
	if err := durable.WriteFile(rec.Path, []byte(g.text(p)), 0o600); err != nil {
		return err
	}
	told(p.Size)
	rec.Answer = g.text(p)
	return nil
}

// text gives every field under its name, and the file to attach.
func (g page) text(p Parcel) string {
	var s strings.Builder
	fmt.Fprintf(&s, "Page: %s\n", g.to)
	for _, k := range slices.Sorted(maps.Keys(g.means.Terms.Fields)) {
		fmt.Fprintf(&s, "\n--- %s ---\n%s\n", k, cmp.Or(strings.TrimSpace(g.means.fill(g.means.Terms.Fields[k])), "(not answered)"))
	}
	all := g.means.All
	if len(all) == 0 {
		all = []Parcel{p}
	}
	for _, p := range all {
		fmt.Fprintf(&s, "\n--- file to attach ---\n%s\n%d bytes\nSHA-256 %s\n", p.File, p.Size, p.SHA256)
	}
	return s.String()
}

func (g page) Server() string { return "a person, at " + g.to }
func (g page) Cover() string  { return "" }
func (g page) Close() error   { return nil }
