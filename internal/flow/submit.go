package flow

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/v1"
	"golang.org/x/time/rate"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/seal"
	"envask/internal/submit"
	"envask/internal/undo"
)

// SubmitRequest is what to send, and where.
type SubmitRequest struct {
	Archive    string   // path; "" is the one packed last
	Routes     []string // names; none is the only one of the ask, or all in their order if the ask says so
	Incomplete bool     // send although something required is missing
	ReadBack   bool
	Resume     bool   // the archive and the route of the last submit that did not come to its end
	Bandwidth  int64  // bytes a second; 0 is no limit
	ByHand     string // a person handed it over already, and says how; nothing is sent
	Ticket     string // the desk's number of it
	SignWith   string // path of a private SSH key that signs the receipts; "" signs nothing
	Accept     map[string]string
	// Confirm asks the last question before sending; nil when nobody can be asked.
	Confirm func(question string) (bool, error)
}

// SubmitProgress says how much is there, in bytes.
type SubmitProgress struct {
	Route       string
	Done, Total int64
}

// Submit sends an archive and keeps the receipts, one for each route.
func (a *App) Submit(ctx context.Context, c *casefile.Case, q SubmitRequest) ([]*submit.Receipt, error) {
	if c.Number == "" {
		return nil, fault.New(fault.Usage, "submit", c.Name, "the case has no number yet",
			"give it with: envask open NUMBER --was "+c.Name+", then pack again")
	}
	k, err := LoadAsk(c.Ask)
	if err != nil {
		return nil, err
	}
	if q.Resume {
		if err := resumeLast(c, &q); err != nil {
			return nil, err
		}
	}
	routes, inTurn, err := chooseRoutes(k, q.Routes)
	if err != nil {
		return nil, err
	}
	w, err := a.approvedWriter(c, k)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	routes, rep, sealed, err := a.mayGo(ctx, c, k, routes, inTurn, q)
	if err != nil {
		return nil, err
	}
	var receipts []*submit.Receipt
	for i, route := range routes {
		rec, err := a.send(ctx, w, k, route, rep, sealed, q)
		switch {
		case err == nil:
			if receipts = append(receipts, rec); inTurn {
				return receipts, nil
			}
		case ctx.Err() != nil:
			return receipts, a.interruptedOn(c, route, err)
		case inTurn && i < len(routes)-1:
			a.note("route %s did not take it (%v); the next one is %s", route.Name, err, routes[i+1].Name)
		default:
			return receipts, fault.Wrap("submit over route", route.Name, err)
		}
	}
	return receipts, nil
}

// interruptedOn says what an interrupted submit may have left over a route, as far as that is known: the ledger has every file of
// ours from before it is made there until it is settled.
func (a *App) interruptedOn(c *casefile.Case, route ask.Route, sendErr error) error {
	begun, why, hint := "interrupted; ", "nothing was left there", "send with: envask submit"
	var some *someParts
	if errors.As(sendErr, &some) {
		begun, why = fmt.Sprintf("interrupted; %d of %d parts are there; ", some.n, some.of), "nothing was left of the next"
	}
	if errors.Is(sendErr, submit.ErrUnderway) {
		why, hint = "whether the other side took it is not known",
			"ask the vendor whether it came before you send again with: envask submit"
	}
	pending, err := undo.Pending(c)
	for _, ch := range pending {
		if ch.Where != routePrefix+route.Name {
			continue
		}
		hint = fmt.Sprintf("resume with: envask submit --resume --case %s", c.Name)
		if strings.HasSuffix(ch.Path, ".part") {
			why = fmt.Sprintf("nothing has the final name, and %s is incomplete", ch.Path)
		} else {
			why = fmt.Sprintf("whether %s exists, and how much of it arrived, is unknown", ch.Path)
		}
	}
	if err != nil {
		why = "what was left there is not known"
	}
	return &fault.Error{Class: fault.Interrupted, Op: "submit over route", Target: route.Name, Err: errors.New(begun + why), Hint: hint}
}

// someParts is the failure of a send after some of its parts had arrived.
type someParts struct {
	n, of int
	err   error
}

func (s *someParts) Error() string {
	return fmt.Sprintf("%d of %d parts are there; the next: %v", s.n, s.of, s.err)
}
func (s *someParts) Unwrap() error { return s.err }

