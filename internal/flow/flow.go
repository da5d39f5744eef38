package flow

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"sync"
	"time"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/keyfile"
	"envask/internal/patience"
	"envask/internal/reach"
	"envask/internal/site"
)

// App is what all functions need from the outside.
type App struct {
	Home    casefile.Home
	Version string
	Who     string // the engineer, for the ledger and receipts
	Now     func() time.Time
	// Dialer gives what reaches systems, for one run.
	Dialer func(s *site.Site, accept map[string]string) (*reach.Dialer, error)
	// Approve shows a sheet and asks for a yes. nil when nobody can be asked.
	Approve func(Sheet) (bool, error)
	// Confirm asks a person a question that yes answers; nil when nobody can be asked.
	Confirm func(question string) (bool, error)
	// Large asks whether a collection that is larger than it should be is wanted all the same; nil when nobody can be asked.
	Large func(why string) (bool, error)
	// Proxy gives the web proxy for a request; nil is none.
	Proxy func(*http.Request) (*url.URL, error)
	// Pause waits between tries to send; nil waits longer each time.
	Pause func(ctx context.Context, failures int) error
	// Report is told what happens. Events come one at a time; nil is allowed.
	Report func(any)
	// Secret reads a secret from where the engineer put it, and Typed gives those that a person typed in; nil knows none.
	Secret func(site.Secret) (string, error)
	Typed  func() []string
	// Patience stands still while a person is asked; nil never does.
	Patience *patience.Clock
	// Command is the command line in words, for the lock.
	Command string

	reporting sync.Mutex
}

func (a *App) report(e any) {
	if a.Report == nil {
		return
	}
	a.reporting.Lock()
	defer a.reporting.Unlock()
	a.Report(e)
}

// Note is a remark that a person should see; it is no failure.
type Note struct{ Text string }

func (a *App) note(format string, args ...any) { a.report(Note{fmt.Sprintf(format, args...)}) }

// UsingCase says which case a command works on.
type UsingCase struct{ Case *casefile.Case }

// Case opens the named case, or the one used last.
func (a *App) Case(name string) (*casefile.Case, error) {
	c, err := a.Home.Open(name)
	var problems keyfile.Problems
	switch {
	case errors.As(err, &problems):
		return nil, &fault.Error{Class: fault.Usage, Err: err}
	case errors.Is(err, casefile.ErrNoCase):
		return nil, &fault.Error{Class: fault.Usage, Op: "find the case", Err: err,
			Hint: "envask cases lists what there is; envask open NUMBER --ask FILE --systems FILE begins one"}
	case err != nil:
		return nil, &fault.Error{Class: fault.Usage, Op: "find the case", Err: err}
	}
	a.report(UsingCase{c})
	a.sayOwed(c)
	return c, nil
}

// write takes the case's lock.
func (a *App) write(c *casefile.Case) (*casefile.Writer, error) {
	w, err := c.Write(a.Command)
	return a.checked(c, w, err)
}

// writeToFree takes the case's lock for a command that makes room, also on a disk that is full.
func (a *App) writeToFree(c *casefile.Case) (*casefile.Writer, error) {
	w, err := c.WriteToFree(a.Command)
	return a.checked(c, w, err)
}

// checked says what is wrong with a ledger.
func (a *App) checked(c *casefile.Case, w *casefile.Writer, err error) (*casefile.Writer, error) {
	_ = a.Home.Sweep() // what cannot be removed is in nobody's way
	var chain *casefile.ChainError
	switch {
	case errors.As(err, &chain):
		return nil, &fault.Error{Class: fault.Refused, Op: "read the ledger", Err: err,
			Hint: fmt.Sprintf("envask show --case %[1]s shows what still stands; envask repair --case %[1]s keeps the damaged file and "+
				"goes on behind a record that names the break", c.Name)}
	case err != nil:
		return nil, fault.Wrap("use the case", c.Name, err)
	}
	if w.Ledger.Dropped {
		a.note("the ledger's last line was torn (a crash or a full disk) and was dropped")
	}
	return w, nil
}

// LoadAsk reads an ask; its mistakes are of class Usage.
func LoadAsk(file string) (*ask.Ask, error) {
	a, err := ask.Load(file)
	return a, inputFile("ask", file, err)
}

// LoadSite reads a systems file; its mistakes are of class Usage.
func LoadSite(file string) (*site.Site, error) {
	s, err := site.Load(file)
	return s, inputFile("systems file", file, err)
}

func inputFile(what, file string, err error) error {
	var problems keyfile.Problems
	switch {
	case err == nil:
		return nil
	case errors.As(err, &problems): // each line names the file already
		return &fault.Error{Class: fault.Usage, Err: err, Hint: fmt.Sprintf("fix the %s; nothing was done", what)}
	case errors.Is(err, fs.ErrNotExist):
		return fault.New(fault.Usage, "read the "+what, file, "there is no such file", "")
	}
	return &fault.Error{Class: fault.Usage, Op: "read the " + what, Target: file, Err: err}
}

// Sheet is an approval sheet: all that an ask would do, and what changed since the version approved last.
type Sheet struct {
	Ask     *ask.Ask
	Lines   []string
	Last    *ask.Approval // nil when no version was approved before
	Changes []ask.Change
}

// Sheet makes the approval sheet of an ask; approved says whether exactly this ask was approved before.
func (a *App) Sheet(k *ask.Ask) (s Sheet, approved bool, err error) {
	store := ask.Approvals{Dir: a.Home.ApprovalsDir()}
	s = Sheet{Ask: k, Lines: k.Sheet()}
	ap, ok, err := store.Get(k)
	if err != nil {
		return s, false, fault.Wrap("read the approvals", "", err)
	}
	if ok {
		s.Last = &ap
		return s, true, nil
	}
	old, last, err := store.Last(k)
	if err != nil {
		return s, false, fault.Wrap("read the approvals", "", err)
	}
	if old != nil {
		s.Last, s.Changes = &last, ask.CompareSheets(old.Sheet(), s.Lines)
	}
	return s, false, nil
}

// PutApproval records a yes.
func (a *App) PutApproval(k *ask.Ask) error {
	_, err := ask.Approvals{Dir: a.Home.ApprovalsDir()}.Put(k, a.Who, a.Now())
	return fault.Wrap("record the approval", "", err)
}

// approved makes sure that an ask was approved, asking where somebody can be asked. more is said on the sheet, too.
func (a *App) approved(k *ask.Ask, more ...string) error {
	sheet, ok, err := a.Sheet(k)
	if err != nil || ok {
		return err
	}
	sheet.Lines = append(sheet.Lines, more...)
	if a.Approve == nil {
		return a.unapproved(k, sheet)
	}
	yes, err := a.Approve(sheet)
	if err != nil {
		return err
	}
	if !yes {
		return fault.New(fault.Refused, "", k.File, "not approved; nothing was run", "")
	}
	return a.PutApproval(k)
}

// unapproved is the error for an ask that nobody approved.
func (a *App) unapproved(k *ask.Ask, sheet Sheet) error {
	hint := fmt.Sprintf("read what it would do and approve it: envask ask approve %s (in scripts: --digest %s)",
		k.File, k.Digest[:ask.MinDigest])
	why := "the ask is not approved; nothing of it is run before it is"
	if sheet.Last != nil {
		why = fmt.Sprintf("the ask was changed since %s approved it; the new one is not approved", sheet.Last.By)
	}
	return fault.New(fault.Refused, "", k.File, why, hint)
}
