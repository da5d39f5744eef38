package flow

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/redact"
)

// looked says of each picture who looked at it. What counts are its bytes: a picture that changed has to be looked at again.
func looked(c *casefile.Case, pictures []ReviewedPicture) ([]ReviewedPicture, error) {
	out := append([]ReviewedPicture{}, pictures...)
	err := c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindLooked {
			return nil
		}
		var rec lookedRecord
		if err := json.Unmarshal(r.Data, &rec); err != nil {
			return err
		}
		for i := range out {
			if out[i].SHA256 == rec.SHA256 {
				out[i].LookedBy, out[i].LookedAt = rec.By, r.At.Format("2006-01-02 15:04:05 -07:00")
			}
		}
		return nil
	})
	return out, err
}

// Looked records that a person looked at pictures of an archive, by their names in it.
func (a *App) Looked(c *casefile.Case, v *Review, names []string) error {
	var found []int
	for _, n := range names {
		at := -1
		for i, p := range v.Pictures {
			if p.File != n && path.Base(p.File) != n {
				continue
			}
			if at >= 0 {
				return fault.New(fault.Usage, "--looked", n, "there are several: "+v.Pictures[at].File+", "+p.File,
					"name one with its folder")
			}
			at = i
		}
		if at < 0 {
			var known []string
			for _, p := range v.Pictures {
				known = append(known, p.File)
			}
			return fault.New(fault.Usage, "--looked", n, "there is no such picture in the archive", "there are: "+
				orElse(strings.Join(known, ", "), "none"))
		}
		found = append(found, at)
	}
	w, err := a.write(c)
	if err != nil {
		return err
	}
	defer w.Close()
	for _, i := range found {
		p := &v.Pictures[i]
		p.LookedBy, p.LookedAt = a.Who, a.Now().Format("2006-01-02 15:04:05 -07:00")
		if err := w.Ledger.Append(kindLooked, lookedRecord{p.File, p.SHA256, a.Who}); err != nil {
			return fault.Wrap("write the ledger", c.Name, err)
		}
	}
	return nil
}

// mustBeLookedAt makes sure that a person has looked at each picture, where the ask or the engineer wants that.
func (a *App) mustBeLookedAt(ctx context.Context, c *casefile.Case, k *ask.Ask, file string, rep *archive.Report) error {
	pol, err := a.policy(c, k, nil)
	if err != nil || !pol.Pictures {
		return err
	}
	var pictures []ReviewedPicture
	again := func() { pictures = nil }
	_, err = archive.Verify(ctx, file, archive.Look{Again: again, File: func(f *archive.File) {
		if f.Form == redact.Image {
			pictures = append(pictures, ReviewedPicture{File: f.Path, SHA256: f.SHA256})
		}
	}})
	if err != nil {
		return fault.Wrap("submit", file, err)
	}
	if pictures, err = looked(c, pictures); err != nil {
		return err
	}
	pictures = slices.DeleteFunc(pictures, func(p ReviewedPicture) bool { return p.LookedBy != "" })
	if len(pictures) == 0 {
		return nil
	}
	return fault.New(fault.Refused, "submit", rep.Name, fmt.Sprintf("nobody looked at %s, and that is required", pictures[0].File),
		"envask review says where it lies; then envask review --looked "+path.Base(pictures[0].File))
}
