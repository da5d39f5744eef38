package flow

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/keyfile"
	"envask/internal/redact"
	"envask/internal/round"
)

// BriefView is the write-up of a case with what is to be added.
type BriefView struct {
	Case    string         `json:"case"`
	Fields  []BriefField   `json:"fields"`
	Remarks []brief.Remark `json:"remarks"` // what to add or to correct
	Missing []string       `json:"missing"` // what the vendor must have and does not
	Desk    string         `json:"desk,omitempty"`
	// Unmarked are required pictures of which nobody said yet whether the error is marked in them.
	Unmarked []UnmarkedPicture `json:"unmarked"`

	Brief brief.Brief `json:"-"`
}

// BriefField is one field of it.
type BriefField struct {
	ID       string `json:"id"`
	Text     string `json:"text"`
	Answer   string `json:"answer"`
	From     string `json:"from,omitempty"` // where it was taken from
	Required bool   `json:"required,omitempty"`
	brief.Field
}

// setField puts one answer into a case; an empty one takes it back. from says where it was taken from; "" is a person.
func setField(flag string, k *ask.Ask, info *casefile.Info, id, text, from string) error {
	var field *brief.Field
	var ids []string
	for _, f := range brief.Of(k) {
		ids = append(ids, f.ID)
		if f.ID == id {
			field = &f
		}
	}
	if field == nil {
		hint := "there are: " + strings.Join(ids, ", ")
		if near := keyfile.Nearest(id, ids); near != "" {
			hint = "did you mean " + near + "? " + hint
		}
		return fault.New(fault.Usage, flag, id, "the write-up has no such field", hint)
	}
	text = strings.TrimSpace(strings.ToValidUTF8(strings.ReplaceAll(text, "\r\n", "\n"), "\ufffd"))
	if len(text) > MaxAnswer {
		return fault.New(fault.Usage, flag, id, fmt.Sprintf("the answer has %s; a write-up takes %s of each", sizeText(int64(len(text))),
			sizeText(MaxAnswer)), "put the rest into a file: envask add FILE")
	}
	if text != "" {
		if why := field.Wrong(text); why != "" {
			return fault.New(fault.Usage, flag, id, why, "")
		}
	}
	if id == brief.Title {
		info.Title = text
		return nil
	}
	info.Brief, info.BriefFrom = maps.Clone(info.Brief), maps.Clone(info.BriefFrom)
	put(&info.Brief, id, text)
	put(&info.BriefFrom, id, from)
	return nil
}

// MaxAnswer bounds one answer, in bytes.
const MaxAnswer = 64 << 10

func put(m *map[string]string, key, text string) {
	if text == "" {
		delete(*m, key)
		return
	}
	if *m == nil {
		*m = map[string]string{}
	}
	(*m)[key] = text
}

// BriefChange is a new answer to a field.
type BriefChange struct{ ID, Text, From string }

// SetBrief changes the write-up of a case: all of the changes, or none if one is wrong.
func (a *App) SetBrief(c *casefile.Case, changes []BriefChange) error {
	w, err := a.write(c)
	if err != nil {
		return err
	}
	defer w.Close()
	k, err := LoadAsk(c.Ask)
	if err != nil {
		return err
	}
	info := c.Info
	var wrong []error
	for _, ch := range changes {
		wrong = append(wrong, setField("brief", k, &info, ch.ID, ch.Text, ch.From))
	}
	if err := errors.Join(wrong...); err != nil {
		return err
	}
	if len(changes) == 0 {
		return nil
	}
	var fields []string
	for _, ch := range changes {
		fields = append(fields, ch.ID)
	}
	c.Info = info
	if err := c.Save(); err != nil {
		return fault.Wrap("write the case", c.Name, err)
	}
	return fault.Wrap("write the ledger", c.Name, w.Ledger.Append(kindBrief, briefRecord{strings.Join(fields, ", "), a.Who}))
}

