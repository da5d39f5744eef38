package flow

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/submit"
)

// Confirmed is what the other side says later about a receipt.
type Confirmed struct {
	Route  string `json:"route"`
	Name   string `json:"name"`
	Path   string `json:"path"`
	Proof  string `json:"proof,omitempty"`
	Proved bool   `json:"proved"`
	Error  string `json:"error,omitempty"`
	Silent bool   `json:"silent,omitempty"` // this way of sending cannot be asked
}

// ConfirmReceipts asks again about everything that was sent, or about what went over some routes.
func (a *App) ConfirmReceipts(ctx context.Context, c *casefile.Case, q SubmitRequest) ([]Confirmed, error) {
	k, err := LoadAsk(c.Ask)
	if err != nil {
		return nil, err
	}
	w, err := a.approvedWriter(c, k)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	receipts, err := receiptsOf(c)
	if err != nil {
		return nil, err
	}
	var out []Confirmed
	for _, rec := range receipts {
		if len(q.Routes) > 0 && !slices.Contains(q.Routes, rec.Route) || len(q.Routes) == 0 && (rec.Handed || rec.ByHand != "") ||
			q.Archive != "" && filepath.Base(q.Archive) != rec.Name {
			continue
		}
		x := Confirmed{Route: rec.Route, Name: rec.Name, Path: rec.Path}
		if x.Proof, x.Proved, err = a.confirm(ctx, w, k, &rec, q); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			x.Error, x.Silent = err.Error(), errors.Is(err, submit.ErrSilent)
			var f *fault.Error
			if errors.As(err, &f) { // the route is named beside it
				x.Error = f.Err.Error()
			}
		} else if x.Proved && !rec.Proved { // now we have seen it ourselves
			rec.Proved, rec.Proof, rec.Word = true, x.Proof+"; asked again on "+a.Now().UTC().Format(time.RFC3339), ""
			if err := a.keepReceipt(w, &rec); err != nil {
				return nil, err
			}
		}
		out = append(out, x)
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Usage, "confirm", c.Name, "there is no receipt of that kind", "send with: envask submit")
	}
	return out, nil
}

func (a *App) confirm(ctx context.Context, w *casefile.Writer, k *ask.Ask, rec *submit.Receipt, q SubmitRequest) (string, bool, error) {
	route, err := chooseRoute(k, rec.Route)
	if err != nil {
		return "", false, err
	}
	m, err := a.means(w, route, q)
	if err != nil {
		return "", false, err
	}
	defer m.Dialer.Close()
	r, err := submit.Open(ctx, route.Name, route.To, m)
	if err != nil {
		return "", false, err
	}
	defer r.Close()
	if len(rec.Parts) == 0 {
		return submit.Confirm(ctx, r, rec)
	}
	proof, all := "", true
	for i := range rec.Parts {
		said, proved, err := submit.Confirm(ctx, r, &rec.Parts[i])
		if err != nil {
			return "", false, fmt.Errorf("%s: %w", rec.Parts[i].Name, err)
		}
		if all = all && proved; !proved || proof == "" {
			proof = said
		}
	}
	return fmt.Sprintf("%d files, of each: %s", len(rec.Parts), proof), all, nil
}

// receiptsOf gives the receipts of a case, the newest of each archive and route.
func receiptsOf(c *casefile.Case) ([]submit.Receipt, error) {
	var out []submit.Receipt
	err := c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindSubmitted {
			return nil
		}
		var rec submit.Receipt
		if err := json.Unmarshal(r.Data, &rec); err != nil {
			return err
		}
		out = slices.DeleteFunc(out, func(o submit.Receipt) bool { return o.Route == rec.Route && o.Name == rec.Name })
		out = append(out, rec)
		return nil
	})
	return out, err
}
