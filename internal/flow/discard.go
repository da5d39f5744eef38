package flow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/keyfile"
	"envask/internal/late"
	"envask/internal/round"
	"envask/internal/seal"
	"envask/internal/submit"
)

// Retention is how long what was sent is kept, as the engineer says in tidy.yaml in the home.
type Retention struct {
	Raw      time.Duration // raw evidence, since its archive was sent
	Archives time.Duration // archives, since they were sent
	Forever  bool          // archives are kept for ever
}

// RetentionFile is its name in the home.
const RetentionFile = "tidy.yaml"

var daysText = late.Pattern(`^([0-9]{1,5}) days?$`)

// LoadRetention reads tidy.yaml; without the file raw evidence may go once it was sent, and archives stay.
func LoadRetention(home string) (r Retention, err error) {
	file := filepath.Join(home, RetentionFile)
	data, err := keyfile.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return Retention{Forever: true}, nil
	}
	if err != nil {
		return r, fault.Wrap("read", file, err)
	}
	f, m := keyfile.Parse(file, data)
	days := func(key string) time.Duration {
		v := m.Value(key)
		if !v.Set() {
			return 0
		}
		n := daysText().FindStringSubmatch(v.Text)
		if n == nil {
			v.Problem("%s: expected a number of days, such as 30 days, found %q", key, v.Text)
			return 0
		}
		count, _ := strconv.Atoi(n[1]) // five digits always are a number
		return time.Duration(count) * 24 * time.Hour
	}
	r.Forever = !m.Has("keep-archives")
	r.Raw, r.Archives = days("keep-raw"), days("keep-archives")
	m.Done()
	if err := f.Err(); err != nil {
		return r, &fault.Error{Class: fault.Usage, Err: err}
	}
	return r, nil
}

// Discard is something of a case that takes room here.
type Discard struct {
	Case   string    `json:"case"`
	What   string    `json:"what"`            // "raw evidence", "archive", …
	Round  string    `json:"round,omitempty"` // of raw evidence
	Name   string    `json:"name,omitempty"`  // of an archive
	Since  time.Time `json:"since,omitzero"`  // when it was sent, or made
	Files  int       `json:"files"`
	Bytes  int64     `json:"bytes"`
	Why    string    `json:"why"`              // why it goes, or why it stays
	Goes   bool      `json:"goes"`             // tidy removes it
	Unsent bool      `json:"unsent,omitempty"` // nothing proves that it arrived anywhere
	Done   bool      `json:"removed"`

	paths []string
	thin  bool // only a part of the round's evidence goes
}

// TidyRequest says what may go.
type TidyRequest struct {
	Unsent    bool // also raw evidence that was not sent or whose delivery was not verified
	Baselines bool // also raw evidence of baselines
	Accept    map[string]string
}

// Discards lists what takes room in a case: first what goes, the largest first, then what stays, with the reasons.
func (a *App) Discards(c *casefile.Case, q TidyRequest) ([]Discard, error) {
	keep, err := LoadRetention(a.Home.Dir)
	if err != nil {
		return nil, err
	}
	v, err := a.ShowCase(c)
	if err != nil {
		return nil, err
	}
	rounds, err := round.List(c)
	if err != nil {
		return nil, fault.Wrap("read the rounds", c.Name, err)
	}
	out := []Discard{}
	for _, r := range rounds {
		d, err := a.rawOf(c, v, r, keep, q)
		if err != nil {
			return nil, fault.Wrap("look at", c.RoundDir(r.ID), err)
		}
		list := []Discard{d}
		if d.Goes && r.Discarded.IsZero() && !q.Unsent {
			if list, err = onlyWhatWasSent(c, v, r, d); err != nil {
				return nil, fault.Wrap("look at", c.RoundDir(r.ID), err)
			}
		}
		for _, d := range list {
			if d.Files > 0 {
				out = append(out, d)
			}
		}
	}
	more, err := a.archivesOf(c, v, keep)
	if err != nil {
		return nil, fault.Wrap("look at", c.OutDir(), err)
	}
	out = append(out, more...)
	slices.SortStableFunc(out, func(a, b Discard) int {
		if a.Goes != b.Goes {
			if a.Goes {
				return -1
			}
			return 1
		}
		return cmp.Compare(b.Bytes, a.Bytes)
	})
	return out, nil
}

// sentOf gives when something of a case was last sent, and whether it is proved to have arrived.
func (v *CaseView) sentOf(about func(ArchiveView) bool) (last *submit.Receipt) {
	for i := range v.Receipts {
		r := &v.Receipts[i]
		_, sum := r.Plain()
		if r.Handed || !slices.ContainsFunc(v.Archives, func(x ArchiveView) bool { return x.SHA256 == sum && about(x) }) {
			continue
		}
		if last == nil || r.Settled() || !last.Settled() && r.Finished.After(last.Finished) {
			last = r
		}
	}
	return last
}

