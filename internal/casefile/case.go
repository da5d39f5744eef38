package casefile

import (
	"bytes"
	"path/filepath"
	"time"

	"go.yaml.in/yaml/v4"

	"envask/internal/durable"
	"envask/internal/keyfile"
	"envask/internal/window"
)

const caseFile = "case.yaml"

// Info is what the case file says. A person may edit it.
type Info struct {
	Name    string // of the folder: the number, or a working name until there is one
	Number  string // the vendor's case number; "" while there is none
	Vendor  string
	Site    string
	Title   string
	Opened  time.Time
	Ask     string // path of the ask file
	Systems string // path of the systems file
	Window  window.Window
	Brief   map[string]string // what the write-up says, by its fields and the ask's questions
	// BriefFrom says of fields that were filled from evidence where that stood.
	BriefFrom map[string]string
}

// Case is one case folder.
type Case struct {
	Dir string
	Out string // where archives and receipts are, if not in the folder
	Info
}

// OutDir is where archives and receipts are.
func (c *Case) OutDir() string {
	if c.Out != "" {
		return c.Out
	}
	return filepath.Join(c.Dir, "out")
}

// RoundsDir is where rounds are.
func (c *Case) RoundsDir() string { return filepath.Join(c.Dir, "rounds") }

// RoundDir is the folder of one round.
func (c *Case) RoundDir(id string) string { return filepath.Join(c.RoundsDir(), id) }

// AliasFile holds the case's alias table; it never leaves the case.
func (c *Case) AliasFile() string { return filepath.Join(c.Dir, "aliases.json") }

type yamlSpan struct {
	From string `yaml:"from"`
	To   string `yaml:"to"`
}

type yamlCase struct {
	Name    string            `yaml:"name"`
	Number  string            `yaml:"number,omitempty"`
	Vendor  string            `yaml:"vendor"`
	Site    string            `yaml:"site"`
	Title   string            `yaml:"title,omitempty"`
	Opened  string            `yaml:"opened"`
	Ask     string            `yaml:"ask"`
	Systems string            `yaml:"systems"`
	Zone    string            `yaml:"zone"`
	Window  []yamlSpan        `yaml:"window,omitempty"`
	Brief   map[string]string `yaml:"brief,omitempty"`
	From    map[string]string `yaml:"brief-from,omitempty"`
}

// Save writes the case file.
func (c *Case) Save() error {
	y := yamlCase{
		Name: c.Name, Number: c.Number, Vendor: c.Vendor, Site: c.Site, Title: c.Title, Ask: c.Ask, Systems: c.Systems,
		Opened: c.Opened.UTC().Format(time.RFC3339), Zone: c.Window.ZoneName(), Brief: c.Brief, From: c.BriefFrom,
	}
	for _, s := range c.Window.Spans {
		y.Window = append(y.Window, yamlSpan{From: s.From.In(c.zone()).Format(time.RFC3339Nano),
			To: s.To.In(c.zone()).Format(time.RFC3339Nano)})
	}
	var buf bytes.Buffer
	buf.WriteString("# One case. You may edit this file; it is checked whenever it is read.\n")
	enc := yaml.NewEncoder(&buf)
	enc.SetIndent(2)
	if err := enc.Encode(y); err != nil {
		return err
	}
	return durable.WriteFile(filepath.Join(c.Dir, caseFile), buf.Bytes(), 0o600)
}

func (c *Case) zone() *time.Location {
	if c.Window.Zone == nil {
		return time.UTC
	}
	return c.Window.Zone
}

func load(dir string) (*Case, error) {
	name := filepath.Join(dir, caseFile)
	data, err := keyfile.ReadFile(name)
	if err != nil {
		return nil, err
	}
	f, m := keyfile.Parse(name, data)
	c := &Case{Dir: dir}
	m.Value("name") // for the reader; the folder's name counts, so that a rename cannot be half done
	c.Name = filepath.Base(dir)
	c.Number, c.Vendor, c.Site, c.Title = m.String("number"), m.String("vendor"), m.String("site"), m.String("title")
	c.Opened = caseTime(m.Need("opened"))
	c.Ask, c.Systems = m.Need("ask").Text, m.Need("systems").Text
	readWindow(c, m)
	c.Brief, c.BriefFrom = textsOf(m.Map("brief")), textsOf(m.Map("brief-from"))
	m.Done()
	if err := f.Err(); err != nil {
		return nil, err
	}
	return c, nil
}

func textsOf(m *keyfile.Map) map[string]string {
	if m == nil {
		return nil
	}
	out := map[string]string{}
	for _, k := range m.Keys() {
		out[k] = m.String(k)
	}
	return out
}

func caseTime(v keyfile.Value) time.Time {
	t, err := time.Parse(time.RFC3339Nano, v.Text)
	if err != nil && v.Set() {
		v.Problem("expected a time such as 2026-03-14T06:12:00Z, found %q", v.Text)
	}
	return t
}

func readWindow(c *Case, m *keyfile.Map) {
	zone := time.UTC
	if v := m.Need("zone"); v.Set() {
		loc, err := window.ParseZone(v.Text)
		if err != nil {
			v.Problem("zone: %v", err)
		} else {
			zone = loc
		}
	}
	var spans []window.Span
	for _, sm := range m.Maps("window") {
		spans = append(spans, window.Span{From: caseTime(sm.Need("from")), To: caseTime(sm.Need("to"))})
		sm.Done()
	}
	w, err := window.New(spans, zone)
	if err != nil {
		m.Value("zone").Problem("window: %v", err)
	}
	w.Zone = zone
	c.Window = w
}