// approvedWriter takes the case's lock, for what an approved ask says.
func (a *App) approvedWriter(c *casefile.Case, k *ask.Ask) (*casefile.Writer, error) {
	if err := a.approved(k); err != nil {
		return nil, err
	}
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	if err := a.keepApproved(w, k); err != nil {
		return nil, errors.Join(err, w.Close())
	}
	return w, nil
}

// resumeLast fills in the archive and the route of the submit that left something on the other side.
func resumeLast(c *casefile.Case, q *SubmitRequest) error {
	pending, err := undo.Pending(c)
	if err != nil {
		return err
	}
	for i := len(pending) - 1; i >= 0; i-- {
		route, ok := strings.CutPrefix(pending[i].Where, routePrefix)
		if !ok || pending[i].Of == "" {
			continue
		}
		packed, err := packedAs(c, pending[i].Of)
		if err != nil {
			return err
		}
		if packed != "" {
			q.Archive, q.Routes = packed, []string{route}
			return nil
		}
	}
	return fault.New(fault.Usage, "submit", "--resume", "no submit of this case stopped on its way", "send with: envask submit")
}

// packedAs gives the path of the archive with a SHA-256, or "".
func packedAs(c *casefile.Case, sum string) (string, error) {
	name := ""
	err := c.ReadLedger(func(r casefile.Record) error {
		if r.Kind == kindSplit {
			var s splitRecord
			if err := json.Unmarshal(r.Data, &s); err != nil {
				return err
			}
			if slices.ContainsFunc(s.Parts, func(p archive.Part) bool { return p.SHA256 == sum }) {
				name = filepath.Join(c.OutDir(), s.Name)
			}
			return nil
		}
		if r.Kind == kindSealed {
			var s sealedRecord
			if err := json.Unmarshal(r.Data, &s); err != nil {
				return err
			}
			if s.SHA256 == sum {
				name = filepath.Join(c.OutDir(), filepath.Base(s.Sealed))
			}
			return nil
		}
		if r.Kind != kindPacked {
			return nil
		}
		var p packedRecord
		if err := json.Unmarshal(r.Data, &p); err != nil {
			return err
		}
		if p.SHA256 == sum {
			name = filepath.Join(c.OutDir(), filepath.Base(p.Archive))
		}
		return nil
	})
	return name, err
}

// chooseRoutes gives the routes to send over, and whether the first that works is enough.
func chooseRoutes(k *ask.Ask, names []string) (routes []ask.Route, inTurn bool, err error) {
	if len(names) == 0 && k.RoutesInTurn && len(k.Routes) > 0 {
		return k.Routes, true, nil
	}
	if len(names) == 0 {
		names = []string{""}
	}
	for _, n := range names {
		r, err := chooseRoute(k, n)
		if err != nil {
			return nil, false, err
		}
		routes = append(routes, r)
	}
	return routes, false, nil
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
		return ask.Route{}, fault.New(fault.Usage, "submit", "", "the ask names several routes: "+strings.Join(known, ", "),
			"choose one with --route")
	}
	return ask.Route{}, fault.New(fault.Usage, "--route", name, "the ask names no such route; known: "+strings.Join(known, ", "), "")
}

// lastPacked gives the path of the archive that was packed last.
func lastPacked(c *casefile.Case, op string) (string, error) {
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
		return "", fault.New(fault.Usage, op, c.Name, "nothing was packed yet", "run envask pack first")
	}
	return filepath.Join(c.OutDir(), filepath.Base(name)), err
}

// routePrefix tells routes from systems among the places of temporary changes.
const routePrefix = "route "

// routeChanges writes files of ours on a vendor's server into the ledger.
type routeChanges struct {
	log   undo.Log
	route string
}

func (r routeChanges) Begin(path, of string) (string, error) {
	c, err := r.log.BeginPart("file", r.route, path, of)
	return c.ID, err
}

func (r routeChanges) Done(id, how string) error { return r.log.Done(id, how) }

// means gathers what a route needs.
func (a *App) means(w *casefile.Writer, route ask.Route, q SubmitRequest) (*submit.Means, error) {
	credentials, err := submit.LoadCredentials(a.Home.Credentials())
	if err != nil {
		return nil, &fault.Error{Class: fault.Usage, Err: err}
	}
	d, err := a.Dialer(nil, q.Accept)
	if err != nil {
		return nil, err
	}
	m := &submit.Means{Dialer: d, Credentials: credentials, ReadBack: q.ReadBack, Left: map[string]string{}, Secret: d.Secret,
		Proxy: a.Proxy, Out: w.OutDir(),
		Terms: submit.Terms{Fields: route.Fields, File: route.File, Subject: route.Subject, Limit: route.Limit},
		Note:  func(text string) { a.note("%s", text) }, Pause: a.Pause,
		Changes: routeChanges{undo.Log{Ledger: w.Ledger}, routePrefix + route.Name}}
	if q.Bandwidth > 0 {
		m.Rate = rate.NewLimiter(rate.Limit(q.Bandwidth), int(min(q.Bandwidth, 256<<10)))
	}
	return m, nil
}

