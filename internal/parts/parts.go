package parts

import (
	"bytes"
	"embed"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v4"

	"envask/internal/fault"
	"envask/internal/keyfile"
	"envask/internal/late"
)

//go:embed data/*.yaml
var files embed.FS

// order is the one in which parts are listed and written: the host first, then what serves on it, then what is named.
var order = []string{"linux", "journal", "crashes", "cloud-init", "openssh", "chrony",
	"nginx", "apache", "haproxy", "postgresql", "mariadb", "redis", "postfix", "exim", "bind", "samba",
	"docker", "containerd", "kubernetes-node",
	"systemd-unit", "java", "nodejs", "python", "windows"}

// Part is a building block of asks.
type Part struct {
	Name  string   `yaml:"part"`
	Title string   `yaml:"title"`
	Takes []string `yaml:"takes"`
	Fits  Fits     `yaml:"fits"`
	Value *Value   `yaml:"value"` // what has to be named; nil where nothing has

	items       string // as they stand in an ask, below items:
	expressions string // below expressions: of its redaction; "" for none

	once            sync.Once
	patterns, units []string
}

// Fits tells on which systems a part fits: where one of the programs runs or one of the paths is there.
type Fits struct {
	Programs []string `yaml:"programs"`
	Paths    []string `yaml:"paths"`
	Windows  bool     `yaml:"windows"`
}

// Value is what a part has to be told: the name of a unit, the folder of a service.
type Value struct {
	Means   string `yaml:"means"`
	Example string `yaml:"example"`
	Like    string `yaml:"like"`
}

// All gives the parts in their order.
var All = sync.OnceValue(func() []*Part {
	all := make([]*Part, 0, len(order))
	for _, name := range order {
		data, err := files.ReadFile("data/" + name + ".yaml")
		if err != nil {
			panic(err) // a test reads them all
		}
		p, err := read(data)
		if err != nil || p.Name != name {
			panic(fmt.Sprintf("part %s: %v", name, err))
		}
		all = append(all, p)
	}
	return all
})

// section heads the parts of a part's body.
var section = late.Pattern(`(?m)^([a-z]+):\n`)

func read(data []byte) (*Part, error) {
	head, body, ok := bytes.Cut(data, []byte("\n---\n"))
	if !ok {
		return nil, fmt.Errorf("no line of three dashes")
	}
	p := new(Part)
	d := yaml.NewDecoder(bytes.NewReader(head))
	d.KnownFields(true)
	if err := d.Decode(p); err != nil {
		return nil, err
	}
	heads := section().FindAllSubmatchIndex(body, -1)
	for i, h := range heads {
		end := len(body)
		if i+1 < len(heads) {
			end = heads[i+1][0]
		}
		text := string(body[h[1]:end])
		switch name := string(body[h[2]:h[3]]); name {
		case "items":
			p.items = text
		case "expressions":
			p.expressions = text
		default:
			return nil, fmt.Errorf("unknown section %s", name)
		}
	}
	return p, nil
}

// Text gives the items of a part as they stand in an ask, with the example where something has to be named.
func (p *Part) Text() string {
	c := Choice{Part: p}
	if p.Value != nil {
		c.Value = p.Value.Example
	}
	return c.items()
}

// Patterns gives the patterns of files that a part takes, without those of a folder that has to be named.
func (p *Part) Patterns() []string {
	p.once.Do(func() {
		var items []struct {
			Files   any `yaml:"files"`
			Journal any `yaml:"journal"`
		}
		if p.Value != nil || yaml.Unmarshal([]byte(p.items), &items) != nil { // a test reads them all
			return
		}
		for _, it := range items {
			p.patterns = append(p.patterns, texts(it.Files)...)
			p.units = append(p.units, texts(it.Journal)...)
		}
	})
	return p.patterns
}

// Units gives the units whose journal a part takes.
func (p *Part) Units() []string {
	p.Patterns()
	return p.units
}

// texts gives the texts of a value that is a text or a list of them.
func texts(v any) (out []string) {
	switch v := v.(type) {
	case string:
		return []string{v}
	case []any:
		for _, x := range v {
			if s, ok := x.(string); ok {
				out = append(out, s)
			}
		}
	}
	return out
}

// Find gives the part of a name.
func Find(name string) (*Part, error) {
	names := make([]string, 0, len(order))
	for _, p := range All() {
		if p.Name == name {
			return p, nil
		}
		names = append(names, p.Name)
	}
	hint := "envask ask parts lists them"
	if near := keyfile.Nearest(name, names); near != "" {
		hint = "did you mean " + near + "? " + hint
	}
	return nil, fault.New(fault.Usage, "", name, "there is no part of that name", hint)
}

// Choice is a part that goes into an ask.
type Choice struct {
	Part  *Part
	Value string // what the part has to be told; "" for none
	Role  string // its items are wanted from this role; "" is every system
}

var role = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9_-]{0,63}$`)

// ParseChoice reads [ROLE:]PART[=VALUE].
func ParseChoice(text string) (c Choice, err error) {
	name, value, told := strings.Cut(text, "=")
	if r, rest, ok := strings.Cut(name, ":"); ok {
		if !role().MatchString(r) {
			return c, fault.New(fault.Usage, "", text, fmt.Sprintf("%q is no name of a role", r), "write ROLE:PART, such as web:nginx")
		}
		c.Role, name = r, rest
	}
	if c.Part, err = Find(name); err != nil {
		return c, err
	}
	c.Value = value
	v := c.Part.Value
	switch {
	case v == nil && told:
		return c, fault.New(fault.Usage, "", text, "the part "+name+" takes no value", "write "+strings.TrimSuffix(text, "="+value))
	case v != nil && value == "":
		return c, fault.New(fault.Usage, "", text, "the part "+name+" needs the "+v.Means, "write "+name+"="+v.Example)
	case v != nil && !regexp.MustCompile(v.Like).MatchString(value):
		return c, fault.New(fault.Usage, "", text, fmt.Sprintf("%q is no %s", value, v.Means), "write "+name+"="+v.Example)
	}
	return c, nil
}

var (
	notInID  = late.Pattern(`[^A-Za-z0-9_-]+`)
	itemHead = late.Pattern(`(?m)^  - id: (\S+)\n`)
)

// idOf makes a word for identifiers from the name of a unit or a folder.
func idOf(value string) string {
	base := path.Base(strings.TrimSuffix(value, ".service"))
	id := strings.Trim(notInID().ReplaceAllString(base, "-"), "-_")
	if id == "" {
		id = "service"
	}
	return id[:min(len(id), 40)]
}

// items gives the items of a choice as they stand in an ask.
func (c Choice) items() string {
	text := strings.NewReplacer("@NAME@", idOf(c.Value), "@VALUE@", c.Value).Replace(c.Part.items)
	if c.Role != "" {
		text = itemHead().ReplaceAllString(text, "${0}    of: ["+c.Role+"]\n")
	}
	return text
}

// ids gives the identifiers of a choice's items.
func (c Choice) ids() (ids []string) {
	for _, m := range itemHead().FindAllStringSubmatch(c.items(), -1) {
		ids = append(ids, m[1])
	}
	return ids
}

// Clash gives an item that two choices would both have; "" where each has its own.
func Clash(choices []Choice) string {
	var seen []string
	for _, c := range choices {
		for _, id := range c.ids() {
			if slices.Contains(seen, id) {
				return id
			}
			seen = append(seen, id)
		}
	}
	return ""
}
