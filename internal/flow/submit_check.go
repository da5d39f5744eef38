package flow

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/go-json-experiment/json/v1"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/seal"
	"envask/internal/submit"
)

// mayGo makes sure that the archive is whole, complete or known not to be, small enough, and that the engineer wants it.
func (a *App) mayGo(ctx context.Context, c *casefile.Case, k *ask.Ask, routes []ask.Route, inTurn bool,
	q SubmitRequest) ([]ask.Route, *archive.Report, *sealedRecord, error) {
	file, rep, sealed, err := a.toSend(ctx, c, q)
	if err != nil {
		return nil, nil, nil, err
	}
	if err := a.asAsked(ctx, c, k, file, rep, q); err != nil {
		return nil, nil, nil, err
	}
	if sealed == nil {
		if sealed, err = sealedOf(c, rep.SHA256, false); err != nil {
			return nil, nil, nil, err
		}
	}
	if err := mustBeEncrypted(c, k, rep, sealed); err != nil {
		return nil, nil, nil, err
	}
	name, size, how, err := asSent(ctx, c, rep, sealed)
	if err != nil {
		return nil, nil, nil, err
	}
	_, parts, err := parcels(ctx, c, rep, sealed)
	if err != nil {
		return nil, nil, nil, err
	}
	most := int64(0)
	for _, p := range parts {
		most = max(most, p.Size)
	}
	if n := len(parts) - 1; n > 0 {
		how += fmt.Sprintf(", in %d parts", n)
	}
	routes, to, err := a.whereTo(k, routes, inTurn, file, most)
	if err != nil {
		return nil, nil, nil, err
	}
	if q.Confirm == nil {
		return nil, nil, nil, fault.New(fault.Refused, "submit", file, "no terminal to ask whether to send it", "give --yes")
	}
	yes, err := q.Confirm(fmt.Sprintf("Send %s (%s%s) to %s?", name, humanize.IBytes(uint64(size)), how, to))
	if err != nil {
		return nil, nil, nil, err
	}
	if !yes {
		return nil, nil, nil, fault.New(fault.Refused, "submit", file, "not sent, as you said", "")
	}
	return routes, rep, sealed, nil
}

// toSend is the archive that is meant, read and whole, and its encrypted form if that one was named.
func (a *App) toSend(ctx context.Context, c *casefile.Case, q SubmitRequest) (
	file string, rep *archive.Report, sealed *sealedRecord, err error) {
	file = q.Archive
	if file == "" {
		last, err := lastPacked(c, "submit")
		if err != nil {
			return "", nil, nil, err
		}
		file = last
	}
	if strings.HasSuffix(file, seal.Ending) {
		if sealed, err = sealedBy(c, filepath.Base(file)); err != nil {
			return "", nil, nil, fault.Wrap("submit", file, err)
		}
		file = filepath.Join(c.OutDir(), sealed.Archive)
	}
	rep, err = archive.VerifyFile(ctx, file, nil)
	if err != nil {
		return "", nil, nil, fault.Wrap("submit", file, err)
	}
	if !rep.Good() {
		d := rep.Differences[0]
		return "", nil, nil, fault.New(fault.Refused, "submit", file, fmt.Sprintf("it does not verify: %s %s: %s", d.Path, d.What, d.Why),
			"envask verify names every difference; pack again")
	}
	if rep.Manifest == nil || rep.Manifest.Case != c.Number {
		return "", nil, nil, fault.New(fault.Refused, "submit", file, fmt.Sprintf("it is not an archive of case %s", c.Number),
			"pack again, choose the case with --case, or send it without its case over the routes of an ask with --ask FILE")
	}
	return file, rep, sealed, nil
}

// asAsked refuses an archive that is not what the approved ask demands, unless the engineer sends it incomplete.
func (a *App) asAsked(ctx context.Context, c *casefile.Case, k *ask.Ask, file string, rep *archive.Report, q SubmitRequest) error {
	if m := rep.Manifest; m.AskSHA256 != k.Digest {
		return fault.New(fault.Refused, "submit", file,
			fmt.Sprintf("it was packed by another version of the ask (SHA-256 %s…) than the approved one (%s…)",
				m.AskSHA256[:min(len(m.AskSHA256), ask.MinDigest)], k.Digest[:ask.MinDigest]),
			"pack again, by the approved ask")
	}
	if err := a.mustBeApproved(c, k, rep); err != nil {
		return err
	}
	if err := a.mustBeLookedAt(ctx, c, k, file, rep); err != nil {
		return err
	}
	if q.Incomplete {
		return nil
	}
	return mustBeComplete(c, k, file, rep)
}

// mustBeComplete refuses an archive that lacks something required: evidence, what persons bring, and answers are named at once.
func mustBeComplete(c *casefile.Case, k *ask.Ask, file string, rep *archive.Report) error {
	var lacks, does []string
	if !rep.Complete {
		lacks = append(lacks, "it lacks what the ask requires: "+strings.Join(rep.Lacking, "; "))
		does = append(does, "collect what is missing")
	}
	if open := unanswered(k, rep.Manifest); len(open) > 0 {
		lacks = append(lacks, "the brief lacks what the vendor requires: "+strings.Join(open, "; "))
		does = append(does, "answer it with envask brief and pack again")
	}
	if len(lacks) == 0 {
		return nil
	}
	return fault.New(fault.Refused, "submit", file, strings.Join(lacks, "; "),
		strings.Join(does, ", ")+", or send it as it is with --incomplete")
}