// parcels gives what goes: the archive, its encrypted form, or the parts of that with the page that says how to join them.
func parcels(ctx context.Context, c *casefile.Case, rep *archive.Report, sealed *sealedRecord) (whole submit.Parcel,
	parts []submit.Parcel, err error) {
	whole = submit.Parcel{File: rep.Name, Name: filepath.Base(rep.Name), Size: rep.Size, SHA256: rep.SHA256}
	if sealed != nil {
		whole = submit.Parcel{File: filepath.Join(c.OutDir(), sealed.Sealed), Name: sealed.Sealed, Size: sealed.Size, SHA256: sealed.SHA256}
	}
	split, err := splitOf(c, whole.SHA256)
	if err != nil || split == nil {
		return whole, []submit.Parcel{whole}, err
	}
	for i, p := range split.Parts {
		parts = append(parts, submit.Parcel{File: filepath.Join(c.OutDir(), p.Name), Name: p.Name, Size: p.Size, SHA256: p.SHA256,
			Part: i + 1, Parts: len(split.Parts)})
	}
	page := filepath.Join(c.OutDir(), split.Page)
	info, err := os.Stat(page)
	if err != nil {
		return whole, nil, err
	}
	sum, err := durable.FileSum(ctx, page)
	return whole, append(parts, submit.Parcel{File: page, Name: split.Page, Size: info.Size(), SHA256: sum}), err
}

func (a *App) send(ctx context.Context, w *casefile.Writer, k *ask.Ask, route ask.Route, rep *archive.Report, sealed *sealedRecord,
	q SubmitRequest) (*submit.Receipt, error) {
	m, err := a.means(w, route, q)
	if err != nil {
		return nil, err
	}
	defer m.Dialer.Close()
	whole, parts, err := parcels(ctx, w.Case, rep, sealed)
	if err != nil {
		return nil, err
	}
	m.Text = texts(k, rep, whole)
	if len(parts) > 1 {
		m.All = parts
	}
	cleared := false
	open := func(ctx context.Context) (submit.Route, error) {
		r, err := submit.Open(ctx, route.Name, route.To, m)
		if err == nil && !cleared {
			if err = a.clearLeftovers(w, r, m, parts); err != nil {
				r.Close()
				return nil, err
			}
			cleared = true
		}
		return r, err
	}
	rec, gone := submit.Receipt{Proved: true}, int64(0)
	for i, p := range parts {
		m.Progress = func(done int64) { a.report(SubmitProgress{route.Name, min(gone+done, whole.Size), whole.Size}) }
		one, err := submit.Send(ctx, open, p, m)
		if err != nil {
			if i > 0 {
				err = &someParts{i, len(parts), err}
			}
			return nil, err
		}
		gone += p.Size
		if len(parts) == 1 {
			rec = one
			break
		}
		rec = joined(rec, one, whole, i == 0)
	}
	if sealed != nil {
		rec.Of, rec.OfSHA256 = sealed.Archive, sealed.OfSHA256
	}
	rec.Ask, rec.Ledger = k.Digest, w.Ledger.Head()
	rec.Case, rec.Route, rec.To, rec.By, rec.Ticket = w.Number, route.Name, route.To, a.Who, q.Ticket
	if err := a.keepReceipt(w, &rec); err != nil || q.SignWith == "" {
		return &rec, err
	}
	return &rec, a.signReceipt(w.Case, m.Dialer, &rec, q.SignWith)
}

// joined adds the receipt of one part to that of the whole.
func joined(rec, one submit.Receipt, whole submit.Parcel, first bool) submit.Receipt {
	parts := append(rec.Parts, one)
	if first {
		rec = one
		rec.Name, rec.Size, rec.SHA256, rec.Tries = whole.Name, whole.Size, whole.SHA256, 0
	}
	rec.Parts, rec.Finished = parts, one.Finished
	rec.Proved, rec.Already = rec.Proved && one.Proved, rec.Already && one.Already
	rec.Tries = max(rec.Tries, one.Tries)
	rec.Proof = fmt.Sprintf("%d files, of each: %s", len(parts), one.Proof)
	for _, p := range parts {
		if !p.Proved {
			rec.Proof = fmt.Sprintf("%d files, of %s: %s", len(parts), p.Name, p.Proof)
			break
		}
	}
	return rec
}

