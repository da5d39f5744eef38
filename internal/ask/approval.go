package ask

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/durable"
)

// Sheet is the approval sheet: everything that the ask would do, line by line.
func (a *Ask) Sheet() []string {
	lines := []string{fmt.Sprintf("ask %s of %s", a.Name, a.Vendor), readsClocks, readsMore}
	if !a.NoVitals {
		lines = append(lines, readsVitals)
	}
	for _, v := range a.Values {
		lines = append(lines, v.sheet())
	}
	for _, name := range slices.Sorted(maps.Keys(a.Devices)) {
		lines = append(lines, a.Devices[name].Sheet()...)
	}
	for _, m := range a.Members {
		lines = append(lines, m.sheet())
	}
	for _, it := range a.Items {
		of := "every system"
		if len(it.Of) > 0 {
			of = "role " + strings.Join(it.Of, ", role ")
		}
		if it.OfCase {
			of = "the case as a whole"
		}
		from := ""
		if it.Depth > Standard {
			from = ", only at depth " + it.Depth.String()
		}
		if it.Together != "" {
			from += ", twice (group " + it.Together + ")"
		}
		switch {
		case it.ElevatedIfGiven:
			from += ", WITH THE SYSTEM'S ELEVATION if it has one"
		case it.Elevated:
			from += ", WITH THE SYSTEM'S ELEVATION"
		}
		for _, n := range it.Needs {
			if l := n.Sheet(); l != "" {
				lines = append(lines, fmt.Sprintf("item %s, of %s%s: %s", it.ID, of, from, l))
			}
		}
		for _, l := range append(it.orderSheet(), it.Spec.Sheet()...) {
			lines = append(lines, fmt.Sprintf("item %s, of %s%s: %s", it.ID, of, from, l))
		}
	}
	for _, q := range a.Questions {
		if q.Disclose {
			lines = append(lines, "redaction: weaker: names, addresses and numbers in the answer to question "+q.ID+
				" stay readable wherever they stand")
		}
	}
	if a.Redaction != nil {
		lines = append(lines, a.Redaction.Sheet()...)
	}
	for _, k := range a.EncryptTo {
		lines = append(lines, "archive: encrypt it for the owner of "+k)
	}
	for _, r := range a.Routes {
		lines = append(lines, fmt.Sprintf("route %s: send the archive to %s", r.Name, r.To))
		for _, k := range slices.Sorted(maps.Keys(r.Fields)) {
			lines = append(lines, fmt.Sprintf("route %s: with it the field %s: %s", r.Name, k, r.Fields[k]))
		}
		if r.Subject != "" {
			lines = append(lines, fmt.Sprintf("route %s: with the subject: %s", r.Name, r.Subject))
		}
	}
	if a.RoutesInTurn {
		lines = append(lines, "routes: one after the other, until one takes it")
	}
	if len(a.Routes) == 0 {
		lines = append(lines, "no route: it sends nothing by itself")
	}
	return append(lines, "redaction: these words stay readable wherever they stand, even where they turn up as a name or a secret: "+
		strings.Join(a.Words(), ", "))
}

// Words are the texts of an ask that stand in every archive as they are: who made it, and what its items, groups and questions
// are called. Redaction cannot remove them everywhere, so the sheet lists them.
func (a *Ask) Words() []string {
	words := []string{a.Name, a.Vendor}
	for _, it := range a.Items {
		words = append(words, it.ID)
	}
	for _, g := range a.Groups {
		words = append(words, g.Name, g.Why)
	}
	for _, v := range a.Values {
		words = append(words, v.ID)
	}
	for _, q := range a.Questions {
		words = append(words, q.ID, q.Text)
	}
	return slices.DeleteFunc(words, func(w string) bool { return w == "" })
}

// readsClocks is what every collection does, whatever an ask names.
const readsClocks = "every system reached by ssh: read its clock, its zone, and whether it is synchronised (date, timedatectl, chronyc " +
	"or ntpq); on slow links read files through tail, head and gzip"

// readsMore is what a system's entry in the systems file allows.
const readsMore = "a system whose entry has elevate: files that its account may not read are read with it, and nothing else but items " +
	"that say elevated"

// readsVitals is what is read of every system unless the ask says vitals: no.
const readsVitals = "every system: read its basic state (version, kernel, uptime, load, memory, disks, addresses, time, names of the " +
	"busiest processes, packages changed lately)"

