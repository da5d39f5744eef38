package flow

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"sync"

	"github.com/go-json-experiment/json/v1"
	"go.yaml.in/yaml/v4"

	"envask/internal/archive"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/policy"
	"envask/internal/redact"
	"envask/internal/redact/prove"
	"envask/internal/round"
)

// reviewRecord is what packing keeps for the review of an archive, beside it: no original, but where each sample stands in
// the evidence.
type reviewRecord struct {
	SHA256  string          `json:"sha256"` // of the archive
	Round   string          `json:"round"`
	Learned map[string]int  `json:"learned"` // values, by rule
	Values  []ReviewedValue `json:"values"`
	Samples []ReviewSample  `json:"samples"`
	Unread  []string        `json:"unread"` // what could not be read and stays behind
	AsIs    []string        `json:"as_is"`  // files that stay as they are, on the engineer's word
	Weaker  []string        `json:"weaker"` // what takes less out than the rules alone
	Proof   prove.Proof     `json:"proof"`
	// Pictures go as they are but for what the camera wrote: only a person can say what they show.
	Pictures []ReviewedPicture `json:"pictures,omitempty"`
}

// ReviewedPicture is a picture in an archive.
type ReviewedPicture struct {
	File     string `json:"file"`   // in the archive
	Path     string `json:"path"`   // of the evidence, to look at
	SHA256   string `json:"sha256"` // as it leaves
	LookedBy string `json:"looked_by,omitempty"`
	LookedAt string `json:"looked_at,omitempty"`
}

// ReviewSample is one replaced place in one file of the archive.
type ReviewSample struct {
	File   string `json:"file"` // in the archive
	Round  string `json:"round"`
	System string `json:"system"`
	Piece  string `json:"piece"` // stands for the evidence that it is in, see pieceID: names of files can be secrets
	redact.Sample
	Original string `json:"original,omitempty"` // only when asked for
	Masked   string `json:"-"`                  // why it was not to be had then
}

// pieceID stands for a piece of evidence outside of its round.
func pieceID(e round.Entry) string {
	sum := sha256.Sum256([]byte(e.System + "\x00" + e.Item + "\x00" + e.Name))
	return hex.EncodeToString(sum[:12])
}

// samplesPerRule bounds how many samples of one rule are kept.
const samplesPerRule = 24

// sampling collects samples from the workers.
type sampling struct {
	mu  sync.Mutex
	all map[string][]ReviewSample // by rule
}

func (s *sampling) take(x *piece, sample redact.Sample) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all == nil {
		s.all = map[string][]ReviewSample{}
	}
	s.all[sample.Rule] = append(s.all[sample.Rule], ReviewSample{File: x.Path, Round: x.Round, System: x.Entry.System,
		Piece: pieceID(x.Entry), Sample: sample})
	if len(s.all[sample.Rule]) >= 4*samplesPerRule {
		s.thin(sample.Rule)
	}
}

// thin keeps the first samples in the order of files, whatever order they came in.
func (s *sampling) thin(rule string) {
	list := s.all[rule]
	sort.SliceStable(list, func(i, j int) bool {
		if list[i].File != list[j].File {
			return list[i].File < list[j].File
		}
		return list[i].Offset < list[j].Offset
	})
	s.all[rule] = list[:min(len(list), samplesPerRule)]
}

func (s *sampling) list() []ReviewSample {
	out := []ReviewSample{}
	var rules []string
	for r := range s.all {
		rules = append(rules, r)
	}
	sort.Strings(rules)
	for _, r := range rules {
		s.thin(r)
		out = append(out, s.all[r]...)
	}
	return out
}

func reviewFile(archiveFile string) string { return archiveFile + ".review.json" }