// ShowBrief gives the write-up of a case, with what is to be added.
func (a *App) ShowBrief(c *casefile.Case) (*BriefView, error) {
	k, err := LoadAsk(c.Ask)
	if err != nil {
		return nil, err
	}
	b := brief.Brief{Case: caseNumber(c), Title: c.Title, Vendor: c.Vendor, Site: c.Site,
		Window: c.Window.String(), Ask: k, Answers: c.Brief,
		From: c.BriefFrom}
	all, err := round.List(c)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(r *round.Round) bool { return !r.Finished() || r.Baseline || !r.Discarded.IsZero() })
	if b.News, err = briefNews(c, all); err != nil {
		return nil, fault.Wrap("read the ledger", c.Name, err)
	}
	v := &BriefView{Case: c.Name, Remarks: []brief.Remark{}, Missing: append([]string{}, b.Open()...), Brief: b}
	for _, f := range b.Fields() {
		v.Fields = append(v.Fields, BriefField{f.ID, f.Text, b.Value(f.ID), b.From[f.ID], f.Required, f})
	}
	facts, err := a.briefFacts(c)
	if err != nil {
		return nil, err
	}
	v.Remarks = append(v.Remarks, b.Check(facts)...)
	if v.Unmarked, err = a.unmarked(c, k); err != nil {
		return nil, err
	}
	for _, p := range v.Unmarked {
		v.Remarks = append(v.Remarks, brief.Remark{Field: p.Item, Text: "is the error marked in " + p.Name +
			"? Say it once: envask brief --marked " + p.Name +
			", or --unmarked"})
	}
	v.Desk = deskText(k.Desk, a.Now(), c.Window.Zone)
	return v, nil
}

// briefFacts gathers what the checks hold a write-up against.
func (a *App) briefFacts(c *casefile.Case) (f brief.Facts, err error) {
	f.Zone = c.Window.Zone
	for _, s := range c.Window.Spans {
		if f.From.IsZero() || s.From.Before(f.From) {
			f.From = s.From
		}
		if s.To.After(f.To) {
			f.To = s.To
		}
	}
	rounds, err := round.List(c)
	if err != nil {
		return f, fault.Wrap("read the rounds", c.Name, err)
	}
	for _, r := range rounds {
		brought, err := r.Brought()
		if err != nil {
			return f, fault.Wrap("read the rounds", c.Name, err)
		}
		for _, e := range brought {
			f.Files = append(f.Files, e.Name, e.Source)
		}
	}
	f.Secret = holdsSecret
	return f, nil
}

// holdsSecret reports whether redaction would take a secret out of a text.
func holdsSecret(text string) bool {
	counts, err := redact.NewEngine(redact.Options{}).Text(io.Discard, strings.NewReader(text))
	if err != nil {
		return false
	}
	for name := range counts {
		for _, r := range redact.Rules {
			if r.Name == name && r.Class == redact.Secret {
				return true
			}
		}
	}
	return false
}

// withoutSecrets takes secrets out of what is quoted from evidence: a write-up is copied into mails and tickets, too. People stay as they
// are until it is packed.
func withoutSecrets(text string) string {
	off := map[string]bool{}
	for _, r := range redact.Rules {
		off[r.Name] = r.Class != redact.Secret
	}
	return redact.NewEngine(redact.Options{Config: redact.Config{Off: off}}).String(text)
}

// deskText says whether the desk is open, until when, there and here.
func deskText(d *ask.Desk, now time.Time, here *time.Location) string {
	if d == nil {
		return ""
	}
	var out []string
	if len(d.Hours) > 0 {
		zone := cmp.Or(d.Zone, time.UTC)
		open, until := d.Open(now)
		said := "closed"
		if open {
			said = "open now, until " + until.In(zone).Format("15:04") + " there"
		} else if !until.IsZero() {
			said = "closed, opens " + until.In(zone).Format("Mon 15:04") + " there"
		}
		if here != nil && !until.IsZero() && until.In(here).Format("15:04") != until.In(zone).Format("15:04") {
			said += " (" + until.In(here).Format("Mon 15:04") + " here)"
		}
		out = append(out, said)
	}
	if len(d.Languages) > 0 {
		out = append(out, "speaks "+strings.Join(d.Languages, ", "))
	}
	if d.Phone != "" {
		out = append(out, d.Phone)
	}
	return strings.Join(out, "; ")
}