// overRoute says how something was sent.
func overRoute(r *submit.Receipt) string {
	if r.ByHand != "" {
		return "handed over by hand: a person's word is the proof"
	}
	return "sent over " + r.Route
}

// notSent says why something counts as not sent: nobody tells us when a person hands over what is ready.
func (v *CaseView) notSent(about func(ArchiveView) bool) string {
	for _, r := range v.Receipts {
		_, sum := r.Plain()
		if r.Handed && slices.ContainsFunc(v.Archives, func(x ArchiveView) bool { return x.SHA256 == sum && about(x) }) {
			return "it is ready to hand over for " + r.Route + "; whether it was handed over is unknown"
		}
	}
	return "it was not sent"
}

func (a *App) rawOf(c *casefile.Case, v *CaseView, r *round.Round, keep Retention, q TidyRequest) (Discard, error) {
	d := Discard{Case: c.Name, What: "raw evidence", Round: r.ID, Since: r.Started,
		paths: []string{r.RawDir(), filepath.Join(r.Dir(), "part"), filepath.Join(r.Dir(), arrivedFile)}}
	var err error
	if d.Files, d.Bytes, err = sizeOf(d.paths); err != nil {
		return d, err
	}
	sent := v.sentOf(func(x ArchiveView) bool { return slices.Contains(strings.Split(x.Round, ","), r.ID) })
	if sent != nil {
		d.Since = sent.Finished
	}
	d.Unsent = sent == nil || !sent.Settled()
	age := a.Now().Sub(d.Since)
	switch {
	case !r.Discarded.IsZero(): // an earlier tidy was interrupted
		d.Goes, d.Why = true, "an earlier tidy began to remove it"
	case !r.Finished():
		d.Why = "the round is unfinished; envask collect resumes it"
	case r.Baseline && !q.Baselines:
		d.Why = "it is a baseline; --baselines removes it"
	case sent == nil && !q.Unsent:
		d.Why = v.notSent(func(x ArchiveView) bool { return slices.Contains(x.rounds(), r.ID) }) + "; --unsent removes it"
	case sent != nil && !sent.Settled() && !q.Unsent:
		d.Why = "it was sent without proof that all of it arrived; --unsent removes it"
	case sent != nil && age < keep.Raw:
		d.Why = fmt.Sprintf("it was sent %s; %s keeps it %d days", humanize.RelTime(d.Since, a.Now(), "ago", "from now"),
			RetentionFile, int(keep.Raw.Hours()/24))
	case sent == nil:
		d.Goes, d.Why = true, "it was not sent, and you said so"
	default:
		d.Goes, d.Why = true, overRoute(sent)
	}
	return d, nil
}

// onlyWhatWasSent splits the raw evidence of a round that was sent: what the archives hold that are proved to have arrived goes, what
// stayed out of them stays (opaque files, what was left out or refused).
func onlyWhatWasSent(c *casefile.Case, v *CaseView, r *round.Round, all Discard) ([]Discard, error) {
	arrived, err := arrivedEvidence(c, v, func(x *submit.Receipt) bool { return x.Settled() })
	if err != nil {
		return nil, err
	}
	goes, stays := all, all
	stays.Unsent = true
	goes.thin, goes.paths, stays.Goes, stays.paths = true, []string{filepath.Join(r.Dir(), "part")}, false, nil
	items := map[string]int{}
	sessions := map[string]bool{} // as they came: whether one stays, since something of it was not sent
	err = r.Entries(func(e round.Entry) error {
		if e.Name == "" {
			return nil
		}
		if ran := e.Command; ran != nil && ran.Session != "" {
			session := filepath.Join(r.RawDir(), e.System, filepath.FromSlash(ran.Session))
			sessions[session] = sessions[session] || !arrived[placeOf(e.System, e.Name, e.SHA256)]
		}
		path := filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name))
		if arrived[placeOf(e.System, e.Name, e.SHA256)] {
			goes.paths = append(goes.paths, path)
		} else {
			stays.paths = append(stays.paths, path)
			items[e.Item]++
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(stays.paths) == 0 {
		return []Discard{all}, nil
	}
	for session, stay := range sessions {
		if stay {
			stays.paths = append(stays.paths, session)
		} else {
			goes.paths = append(goes.paths, session)
		}
	}
	var names []string
	for item, n := range items {
		names = append(names, fmt.Sprintf("%s: %d", item, n))
	}
	slices.Sort(names)
	stays.Why = fmt.Sprintf("not in any archive that was sent (%s); --unsent removes it", strings.Join(names, ", "))
	goes.Why += "; what the archive does not hold stays"
	for _, d := range []*Discard{&goes, &stays} {
		if d.Files, d.Bytes, err = sizeOf(d.paths); err != nil {
			return nil, err
		}
	}
	return []Discard{goes, stays}, nil
}

// archivesOf lists the files of out/: archives with all that belongs to them, and what packing left behind.
func (a *App) archivesOf(c *casefile.Case, v *CaseView, keep Retention) ([]Discard, error) {
	entries, err := os.ReadDir(c.OutDir())
	if err != nil {
		return nil, err
	}
	var out []Discard
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), unfinished) {
			d := Discard{Case: c.Name, What: "leftover of an interrupted pack", Name: e.Name(), Goes: true, Why: "packing was interrupted",
				paths: []string{filepath.Join(c.OutDir(), e.Name())}}
			if d.Files, d.Bytes, err = sizeOf(d.paths); err != nil {
				return nil, err
			}
			out = append(out, d)
		}
	}
	for _, x := range v.Archives {
		d := Discard{Case: c.Name, What: "archive", Name: x.Name, Since: x.Packed}
		for _, e := range entries {
			if belongsTo(e.Name(), x.Name) {
				d.paths = append(d.paths, filepath.Join(c.OutDir(), e.Name()))
			}
		}
		if d.Files, d.Bytes, err = sizeOf(d.paths); err != nil {
			return nil, err
		}
		if d.Files == 0 {
			continue
		}
		sent := v.sentOf(func(o ArchiveView) bool { return o.SHA256 == x.SHA256 })
		if sent != nil {
			d.Since = sent.Finished
		}
		d.Unsent = sent == nil || !sent.Settled()
		switch age := a.Now().Sub(d.Since); {
		case sent == nil:
			d.Why = v.notSent(func(o ArchiveView) bool { return o.SHA256 == x.SHA256 })
		case !sent.Settled():
			d.Why = "it was sent without proof that all of it arrived"
		case keep.Forever:
			d.Why = "archives are kept; keep-archives in " + RetentionFile + " limits that"
		case age < keep.Archives:
			d.Why = fmt.Sprintf("%s keeps it %d days", RetentionFile, int(keep.Archives.Hours()/24))
		default:
			d.Goes, d.Why = true, fmt.Sprintf("%s; %s keeps it %d days", overRoute(sent), RetentionFile, int(keep.Archives.Hours()/24))
		}
		out = append(out, d)
	}
	return out, nil
}