// saveReview writes down what a review needs.
func (w *writing) saveReview(out *Packed) error {
	rec := reviewRecord{SHA256: out.SHA256, Round: out.Round, Learned: map[string]int{}, Samples: w.rules.samples.list(),
		Unread: []string{}, AsIs: append([]string{}, out.asIs...), Weaker: []string{}, Proof: w.rules.proof, Pictures: out.looks}
	e := w.rules.engine()
	for _, u := range out.OpaqueOut { // as the manifest says it: with aliases
		rec.Unread = append(rec.Unread, e.String(u))
	}
	rec.Weaker = append(rec.Weaker, w.rules.weaker(e)...)
	for _, v := range w.rules.learned.Values() {
		rec.Learned[v.Rule]++
	}
	rec.Values = w.rules.tally.list(w.rules.learned)
	data, err := json.MarshalIndent(rec, "", " ")
	if err != nil {
		return err
	}
	return durable.WriteFile(reviewFile(out.Archive), append(data, '\n'), 0o600)
}

// Review is what a person looks at before an archive goes.
type Review struct {
	Archive   string          `json:"archive"`
	SHA256    string          `json:"sha256"`
	Round     string          `json:"round"`
	Findings  redact.Counts   `json:"findings"` // replaced, by rule
	Files     []ReviewedFile  `json:"files"`    // those with findings
	Samples   []ReviewSample  `json:"samples"`
	Learned   map[string]int  `json:"learned"`
	Values    []ReviewedValue `json:"values"`    // learned, and found but left elsewhere
	Disclosed map[string]int  `json:"disclosed"` // left on purpose, by kind
	Weaker    []string        `json:"weaker"`
	AsIs      []string        `json:"as_is"`
	OpaqueIn  []string        `json:"opaque_in"` // unread, in the archive
	// learned values in files that nobody redacted, on the engineer's word
	StillThere []archive.StillThere `json:"values_still_there,omitempty"`
	OpaqueOut  []string             `json:"opaque_out"` // unread, left behind
	Suspects   []ReviewedSuspect    `json:"suspects"`
	MoreThan   bool                 `json:"more_suspects"` // there are more of them than are listed
	Proof      prove.Proof          `json:"proof"`
	ApprovedBy string               `json:"approved_by,omitempty"`
	ApprovedAt string               `json:"approved_at,omitempty"`
	Required   bool                 `json:"approval_required"`
	Pictures   []ReviewedPicture    `json:"pictures"`
	MustLook   bool                 `json:"pictures_must_be_looked_at"`
}

// ReviewedFile is one file of the archive with what was replaced in it.
type ReviewedFile struct {
	Path     string        `json:"path"`
	Findings redact.Counts `json:"findings"`
}

// ReviewedSuspect is a value in the archive that no rule took, for a person to decide on.
type ReviewedSuspect struct {
	Number int    `json:"number"`
	File   string `json:"file"`
	Offset int64  `json:"offset"`
	Key    string `json:"key,omitempty"`
	Text   string `json:"text"` // masked, unless asked for
	Why    string `json:"why"`
	Places int    `json:"places"`
	value  string
}

// maxSuspects bounds how many are listed.
const maxSuspects = 60

// ReviewRequest says what to look at.
type ReviewRequest struct {
	Archive string // path; "" is the one packed last
	Unmask  bool   // show originals
}

