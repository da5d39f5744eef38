package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/dustin/go-humanize"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/submit"
	"envask/internal/undo"
)

// SubmitRequest is what to send, and where.
type SubmitRequest struct {
	Archive    string // path; "" is the one packed last
	Route      string // name; "" is the only one of the ask
	Incomplete bool   // send although something required is missing
	ReadBack   bool
	Accept     map[string]string
	// Confirm asks the last question before sending; nil when nobody can be asked.
	Confirm func(question string) (bool, error)
}

// SubmitProgress says how much has gone, in bytes.
type SubmitProgress struct {
	Route       string
	Done, Total int64
}

// Submit sends an archive and keeps the receipt.
func (a *App) Submit(ctx context.Context, c *casefile.Case, q SubmitRequest) (*submit.Receipt, error) {
	if c.Number == "" {
		return nil, fault.New(fault.Usage, "submit", c.Name, "the case has no number yet", "give it with: envask open NUMBER --was "+c.Name+", then pack again")
	}
	k, err := LoadAsk(c.Ask)
	if err != nil {
		return nil, err
	}
	route, err := chooseRoute(k, q.Route)
	if err != nil {
		return nil, err
	}
	if err := a.approved(k); err != nil {
		return nil, err
	}
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	rep, err := a.mayGo(c, k, route, q)
	if err != nil {
		return nil, err
	}
	rec, err := a.send(ctx, w, route, rep, q)
	if err != nil {
		if ctx.Err() != nil {
			return nil, &fault.Error{Class: fault.Interrupted, Op: "submit", Err: errors.New("interrupted; nothing stands there under the final name"), Hint: "run envask submit again"}
		}
		return nil, fault.Wrap("submit over route", route.Name, err)
	}
	return rec, nil
}

func chooseRoute(k *ask.Ask, name string) (ask.Route, error) {
	var known []string
	for _, r := range k.Routes {
		if r.Name == name {
			return r, nil
		}
		known = append(known, r.Name)
	}
	switch {
	case len(k.Routes) == 0:
		return ask.Route{}, fault.New(fault.Usage, "submit", "", "the ask names no route", "add one under routes: in "+k.File)
	case name == "" && len(k.Routes) == 1:
		return k.Routes[0], nil
	case name == "":
		return ask.Route{}, fault.New(fault.Usage, "submit", "", "the ask names several routes: "+strings.Join(known, ", "), "choose one with --route")
	}
	return ask.Route{}, fault.New(fault.Usage, "--route", name, "the ask names no such route; known: "+strings.Join(known, ", "), "")
}

// mayGo makes sure that the archive is whole, complete or known not to be, small enough, and that the engineer wants it.
func (a *App) mayGo(c *casefile.Case, k *ask.Ask, route ask.Route, q SubmitRequest) (*archive.Report, error) {
	file := q.Archive
	if file == "" {
		last, err := lastPacked(c)
		if err != nil {
			return nil, err
		}
		file = last
	}
	rep, err := archive.VerifyFile(file, nil)
	if err != nil {
		return nil, fault.Wrap("submit", file, err)
	}
	if !rep.Good() {
		d := rep.Differences[0]
		return nil, fault.New(fault.Refused, "submit", file, fmt.Sprintf("it does not verify: %s %s: %s", d.Path, d.What, d.Why), "envask verify names every difference; pack again")
	}
	if rep.Manifest == nil || rep.Manifest.Case != c.Number {
		return nil, fault.New(fault.Refused, "submit", file, fmt.Sprintf("it is not an archive of case %s", c.Number), "pack again, or choose the case with --case")
	}
	if err := a.mustBeApproved(c, k, rep); err != nil {
		return nil, err
	}
	if !rep.Complete && !q.Incomplete {
		return nil, fault.New(fault.Refused, "submit", file, "it lacks what the ask requires: "+strings.Join(rep.Lacking, "; "), "collect what is missing, or send it as it is with --incomplete")
	}
	if route.Limit > 0 && rep.Size > route.Limit {
		return nil, fault.New(fault.Refused, "submit", file, fmt.Sprintf("it has %s; the route %s takes %s at most", humanize.IBytes(uint64(rep.Size)), route.Name, humanize.IBytes(uint64(route.Limit))), "choose another route, a smaller window or a lower depth")
	}
	if q.Confirm == nil {
		return nil, fault.New(fault.Refused, "submit", file, "nobody can be asked whether to send it", "give --yes")
	}
	yes, err := q.Confirm(fmt.Sprintf("Send %s (%s) to %s?", filepath.Base(file), humanize.IBytes(uint64(rep.Size)), route.To))
	if err != nil {
		return nil, err
	}
	if !yes {
		return nil, fault.New(fault.Refused, "submit", file, "not sent, as you said", "")
	}
	return rep, nil
}