// belongsTo says whether a file of out/ is an archive, or one of those beside it: encrypted, in parts, what review and carrying
// need. Receipts are no part of it: they stay.
func belongsTo(name, archiveName string) bool {
	if name == archiveName {
		return true
	}
	rest, ok := strings.CutPrefix(name, strings.TrimSuffix(archiveName, plainEnding))
	if !ok {
		return false
	}
	rest = strings.TrimPrefix(rest, plainEnding)
	rest = strings.TrimPrefix(rest, seal.Ending)
	return rest == "" || rest == ".carry.json" || rest == ".review.json" || rest == ".how-to-open.txt" || rest == ".how-to-join.txt" ||
		partEnding().MatchString(rest)
}

var partEnding = late.Pattern(`^\.[0-9]{3,}$`)

// sizeOf counts the files below some paths, and their bytes; what is not there counts nothing.
func sizeOf(paths []string) (files int, bytes int64, err error) {
	for _, p := range paths {
		err := filepath.WalkDir(p, func(_ string, e fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil {
				return err
			}
			if e.Type().IsRegular() {
				info, err := e.Info()
				if err != nil {
					return err
				}
				files++
				bytes += info.Size()
			}
			return nil
		})
		if err != nil {
			return 0, 0, err
		}
	}
	return files, bytes, nil
}

// RemoveDiscards removes what goes, and gives how many bytes that frees. What a round took stays known; only the bytes go.
func (a *App) RemoveDiscards(ctx context.Context, c *casefile.Case, list []Discard) (freed int64, err error) {
	w, err := a.writeToFree(c)
	if err != nil {
		return 0, err
	}
	defer w.Close()
	for i := range list {
		d := &list[i]
		if !d.Goes || d.Case != c.Name {
			continue
		}
		if ctx.Err() != nil {
			return freed, &fault.Error{Class: fault.Interrupted, Op: "tidy", Err: errors.New("interrupted")}
		}
		if d.Round != "" { // known before the first byte goes: half a round must never look like a whole one
			r, err := round.Load(c, d.Round)
			switch {
			case err != nil:
			case d.thin:
				err = r.MarkThinned(a.Now())
			default:
				err = r.MarkDiscarded(a.Now())
			}
			if err != nil {
				return freed, fault.Wrap("tidy", d.Round, err)
			}
		}
		for _, p := range d.paths {
			durable.Point("before something goes")
			if err := durable.RemoveAll(p); err != nil {
				return freed, fault.Wrap("remove", p, err)
			}
		}
		d.Done = true
		freed += d.Bytes
		if err := w.Ledger.Append(kindDiscarded, d); err != nil {
			return freed, fault.Wrap("write the ledger", "", err)
		}
	}
	return freed, nil
}
