package flow

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/dustin/go-humanize"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/seal"
	"envask/internal/submit"
)

// mayGo makes sure that the archive is whole, complete or known not to be, small enough, and that the engineer wants it.
func (a *App) mayGo(c *casefile.Case, k *ask.Ask, routes []ask.Route, q SubmitRequest) (*archive.Report, *sealedRecord, error) {
	file := q.Archive
	if file == "" {
		last, err := lastPacked(c)
		if err != nil {
			return nil, nil, err
		}
		file = last
	}
	var sealed *sealedRecord
	if strings.HasSuffix(file, seal.Ending) {
		var err error
		if sealed, err = sealedBy(c, filepath.Base(file)); err != nil {
			return nil, nil, fault.Wrap("submit", file, err)
		}
		file = filepath.Join(c.OutDir(), sealed.Archive)
	}
	rep, err := archive.VerifyFile(file, nil)
	if err != nil {
		return nil, nil, fault.Wrap("submit", file, err)
	}
	if !rep.Good() {
		d := rep.Differences[0]
		return nil, nil, fault.New(fault.Refused, "submit", file, fmt.Sprintf("it does not verify: %s %s: %s", d.Path, d.What, d.Why), "envask verify names every difference; pack again")
	}
	if rep.Manifest == nil || rep.Manifest.Case != c.Number {
		return nil, nil, fault.New(fault.Refused, "submit", file, fmt.Sprintf("it is not an archive of case %s", c.Number), "pack again, choose the case with --case, or send it without its case over the routes of an ask with --ask FILE")
	}
	if err := a.mustBeApproved(c, k, rep); err != nil {
		return nil, nil, err
	}
	if !rep.Complete && !q.Incomplete {
		return nil, nil, fault.New(fault.Refused, "submit", file, "it lacks what the ask requires: "+strings.Join(rep.Lacking, "; "), "collect what is missing, or send it as it is with --incomplete")
	}
	if open := unanswered(k, rep.Manifest); len(open) > 0 && !q.Incomplete {
		return nil, nil, fault.New(fault.Refused, "submit", file, "the brief lacks what the vendor requires: "+strings.Join(open, "; "), "answer it with envask open "+c.Name+" --answer ID=TEXT and pack again, or send it as it is with --incomplete")
	}
	if sealed == nil {
		if sealed, err = sealedOf(c, rep.SHA256, false); err != nil {
			return nil, nil, err
		}
	}
	name, size, how, err := asSent(c, rep, sealed)
	if err != nil {
		return nil, nil, err
	}
	_, parts, err := parcels(c, rep, sealed)
	if err != nil {
		return nil, nil, err
	}
	most := int64(0)
	for _, p := range parts {
		most = max(most, p.Size)
	}
	if n := len(parts) - 1; n > 0 {
		how += fmt.Sprintf(", in %d parts", n)
	}
	to, err := whereTo(k, routes, file, most)
	if err != nil {
		return nil, nil, err
	}
	if q.Confirm == nil {
		return nil, nil, fault.New(fault.Refused, "submit", file, "nobody can be asked whether to send it", "give --yes")
	}
	yes, err := q.Confirm(fmt.Sprintf("Send %s (%s%s) to %s?", name, humanize.IBytes(uint64(size)), how, to))
	if err != nil {
		return nil, nil, err
	}
	if !yes {
		return nil, nil, fault.New(fault.Refused, "submit", file, "not sent, as you said", "")
	}
	return rep, sealed, nil
}

// asSent gives the name and size under which an archive goes, and how it is encrypted.
func asSent(c *casefile.Case, rep *archive.Report, sealed *sealedRecord) (name string, size int64, how string, err error) {
	if sealed == nil {
		return filepath.Base(rep.Name), rep.Size, "", nil
	}
	sum, err := durable.FileSum(filepath.Join(c.OutDir(), sealed.Sealed))
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
	for _, q := range k.Questions {
		if q.Required && m.Answers[q.ID] == "" {
			open = append(open, q.ID+": "+q.Text)
		}
	}
	return open
}

// whereTo names the routes for the last question, and makes sure that they take so much.
func whereTo(k *ask.Ask, routes []ask.Route, file string, size int64) (string, error) {
	var to []string
	for _, route := range routes {
		if route.Limit > 0 && size > route.Limit {
			return "", fault.New(fault.Refused, "submit", file, fmt.Sprintf("it has %s; the route %s takes %s at most", humanize.IBytes(uint64(size)), route.Name, humanize.IBytes(uint64(route.Limit))), roomier(k, size))
		}
		cover := ""
		if submit.Naked(route.To) {
			cover = ", NOT encrypted on the way"
		}
		to = append(to, route.To+cover)
	}
	if len(routes) > 1 && k.RoutesInTurn {
		return strings.Join(to, ", or else "), nil
	}
	return strings.Join(to, " and "), nil
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
		err = fault.New(fault.Refused, "submit", rep.Name, "nobody has approved it, and that is required", "look at it with envask review, then envask review --approve")
	}
	return err
}
