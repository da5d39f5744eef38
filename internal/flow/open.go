package flow

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/site"
	"envask/internal/window"
)

// OpenRequest starts a case, or changes one.
type OpenRequest struct {
	Name        string // the vendor's number, or a working name
	WorkingName bool   // Name is no number yet
	Was         string // the working name of a case that gets its number now
	Ask         string // files; "" keeps what a case has
	Systems     string
	Title       string
	Answers     []string // to questions of the ask: ID=TEXT
	Window      window.Given
	Zone        string // "" is the site's, else the local one
	Anyway      bool   // a window is given though the ask says that the vendor wants none
}

// Opened is what came of it.
type Opened struct {
	Remarks   []string // on the window
	Case      *casefile.Case
	New       bool
	WasWindow string // of a case whose window was changed
	Approved  bool
	Ask       *ask.Ask
	Wants     []string // questions that the vendor must have an answer to, and has not
}

// Open starts a case, changes one, or gives one its number.
func (a *App) Open(q OpenRequest) (*Opened, error) {
	if err := casefile.CheckName(q.Name); err != nil {
		return nil, &fault.Error{Class: fault.Usage, Err: err}
	}
	var old *casefile.Case
	switch from := orElse(q.Was, q.Name); {
	case a.Home.Exists(from):
		c, err := a.Home.Open(from)
		if err != nil {
			return nil, &fault.Error{Class: fault.Usage, Op: "open the case", Target: from, Err: err}
		}
		old = c
	case q.Was != "":
		return nil, fault.New(fault.Usage, "open the case", q.Was, "there is no such case", "envask cases lists what there is")
	}
	if q.Was != "" && q.Was != q.Name && a.Home.Exists(q.Name) {
		return nil, fault.New(fault.Usage, "open the case", q.Name, "there is a case of that number already", "")
	}
	info, k, err := a.describe(q, old)
	if err != nil {
		return nil, err
	}
	was := ""
	if old != nil && old.Window.String() != info.Window.String() {
		was = old.Window.String()
	}
	c, err := a.store(q, old, info)
	if err != nil {
		return nil, fault.Wrap("open the case", q.Name, err)
	}
	_, approved, err := a.Sheet(k)
	remarks := windowRemarks(c, c.Window, a.Now())
	if s, err := LoadSite(c.Systems); err == nil {
		remarks = append(remarks, AskRemarks(k, s)...)
	}
	wants := brief.Brief{Title: c.Title, Ask: k, Answers: c.Brief}.Open()
	return &Opened{Case: c, New: old == nil, WasWindow: was, Approved: approved, Ask: k, Remarks: remarks, Wants: wants}, err
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// describe checks all that is given and makes the case's information of it.
func (a *App) describe(q OpenRequest, old *casefile.Case) (casefile.Info, *ask.Ask, error) {
	info := casefile.Info{Opened: a.Now()}
	if old != nil {
		info = old.Info
	}
	for _, f := range []struct {
		given string
		to    *string
		flag  string
	}{{q.Ask, &info.Ask, "--ask"}, {q.Systems, &info.Systems, "--systems"}} {
		if f.given != "" {
			abs, err := filepath.Abs(f.given)
			if err != nil {
				return info, nil, err
			}
			*f.to = abs
		}
		if *f.to == "" {
			return info, nil, fault.New(fault.Usage, "open the case", q.Name, "a new case needs "+f.flag+" FILE",
				"envask ask new FILE writes an ask to start from; envask demo --files DIR writes samples of both files")
		}
	}
	k, askErr := LoadAsk(info.Ask)
	s, siteErr := LoadSite(info.Systems)
	if err := bothFiles(askErr, siteErr); err != nil {
		return info, nil, err
	}
	if err := number(q, k, &info); err != nil {
		return info, nil, err
	}
	info.Vendor, info.Site = k.Vendor, s.Name
	if q.Title != "" {
		info.Title = q.Title
	}
	if err := answer(q.Answers, k, &info); err != nil {
		return info, nil, err
	}
	if q.Window.Any() && k.NoWindow && !q.Anyway {
		return info, nil, fault.New(fault.Usage, "the window", "", k.Vendor+" wants no window: the ask says window: unwanted",
			"leave the window out, or give --window-anyway")
	}
	return info, k, a.window(q, s, &info)
}

// answer takes up answers to the questions of an ask, and to the fields of the write-up.
func answer(given []string, k *ask.Ask, info *casefile.Info) error {
	for _, g := range given {
		id, text, ok := strings.Cut(g, "=")
		if !ok {
			return fault.New(fault.Usage, "--answer", g, "write ID=TEXT", "")
		}
		if err := setField("--answer", k, info, id, text, ""); err != nil {
			return err
		}
	}
	return nil
}

// bothFiles joins the mistakes of both input files, so that they are mended in one go.
func bothFiles(askErr, siteErr error) error {
	if askErr == nil || siteErr == nil {
		return errors.Join(askErr, siteErr)
	}
	return &fault.Error{Class: fault.Usage, Err: fmt.Errorf("%w\n%w", askErr, siteErr), Hint: "fix both files; nothing was done"}
}

func number(q OpenRequest, k *ask.Ask, info *casefile.Info) error {
	if q.WorkingName {
		info.Number = ""
		return nil
	}
	if k.Number != nil && !k.Number.MatchString(q.Name) {
		if q.Name == info.Name && info.Number == "" && q.Was == "" {
			return nil // a case with a working name is changed
		}
		return fault.New(fault.Usage, "open the case", q.Name,
			fmt.Sprintf("this is no case number of %s, which look like %s", k.Vendor, k.Number),
			"if there is no number yet, open it under a working name with --working-name; give the number later with: envask open "+
				"NUMBER --was "+q.Name)
	}
	info.Number = q.Name
	return nil
}

func (a *App) window(q OpenRequest, s *site.Site, info *casefile.Info) error {
	zone := s.Zone
	if zone == nil {
		zone = window.LocalZone()
	}
	if info.Window.Zone != nil && !q.Window.Any() {
		zone = info.Window.Zone
	}
	if q.Zone != "" {
		z, err := window.ParseZone(q.Zone)
		if err != nil {
			return &fault.Error{Class: fault.Usage, Op: "--zone", Err: err}
		}
		zone = z
	}
	if !q.Window.Any() {
		info.Window.Zone = zone
		return nil
	}
	w, err := window.Parse(q.Window, zone, a.Now().Truncate(time.Second))
	if err != nil {
		return &fault.Error{Class: fault.Usage, Op: "the window", Err: err}
	}
	info.Window = w
	return nil
}

// store writes the case down.
func (a *App) store(q OpenRequest, old *casefile.Case, info casefile.Info) (*casefile.Case, error) {
	c, how := old, "changed"
	if old == nil {
		how = "begun"
		created, err := a.Home.Create(q.Name, info)
		if err != nil {
			return nil, err
		}
		c = created
	}
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	record := opened{Name: q.Name, Number: info.Number, Was: q.Was, Window: info.Window.String(),
		Systems: info.Systems, By: a.Who, How: how}
	if k, err := ask.Load(info.Ask); err == nil {
		record.Ask = k.Digest
	}
	if err := w.Ledger.Append("case-"+how, record); err != nil {
		return nil, err
	}
	if old != nil {
		c.Info = info
		c.Info.Name = old.Name
		if err := c.Save(); err != nil {
			return nil, err
		}
		if q.Was != "" && q.Was != q.Name {
			if c, err = a.Home.Rename(c, q.Name); err != nil {
				return nil, err
			}
		}
	}
	return c, a.Home.Use(c.Name)
}