// mustBeEncrypted makes sure at the door that what has to go encrypted does: for all keys that the ask demands, and as the
// engineer wanted it when it was packed, whatever the file is called by now.
func mustBeEncrypted(c *casefile.Case, k *ask.Ask, rep *archive.Report, sealed *sealedRecord) error {
	keys, passphrase := slices.Clone(k.EncryptTo), false
	err := c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindPacked {
			return nil
		}
		var p packedRecord
		if err := json.Unmarshal(r.Data, &p); err != nil {
			return err
		}
		if p.SHA256 == rep.SHA256 { // the last packing of these bytes counts
			keys, passphrase = append(slices.Clone(k.EncryptTo), p.Encrypt...), p.Passphrase
		}
		return nil
	})
	if err != nil {
		return err
	}
	if strings.HasSuffix(rep.Name, plainEnding) && sealed == nil || (len(keys) > 0 || passphrase) && sealed == nil {
		return fault.New(fault.Refused, "submit", rep.Name, "it may only go encrypted, and was not encrypted",
			"run envask pack again: it encrypts the archive")
	}
	if passphrase && sealed.Passphrase {
		return nil
	}
	for _, key := range keys {
		if !slices.Contains(sealed.Recipients, key) {
			return fault.New(fault.Refused, "submit", sealed.Sealed, "it is not encrypted for "+key+", as it has to be",
				"run envask pack again: it encrypts the archive")
		}
	}
	return nil
}

// asSent gives the name and size under which an archive goes, and how it is encrypted.
func asSent(ctx context.Context, c *casefile.Case, rep *archive.Report, sealed *sealedRecord) (name string,
	size int64, how string, err error) {
	if sealed == nil {
		return filepath.Base(rep.Name), rep.Size, "", nil
	}
	sum, err := durable.FileSum(ctx, filepath.Join(c.OutDir(), sealed.Sealed))
	if ctx.Err() != nil {
		return "", 0, "", ctx.Err()
	}
	if err != nil || sum != sealed.SHA256 || sealed.OfSHA256 != rep.SHA256 {
		return "", 0, "", fault.New(fault.Refused, "submit", sealed.Sealed, "it is not what was encrypted", "pack again")
	}
	how = fmt.Sprintf(", encrypted for %d %s", len(sealed.Recipients), plural(len(sealed.Recipients), "key", "keys"))
	if sealed.Passphrase {
		how = ", encrypted by a passphrase"
	}
	return sealed.Sealed, sealed.Size, how, nil
}

// unanswered gives the required questions that the archive has no answer to.
func unanswered(k *ask.Ask, m *archive.Manifest) (open []string) {
	for _, f := range brief.Of(k) {
		if text := m.Answers[f.ID]; f.Required && text == "" && (f.ID != brief.Title || m.Title == "") {
			open = append(open, f.ID+": "+f.Text)
		}
	}
	return open
}

// whereTo names the routes for the last question, and makes sure that they take so much.
func (a *App) whereTo(k *ask.Ask, routes []ask.Route, inTurn bool, file string, size int64) (fit []ask.Route, where string, err error) {
	var to []string
	var small error
	for _, route := range routes {
		limit := route.Limit
		if limit == 0 && submit.ByMail(route.To) {
			limit = submit.DefaultMailLimit
		}
		if limit > 0 && size > limit {
			why := fmt.Sprintf("it has %s; the route %s takes %s at most", humanize.IBytes(uint64(size)), route.Name,
				humanize.IBytes(uint64(limit)))
			small = fault.New(fault.Refused, "submit", file, why, roomier(k, size))
			if !inTurn {
				return nil, "", small
			}
			a.note("route %s is left out: %s", route.Name, why)
			continue
		}
		cover := ""
		if submit.Naked(route.To) {
			cover = ", NOT encrypted on the way"
		}
		fit, to = append(fit, route), append(to, route.To+cover)
	}
	if len(fit) == 0 {
		return nil, "", small
	}
	if len(fit) > 1 && inTurn {
		return fit, strings.Join(to, ", or else "), nil
	}
	return fit, strings.Join(to, " and "), nil
}

// roomier says what to do with an archive that is too large for a route.
func roomier(k *ask.Ask, size int64) string {
	for _, r := range k.Routes {
		if r.Limit == 0 || r.Limit >= size {
			return "the route " + r.Name + " takes it (--route " + r.Name + ")"
		}
	}
	return "split it (envask pack --split), choose a smaller window or a lower depth"
}

// mustBeApproved makes sure that a person has approved the archive, where the ask or the engineer wants that.
func (a *App) mustBeApproved(c *casefile.Case, k *ask.Ask, rep *archive.Report) error {
	pol, err := a.policy(c, k, nil)
	if err != nil || !pol.Approval {
		return err
	}
	by, _, err := approval(c, rep.SHA256)
	if err == nil && by == "" {
		err = fault.New(fault.Refused, "submit", rep.Name, "nobody has approved it, and that is required",
			"look at it with envask review, then envask review --approve")
	}
	return err
}
