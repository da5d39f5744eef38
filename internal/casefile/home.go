package casefile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"envask/internal/durable"
	"envask/internal/late"
)

// Home is the folder that holds all of an engineer's cases.
type Home struct {
	Dir      string
	Terminal string // names the terminal that a person sits at; "" is none. Each remembers the case used last in it
}

// Places inside the home.
func (h Home) casesDir() string        { return filepath.Join(h.Dir, "cases") }
func (h Home) currentFile() string     { return filepath.Join(h.Dir, "current") }
func (h Home) ApprovalsDir() string    { return filepath.Join(h.Dir, "approvals") }
func (h Home) KnownHosts() string      { return filepath.Join(h.Dir, "known_hosts") }
func (h Home) Credentials() string     { return filepath.Join(h.Dir, "credentials.yaml") }
func (h Home) CaseDir(n string) string { return h.caseDir(n) } // whether it is there or not
func (h Home) caseDir(n string) string { return filepath.Join(h.casesDir(), n) }

var caseName = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// CheckName says whether a case number or working name can name a folder and an archive everywhere.
func CheckName(name string) error {
	if !caseName().MatchString(name) || strings.Contains(name, "..") || strings.HasSuffix(name, ".") {
		return fmt.Errorf("%q cannot name a case: use letters, digits, '.', - and _ (64 at most), and no slash", name)
	}
	return nil
}

// ErrNoCase means that there is no such case.
var ErrNoCase = errors.New("there is no such case")

// Open gives a case by its number or working name; "" means the case used last.
func (h Home) Open(name string) (*Case, error) {
	if name == "" {
		data, err := os.ReadFile(h.terminalFile())
		if err != nil {
			data, err = os.ReadFile(h.currentFile())
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("no case has been opened yet: %w", ErrNoCase)
		}
		if err != nil {
			return nil, err
		}
		name = strings.TrimSpace(string(data))
	}
	if err := CheckName(name); err != nil {
		return nil, err
	}
	dir := h.caseDir(name)
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%q: %w", name, ErrNoCase)
	}
	return load(dir)
}

// Exists says whether there is a case of that name.
func (h Home) Exists(name string) bool {
	_, err := os.Stat(filepath.Join(h.caseDir(name), caseFile))
	return err == nil
}

// Create makes the folder of a new case. The case file is written last, so a half-made case does not count.
func (h Home) Create(name string, info Info) (*Case, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	dir := h.caseDir(name)
	for _, d := range []string{dir, filepath.Join(dir, "rounds"), filepath.Join(dir, "out")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, err
		}
	}
	info.Name = name
	c := &Case{Dir: dir, Info: info}
	return c, c.Save()
}

// Carried gives what stands for a case that is not here, while an archive of it is sent: a folder with a ledger, and out as
// the place of the archive.
func (h Home) Carried(number, out string, info Info) (*Case, error) {
	if err := CheckName(number); err != nil {
		return nil, err
	}
	dir := filepath.Join(h.Dir, "carried", number)
	info.Name = number
	return &Case{Dir: dir, Out: out, Info: info}, os.MkdirAll(dir, 0o700)
}

// Rename gives a case its number (or another name): the folder moves, all in it stays. The caller holds the lock of
// the old case and must not use it afterwards.
func (h Home) Rename(c *Case, name string) (*Case, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	to := h.caseDir(name)
	if _, err := os.Lstat(to); err == nil {
		return nil, fmt.Errorf("there is a case %q already", name)
	}
	if err := os.Rename(c.Dir, to); err != nil {
		return nil, err
	}
	renamed, err := load(to)
	if err != nil {
		return nil, err
	}
	renamed.Name = name
	return renamed, renamed.Save()
}

func (h Home) terminalFile() string {
	return filepath.Join(h.Dir, "terminals", filepath.Base("t"+h.Terminal))
}

// mostTerminals is of how many terminals the case used last is remembered.
const mostTerminals = 50

// Use makes a case the one that later commands mean by default, in this terminal and where there was none before.
func (h Home) Use(name string) error {
	if h.Terminal != "" {
		err := os.MkdirAll(filepath.Dir(h.terminalFile()), 0o700)
		if err == nil {
			err = durable.WriteFile(h.terminalFile(), []byte(name+"\n"), 0o600)
		}
		if err != nil {
			return err
		}
		h.forgetTerminals()
	}
	return durable.WriteFile(h.currentFile(), []byte(name+"\n"), 0o600)
}

// Cases lists all cases by name. A case whose file cannot be read is listed with its error.
func (h Home) Cases() ([]Listed, error) {
	entries, err := os.ReadDir(h.casesDir())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Listed
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		c, err := load(h.caseDir(e.Name()))
		out = append(out, Listed{Name: e.Name(), Case: c, Err: err})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

// Listed is one case of a list.
type Listed struct {
	Name string
	Case *Case // nil when it cannot be read
	Err  error
}

// forgetTerminals removes what was remembered of the terminals that were used longest ago.
func (h Home) forgetTerminals() {
	entries, err := os.ReadDir(filepath.Dir(h.terminalFile()))
	if err != nil || len(entries) <= mostTerminals {
		return
	}
	age := func(e fs.DirEntry) int64 {
		if info, err := e.Info(); err == nil {
			return info.ModTime().UnixNano()
		}
		return 0
	}
	sort.Slice(entries, func(i, j int) bool { return age(entries[i]) < age(entries[j]) })
	for _, e := range entries[:len(entries)-mostTerminals] {
		_ = os.Remove(filepath.Join(filepath.Dir(h.terminalFile()), e.Name())) // it is remembered a while longer
	}
}

// removedPrefix begins the names of cases on their way out.
const removedPrefix = "removed-"

// Remove removes a case, all at once: the folder gets another name first, so that half of one never counts. The caller holds its lock.
func (h Home) Remove(c *Case) error {
	aside := filepath.Join(h.Dir, removedPrefix+c.Name)
	if err := durable.RemoveAll(aside); err != nil {
		return err
	}
	if err := os.Rename(c.Dir, aside); err != nil {
		return err
	}
	return durable.RemoveAll(aside)
}