// Review gives what redaction did to an archive, and what it left. The archive itself is read for it.
func (a *App) Review(ctx context.Context, c *casefile.Case, q ReviewRequest) (*Review, error) {
	file, rec, err := a.reviewRecord(c, q.Archive)
	if err != nil {
		return nil, err
	}
	k, err := a.approvedAsk(c)
	if err != nil {
		return nil, err
	}
	pol, err := a.policy(c, k, nil)
	if err != nil {
		return nil, err
	}
	v := &Review{Archive: file, Round: rec.Round, Samples: rec.Samples, Learned: rec.Learned, Values: rec.Values, Weaker: rec.Weaker,
		AsIs: rec.AsIs, OpaqueOut: rec.Unread,
		Proof: rec.Proof, Required: pol.Approval, Suspects: []ReviewedSuspect{}, Files: []ReviewedFile{}}
	v.MustLook = pol.Pictures
	if v.Pictures, err = looked(c, rec.Pictures); err != nil {
		return nil, fault.Wrap("read the ledger", c.Name, err)
	}
	decided, err := a.decisions(c)
	if err != nil {
		return nil, err
	}
	byValue := map[string]int{}
	rep, err := archive.Verify(ctx, file, archive.Look{
		Inspect: func(name string, r io.Reader) error {
			if !archive.IsEvidence(name) {
				return nil
			}
			return prove.FindSuspects(r, func(s prove.Suspect) bool { return v.suspect(name, s, byValue, decided) })
		},
		File: func(f *archive.File) {
			if f.Findings.Total() > 0 {
				v.Files = append(v.Files, ReviewedFile{f.Path, f.Findings})
			}
		},
		Again: func() { v.Files = nil },
	})
	if err != nil {
		return nil, fault.Wrap("review", file, err)
	}
	if !rep.Good() || rep.SHA256 != rec.SHA256 || rep.Manifest == nil {
		return nil, fault.New(fault.Refused, "review", file, "it is not the archive that was packed", "pack again")
	}
	v.SHA256, v.Findings, v.Disclosed, v.OpaqueIn = rep.SHA256, rep.Manifest.Redaction.Findings, rep.Manifest.Redaction.Disclosed,
		rep.Manifest.Redaction.Opaque
	v.StillThere = rep.Manifest.Redaction.StillThere
	sort.SliceStable(v.Files, func(i, j int) bool { return v.Files[i].Findings.Total() > v.Files[j].Findings.Total() })
	for i := range v.Suspects {
		if v.Suspects[i].Text = v.Suspects[i].value; !q.Unmask {
			v.Suspects[i].Text = prove.Mask(len(v.Suspects[i].value))
		}
	}
	files := rawFiles(c, v.Round)
	v.readValues(files, q.Unmask)
	if q.Unmask {
		v.unmask(files)
	}
	v.ApprovedBy, v.ApprovedAt, err = approval(c, rep.SHA256)
	return v, err
}

func (v *Review) suspect(name string, s prove.Suspect, byValue map[string]int, decided []string) bool {
	if i, known := byValue[s.Text]; known {
		v.Suspects[i].Places++
		return true
	}
	if slices.Contains(decided, s.Text) {
		return true
	}
	if len(v.Suspects) >= maxSuspects {
		v.MoreThan = true
		return false
	}
	byValue[s.Text] = len(v.Suspects)
	v.Suspects = append(v.Suspects, ReviewedSuspect{Number: len(v.Suspects) + 1, File: name, Offset: s.Offset, Key: s.Key, Why: s.Why,
		Places: 1, value: s.Text})
	return true
}

// unmask reads the originals of the samples from the evidence, as far as that is still there.
func (v *Review) unmask(files map[string]string) {
	for i := range v.Samples {
		s := &v.Samples[i]
		if s.Form != "" {
			s.Masked = fmt.Sprintf("it stands within a %s file", s.Form)
			continue
		}
		if s.Length > redact.MaxLearned {
			s.Masked = "it is too long"
			continue
		}
		s.Original, s.Masked = original(files[orElse(s.Round, v.Round)+s.Piece], s.Offset, s.Length)
	}
}