// mustBeApproved makes sure that a person has approved the archive, where the ask or the engineer wants that.
func (a *App) mustBeApproved(c *casefile.Case, k *ask.Ask, rep *archive.Report) error {
	pol, err := a.policy(c, k, nil)
	if err != nil || !pol.Approval {
		return err
	}
	by, _, err := approval(c, rep.SHA256)
	if err == nil && by == "" {
		err = fault.New(fault.Refused, "submit", rep.Name, "nobody has approved it, and that is required", "look at it with envask review, then envask review --approve")
	}
	return err
}

// lastPacked gives the path of the archive that was packed last.
func lastPacked(c *casefile.Case) (string, error) {
	name := ""
	err := c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindPacked {
			return nil
		}
		var p packedRecord
		if err := json.Unmarshal(r.Data, &p); err != nil {
			return err
		}
		name = p.Archive
		return nil
	})
	if err == nil && name == "" {
		return "", fault.New(fault.Usage, "submit", c.Name, "nothing was packed yet", "run envask pack first")
	}
	return filepath.Join(c.OutDir(), filepath.Base(name)), err
}

// routeChanges writes files of ours on a vendor's server into the ledger.
type routeChanges struct {
	log   undo.Log
	route string
}

func (r routeChanges) Begin(path string) (string, error) {
	c, err := r.log.Begin("file", r.route, path)
	return c.ID, err
}

func (r routeChanges) Done(id, how string) error { return r.log.Done(id, how) }

func (a *App) send(ctx context.Context, w *casefile.Writer, route ask.Route, rep *archive.Report, q SubmitRequest) (*submit.Receipt, error) {
	credentials, err := submit.LoadCredentials(a.Home.Credentials())
	if err != nil {
		return nil, &fault.Error{Class: fault.Usage, Err: err}
	}
	d, err := a.Dialer(nil, q.Accept)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	done := int64(0)
	m := &submit.Means{Dialer: d, Credentials: credentials, ReadBack: q.ReadBack, Changes: routeChanges{undo.Log{Ledger: w.Ledger}, "route " + route.Name},
		Progress: func(n int64) { done += n; a.report(SubmitProgress{route.Name, done, rep.Size}) }}
	r, err := submit.Open(ctx, route.Name, route.To, m)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if err := a.clearLeftovers(w, r, m); err != nil {
		return nil, err
	}
	rec, err := submit.Send(ctx, r, submit.Parcel{File: rep.Name, Name: filepath.Base(rep.Name), Size: rep.Size, SHA256: rep.SHA256}, m)
	if err != nil {
		return nil, err
	}
	rec.Case, rec.Route, rec.To, rec.By = w.Number, route.Name, route.To, a.Who
	return &rec, a.keepReceipt(w, &rec)
}

// clearLeftovers removes what an earlier submit over this route left behind.
func (a *App) clearLeftovers(w *casefile.Writer, r submit.Route, m *submit.Means) error {
	pending, err := undo.Pending(w.Case)
	if err != nil {
		return err
	}
	for _, ch := range pending {
		if ch.Where != m.Changes.(routeChanges).route {
			continue
		}
		err := r.Remove(ch.Path)
		switch {
		case err == nil:
			a.note("removed %s, which an earlier submit left there", ch.Path)
			err = m.Changes.Done(ch.ID, "removed")
		case errors.Is(err, os.ErrNotExist):
			err = m.Changes.Done(ch.ID, "was not there")
		}
		if err != nil {
			return fmt.Errorf("%s was left by an earlier submit and cannot be removed: %w", ch.Path, err)
		}
	}
	return nil
}

// keepReceipt writes the receipt beside the archive and into the ledger.
func (a *App) keepReceipt(w *casefile.Writer, rec *submit.Receipt) error {
	if err := w.Ledger.Append(kindSubmitted, rec); err != nil {
		return err
	}
	data, err := json.MarshalIndent(rec, "", "  ")
	if err != nil {
		return err
	}
	return casefile.WriteFile(ReceiptFile(w.Case, rec), append(data, '\n'), 0o600)
}

// ReceiptFile gives the path of a receipt.
func ReceiptFile(c *casefile.Case, rec *submit.Receipt) string {
	return filepath.Join(c.OutDir(), strings.TrimSuffix(rec.Name, ".tar.gz")+".receipt-"+rec.Route+".json")
}
