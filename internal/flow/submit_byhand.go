package flow

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/submit"
)

// HandedOver writes down that a person handed an archive over: by a page of the desk, a mail of their own, a stick. The proof is that
// person's word.
func (a *App) HandedOver(ctx context.Context, c *casefile.Case, q SubmitRequest) (*submit.Receipt, error) {
	if err := oneLine("--by-hand", q.ByHand); err != nil {
		return nil, err
	}
	if err := oneLine("--ticket", q.Ticket); err != nil {
		return nil, err
	}
	if c.Number == "" {
		return nil, fault.New(fault.Usage, "submit", c.Name, "the case has no number yet",
			"give it with: envask open NUMBER --was "+c.Name+", then pack again")
	}
	k, err := LoadAsk(c.Ask)
	if err != nil {
		return nil, err
	}
	w, err := a.approvedWriter(c, k)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	file, rep, sealed, err := a.toSend(ctx, c, q)
	if err != nil {
		return nil, err
	}
	if sealed == nil {
		if sealed, err = sealedOf(c, rep.SHA256, false); err != nil {
			return nil, fault.Wrap("submit", file, err)
		}
	}
	if sealed == nil { // what has to go encrypted has no plain form that a person should have
		if err := mustBeEncrypted(c, k, rep, sealed); err != nil {
			return nil, err
		}
	}
	name, size, _, err := asSent(ctx, c, rep, sealed)
	if err != nil {
		return nil, err
	}
	if !rep.Complete {
		a.note("it lacks what the ask requires: %s", someOf(rep.Lacking))
	}
	if err := a.mustBeApproved(c, k, rep); err != nil {
		a.note("nobody approved it before it was handed over, and that is required")
	}
	at := a.Now().UTC().Truncate(time.Second)
	rec := &submit.Receipt{Case: c.Number, Route: submit.ByHandRoute, Name: name, Size: size, SHA256: rep.SHA256,
		ByHand: q.ByHand, Ticket: q.Ticket,
		Path: name, Server: "a person", Proof: "the word of " + a.Who + ": " + q.ByHand, Started: at, Finished: at,
		Tries: 1, By: a.Who, Ask: k.Digest,
		Ledger: w.Ledger.Head()}
	if sealed != nil {
		rec.SHA256, rec.Of, rec.OfSHA256 = sealed.SHA256, sealed.Archive, sealed.OfSHA256
	}
	return rec, fault.Wrap("submit", name, a.keepReceipt(w, rec))
}

// someOf names the first of many.
func someOf(list []string) string {
	const most = 3
	if len(list) > most+1 {
		return strings.Join(list[:most], "; ") + fmt.Sprintf("; and %d more", len(list)-most)
	}
	return strings.Join(list, "; ")
}

// AddTicket adds the desk's ticket to the receipts of what was sent: of the archive that is named, or the one packed last, over the
// routes that are named, or all. none says that there is no such receipt.
func (a *App) AddTicket(c *casefile.Case, q SubmitRequest) (list []*submit.Receipt, none bool, err error) {
	if err := oneLine("--ticket", q.Ticket); err != nil {
		return nil, false, err
	}
	file := q.Archive
	if file == "" {
		if file, err = lastPacked(c, "submit"); err != nil {
			return nil, false, err
		}
	}
	receipts, err := receiptsOf(c)
	if err != nil {
		return nil, false, fault.Wrap("read the ledger", c.Name, err)
	}
	name := filepath.Base(file)
	receipts = slices.DeleteFunc(receipts, func(r submit.Receipt) bool {
		plain, _ := r.Plain()
		return r.Name != name && plain != name || len(q.Routes) > 0 && !slices.Contains(q.Routes, r.Route)
	})
	if len(receipts) == 0 {
		return nil, true, nil
	}
	w, err := a.write(c)
	if err != nil {
		return nil, false, err
	}
	defer w.Close()
	for i := range receipts {
		r := &receipts[i]
		r.Ticket = q.Ticket
		if err := a.keepReceipt(w, r); err != nil {
			return list, false, fault.Wrap("write the receipt", r.Name, err)
		}
		list = append(list, r)
	}
	return list, false, nil
}

// maxWords bounds what a person says of a receipt, in bytes.
const maxWords = 500

// oneLine makes sure that a text is one line that can be shown.
func oneLine(flag, text string) error {
	if len(text) > maxWords || !utf8.ValidString(text) || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return fault.New(fault.Usage, flag, "", "expected one line of at most 500 bytes", "")
	}
	return nil
}