// clearLeftovers removes what an earlier submit over this route left behind, unless it is the beginning of the same archive.
func (a *App) clearLeftovers(w *casefile.Writer, r submit.Route, m *submit.Means, parcels []submit.Parcel) error {
	pending, err := undo.Pending(w.Case)
	if err != nil {
		return err
	}
	for _, ch := range pending {
		if ch.Where != m.Changes.(routeChanges).route {
			continue
		}
		if m.Left[ch.Path] == "" && slices.ContainsFunc(parcels, func(p submit.Parcel) bool { return p.SHA256 == ch.Of }) {
			m.Left[ch.Path] = ch.ID
			continue
		}
		remover, ok := r.(submit.Remover)
		if !ok {
			continue
		}
		err := remover.Remove(ch.Path)
		switch {
		case err == nil:
			a.note("removed %s, which an earlier submit left there", ch.Path)
			err = m.Changes.Done(ch.ID, "removed")
		case errors.Is(err, os.ErrNotExist):
			err = m.Changes.Done(ch.ID, "was not there")
		case errors.Is(err, submit.ErrStays):
			a.note("%s, which an earlier submit left there, stays: %v; tell the vendor", ch.Path, err)
			err = m.Changes.Done(ch.ID, "stays there")
		}
		if err != nil {
			return fmt.Errorf("%s was left by an earlier submit and cannot be removed: %w", ch.Path, err)
		}
	}
	return nil
}

// texts gives what stands for the placeholders of forms, mails and pages: all of it from the archive, where it went through
// redaction.
func texts(k *ask.Ask, rep *archive.Report, p submit.Parcel) func(string) string {
	m := rep.Manifest
	return func(name string) string {
		if id, ok := strings.CutPrefix(name, "answer:"); ok {
			return m.Answers[id]
		}
		if id, ok := strings.CutPrefix(name, "brief."); ok {
			if id == brief.Title {
				return m.Title
			}
			return m.Answers[id]
		}
		switch name {
		case "case":
			return m.Case
		case "title":
			return m.Title
		case "vendor":
			return m.Vendor
		case "site":
			return m.Site
		case "ask":
			return k.Name
		case "window":
			return m.Window.Text
		case "archive":
			return p.Name
		case "size":
			return fmt.Sprint(p.Size)
		case "sha256":
			return p.SHA256
		case "brief":
			return rep.Brief
		}
		return ""
	}
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
	if err := durable.WriteFile(ReceiptFile(w.Case, rec), append(data, '\n'), 0o600); err != nil {
		return err
	}
	text := strings.TrimSuffix(ReceiptFile(w.Case, rec), ".json") + ".txt"
	return durable.WriteFile(text, []byte(rec.Line()+"\n"), 0o600)
}

// signReceipt signs a receipt, for whoever takes it in elsewhere.
func (a *App) signReceipt(c *casefile.Case, d *reach.Dialer, rec *submit.Receipt, key string) error {
	signer, err := d.Signer(d.Path(key))
	if err != nil {
		return &fault.Error{Class: fault.Usage, Op: "--sign", Err: err}
	}
	data, err := os.ReadFile(ReceiptFile(c, rec))
	if err != nil {
		return err
	}
	text, err := seal.Sign(signer, data)
	if err != nil {
		return err
	}
	return durable.WriteFile(receiptSignature(ReceiptFile(c, rec)), []byte(text), 0o600)
}

// ReceiptFile gives the path of a receipt. One of something else that was sent under that name, such as the same archive before it was
// encrypted, keeps its own.
func ReceiptFile(c *casefile.Case, rec *submit.Receipt) string {
	base := filepath.Join(c.OutDir(), archive.TrimEnding(strings.TrimSuffix(rec.Name, seal.Ending))+".receipt-"+rec.Route)
	for n := 1; ; n++ {
		name := base + ".json"
		if n > 1 {
			name = fmt.Sprintf("%s-%d.json", base, n)
		}
		var there submit.Receipt
		data, err := os.ReadFile(name)
		if err != nil || json.Unmarshal(data, &there) != nil || there.SHA256 == rec.SHA256 {
			return name
		}
	}
}