// short writes a length of time without zeros at its end: 5m, 1h.
func short(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// Change is one line of a sheet that came or went since the version approved last.
type Change struct {
	Added bool
	Line  string
}

// CompareSheets gives the lines that went and those that came, in the order of the sheets.
func CompareSheets(before, after []string) []Change {
	in := func(lines []string) map[string]bool {
		m := map[string]bool{}
		for _, l := range lines {
			m[l] = true
		}
		return m
	}
	var out []Change
	now := in(after)
	for _, l := range before {
		if !now[l] {
			out = append(out, Change{Line: l})
		}
	}
	was := in(before)
	for _, l := range after {
		if !was[l] {
			out = append(out, Change{Added: true, Line: l})
		}
	}
	return out
}

// Approval is one recorded yes, bound to the bytes of the ask.
type Approval struct {
	Ask    string    `json:"ask"`
	Vendor string    `json:"vendor"`
	Digest string    `json:"digest"` // SHA-256 in hex
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// Approvals is the folder in which yeses are kept, each with a copy of the ask it was given to.
type Approvals struct{ Dir string }

// Get gives the approval of exactly these bytes; ok is false when there is none.
func (s Approvals) Get(a *Ask) (Approval, bool, error) {
	return s.read(a.Digest)
}

func (s Approvals) read(digest string) (Approval, bool, error) {
	data, err := os.ReadFile(filepath.Join(s.Dir, digest+".json"))
	if errors.Is(err, fs.ErrNotExist) {
		return Approval{}, false, nil
	}
	if err != nil {
		return Approval{}, false, err
	}
	var ap Approval
	if json.Unmarshal(data, &ap) != nil || ap.Digest != digest {
		// What cannot be read is no approval: it is set aside, and asked for again.
		return Approval{}, false, os.Rename(filepath.Join(s.Dir, digest+".json"), filepath.Join(s.Dir, digest+".unreadable"))
	}
	return ap, true, nil
}

// Last gives the version of the same ask (by name and vendor) that was approved last, or nil.
func (s Approvals) Last(a *Ask) (*Ask, Approval, error) {
	entries, err := os.ReadDir(s.Dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, Approval{}, err
	}
	var last Approval
	for _, e := range entries {
		digest, ok := strings.CutSuffix(e.Name(), ".json")
		if !ok || len(digest) != 64 {
			continue
		}
		ap, ok, err := s.read(digest)
		if err != nil || !ok || ap.Ask != a.Name || ap.Vendor != a.Vendor || ap.Digest == a.Digest {
			continue // an unreadable approval counts as none, which is the safe side
		}
		if ap.At.After(last.At) {
			last = ap
		}
	}
	if last.Digest == "" {
		return nil, Approval{}, nil
	}
	old, err := Load(filepath.Join(s.Dir, last.Digest+".yaml"))
	if err != nil {
		return nil, Approval{}, nil // the copy is gone or of an older form: nothing to compare with
	}
	return old, last, nil
}

// Put records a yes. The copy of the ask is written first: an approval without its text would prove nothing.
func (s Approvals) Put(a *Ask, by string, at time.Time) (Approval, error) {
	ap := Approval{Ask: a.Name, Vendor: a.Vendor, Digest: a.Digest, By: by, At: at.UTC().Truncate(time.Second)}
	if err := os.MkdirAll(s.Dir, 0o700); err != nil {
		return ap, err
	}
	if err := durable.WriteFile(filepath.Join(s.Dir, a.Digest+".yaml"), a.Data, 0o600); err != nil {
		return ap, err
	}
	data, err := json.MarshalIndent(ap, "", "  ")
	if err != nil {
		return ap, err
	}
	return ap, durable.WriteFile(filepath.Join(s.Dir, a.Digest+".json"), append(data, '\n'), 0o600)
}

// MinDigest is how many digits of the SHA-256 a script must give to approve an ask.
const MinDigest = 12

// MatchDigest says whether the digits that a script gave name this ask.
func (a *Ask) MatchDigest(given string) error {
	g := strings.ToLower(strings.TrimSpace(given))
	if len(g) < MinDigest {
		return fmt.Errorf("%q is too short: give at least the first %d digits of the SHA-256", given, MinDigest)
	}
	if !strings.HasPrefix(a.Digest, g) {
		return fmt.Errorf("the file's SHA-256 begins with %s, not with %s: this is not the ask you mean", a.Digest[:MinDigest], g)
	}
	return nil
}
