package flow

import (
	"path"
	"strings"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/round"
)

// UnmarkedPicture is a picture that a required item wants, of which nobody said yet whether the error is marked in it. No program sees
// that, so it is asked once, and remembered with the checksum.
type UnmarkedPicture struct {
	Name   string `json:"name"`
	Item   string `json:"item"`
	SHA256 string `json:"sha256"`
}

// unmarked lists the pictures that are still to be asked about.
func (a *App) unmarked(c *casefile.Case, k *ask.Ask) ([]UnmarkedPicture, error) {
	said := map[string]bool{}
	err := c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindMarked {
			return nil
		}
		var rec markedRecord
		err := json.Unmarshal(r.Data, &rec)
		said[rec.SHA256] = true
		return err
	})
	if err != nil {
		return nil, nil //nolint:nilerr // a damaged ledger is told elsewhere
	}
	rounds, err := round.List(c)
	if err != nil {
		return nil, fault.Wrap("read the rounds", c.Name, err)
	}
	out := []UnmarkedPicture{}
	for _, r := range rounds {
		list, err := r.Brought()
		if err != nil {
			return nil, fault.Wrap("read the rounds", c.Name, err)
		}
		for _, e := range list {
			it := k.Item(e.Item)
			picture := e.Brought != nil && (e.Brought.Type == "png" || e.Brought.Type == "jpeg")
			if it == nil || !it.Required || !picture || e.State != round.Taken || e.Brought.Older || said[e.SHA256] {
				continue
			}
			said[e.SHA256] = true // of two that are the same one is asked about
			out = append(out, UnmarkedPicture{path.Base(e.Name), e.Item, e.SHA256})
		}
	}
	return out, nil
}

// Mark writes down whether the error is marked in a picture, as a person says.
func (a *App) Mark(c *casefile.Case, name string, marked bool) error {
	v, err := a.ShowBrief(c)
	if err != nil {
		return err
	}
	var names []string
	for _, p := range v.Unmarked {
		if p.Name == name {
			w, err := a.write(c)
			if err != nil {
				return err
			}
			defer w.Close()
			return fault.Wrap("write the ledger", c.Name, w.Ledger.Append(kindMarked, markedRecord{p.Name, p.SHA256, marked, a.Who}))
		}
		names = append(names, p.Name)
	}
	return fault.New(fault.Usage, "brief", name, "there is no picture of that name to say it of",
		"there are: "+orElse(strings.Join(names, ", "), "none"))
}