// reviewRecord reads what packing kept about an archive.
func (a *App) reviewRecord(c *casefile.Case, file string) (string, *reviewRecord, error) {
	if file == "" {
		last, err := lastPacked(c, "review")
		if err != nil {
			return "", nil, err
		}
		file = last
	}
	data, err := os.ReadFile(reviewFile(file))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil, fault.New(fault.Usage, "review", file, "nothing is known of how it was packed",
			"review an archive of this case, where it was packed")
	}
	if err != nil {
		return "", nil, fault.Wrap("review", file, err)
	}
	rec := &reviewRecord{}
	if err := json.Unmarshal(data, rec); err != nil {
		return "", nil, fault.Wrap("review", reviewFile(file), err)
	}
	if rec.Values == nil {
		rec.Values = []ReviewedValue{}
	}
	if rec.Proof.Caught == 0 && len(rec.Proof.Missed) == 0 { // of a time when only the sum was kept, and nothing was packed that missed one
		rec.Proof.Caught = rec.Proof.Notations
	}
	return file, rec, nil
}

// decisions gives the values that the engineer has decided on in this case.
func (a *App) decisions(c *casefile.Case) ([]string, error) {
	p, err := loadPolicy(filepath.Join(c.Dir, policy.FileName))
	if err != nil {
		return nil, err
	}
	return append(append([]string{}, p.Never...), p.Disclosed...), nil
}

// ApproveArchive records that a person has looked at an archive and stands for it.
func (a *App) ApproveArchive(c *casefile.Case, v *Review) error {
	w, err := a.write(c)
	if err != nil {
		return err
	}
	defer w.Close()
	if v.ApprovedBy != "" {
		return nil
	}
	v.ApprovedBy, v.ApprovedAt = a.Who, a.Now().Format("2006-01-02 15:04:05 -07:00")
	err = w.Ledger.Append(kindApproved, approvedRecord{filepath.Base(v.Archive), v.SHA256, a.Who})
	if err == nil {
		err = writeCarry(c, v.Archive, v.SHA256)
	}
	return fault.Wrap("approve", v.Archive, err)
}

// approval gives who approved an archive, and when.
func approval(c *casefile.Case, sum string) (by, at string, err error) {
	err = c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindApproved {
			return nil
		}
		var rec approvedRecord
		if err := json.Unmarshal(r.Data, &rec); err != nil {
			return err
		}
		if rec.SHA256 == sum {
			by, at = rec.By, r.At.Format("2006-01-02 15:04:05 -07:00")
		}
		return nil
	})
	return by, at, err
}

// Decide writes down in the case's redaction.yaml what the engineer says of suspicious and learned values, by their numbers: those that
// must not leave, and those that may stay.
func (a *App) Decide(c *casefile.Case, v *Review, remove, leave []int) error {
	gone, err := v.chosen(remove)
	if err != nil {
		return err
	}
	stay, err := v.chosen(leave)
	if err != nil {
		return err
	}
	w, err := a.write(c)
	if err != nil {
		return err
	}
	defer w.Close()
	file := filepath.Join(c.Dir, policy.FileName)
	if err := addDecisions(file, gone, stay); err != nil {
		return fault.Wrap("write", file, err)
	}
	return fault.Wrap("write", c.Name, w.Ledger.Append(kindDecided, decidedRecord{len(gone), len(stay), a.Who}))
}

// addDecisions adds values to a case's redaction.yaml. What else stands there stays, comments too.
func addDecisions(file string, remove, leave []string) error {
	data, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return err
	}
	if len(doc.Content) == 0 {
		doc = yaml.Node{Kind: yaml.DocumentNode, Content: []*yaml.Node{{Kind: yaml.MappingNode, Tag: "!!map"}}}
	}
	top := doc.Content[0]
	for _, text := range remove {
		list := listOf(top, "literals")
		entry := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Content: []*yaml.Node{scalar("text"), scalar(text)}}
		list.Content = append(list.Content, entry)
	}
	for _, text := range leave {
		list := listOf(top, "never")
		list.Content = append(list.Content, scalar(text))
	}
	out, err := yaml.Marshal(&doc)
	if err != nil {
		return err
	}
	return durable.WriteFile(file, out, 0o600)
}

func scalar(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
}

func listOf(m *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			return m.Content[i+1]
		}
	}
	list := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
	m.Content = append(m.Content, scalar(key), list)
	return list
}
