package site

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"envask/internal/device"
	"envask/internal/keyfile"
	"envask/internal/late"
	"envask/internal/policy"
	"envask/internal/window"
)

// Site is one systems file.
type Site struct {
	Name       string
	Zone       *time.Location // nil when the file names none
	KnownHosts []string       // files of host keys; empty means the engineer's own
	Systems    []System
	Domains    []string // host names under these belong to the site, and do not leave it
	Limits     Limits   // of every system that names none
	Devices    map[string]*device.Description
	File       string
}

// System is one machine or device.
type System struct {
	Name        string
	Roles       []string
	Ways        []string // how it is reached: keys of the table of ways, tried in this order
	Zone        *time.Location
	SSH         SSH                 // of the way "ssh"
	Folder      string              // of the way "folder": where a copy of its files is
	Pushes      *Pushes             // of the way "pushes"
	Web         *Web                // of the way "web"
	Console     *Console            // of the way "console"
	Device      string              // what type of device it is; "" for none
	Description *device.Description // of that type; nil while it is not known
	Secrets     map[string]Secret   // by the names that asks and descriptions call them
	Members     []string            // fellows that it should name, by their names there
	Shell       []string            // of the way "shell": the program that gives a POSIX shell, and its arguments
	Via         string              // name of the system to go through; "" means directly
	Stall       time.Duration       // how long it may be silent before it counts as gone
	// Environment names variables of our own environment that commands on a local system see besides the usual ones.
	Environment []string
	Elevate     string            // how its account gets more rights: "sudo", "doas", or the words in front of a command; "" for not at all
	Facts       map[string]string // of the engineer's own, by their keys: {system.KEY} in items
	Before      string            // what a person has to do before it can be reached
	Limits      Limits
	FileLine    int
}

// SSH is where and as whom to log in.
type SSH struct {
	User, Host string
	Port       int
	PortGiven  bool   // the file names it; else the client configuration may
	Key        string // path of a private key file; "" means the agent
	Password   Secret
}

// Secret says where a secret comes from ("env:NAME" or "file:PATH"); it never holds one.
type Secret string

// DefaultStall is how long a system may be silent before it counts as gone.
const DefaultStall = 30 * time.Second

// way reads how a system is reached.
type way struct {
	Key  string
	Read func(m *keyfile.Map, s *System)
}

// ways is the table of ways to reach a system, in the order of the documentation.
var ways = []way{
	{"local", readLocal},
	{"ssh", readSSH},
	{"folder", readFolder},
	{"shell", readShell},
	{"console", readConsole},
	{"web", readWeb},
	{"pushes", readPushes},
}

// Ways lists the keys that say how a system is reached.
func Ways() []string {
	var keys []string
	for _, w := range ways {
		keys = append(keys, w.Key)
	}
	return keys
}

var word = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9_.-]{0,63}$`)

// Load reads and checks a systems file. Every mistake is reported at once, as keyfile.Problems.
func Load(file string) (*Site, error) {
	data, err := keyfile.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return Parse(file, data)
}

// Parse checks the bytes of a systems file. Relative paths in it count from the file's folder.
func Parse(file string, data []byte) (*Site, error) {
	f, m := keyfile.Parse(file, data)
	if err := f.Err(); err != nil {
		return nil, err
	}
	s := &Site{File: file}
	if v := m.Need("site"); v.Text != "" {
		s.Name = checkWord("site", v)
	}
	s.Zone = zone(m.Value("zone"))
	for _, v := range m.Strings("known-hosts") {
		s.KnownHosts = append(s.KnownHosts, s.path(v.Text))
	}
	for _, v := range m.Strings("domains") {
		if !policy.IsDomain(v.Text) {
			v.Problem("domains: %q is not a domain such as pier.example", v.Text)
		}
		s.Domains = append(s.Domains, v.Text)
	}
	s.Limits = readLimits(m.Map("limits"), Limits{})
	s.Devices = device.Read(m, true)
	for _, d := range s.Devices {
		d.EachSecret(func(place string) string { return string(Secret(place).at(s.path)) })
	}
	secrets := readSecrets(m, nil, s.path)
	if !m.Has("systems") {
		m.Problem("systems: is missing; list at least one system")
	}
	seen := map[string]int{}
	vias := map[string]keyfile.Value{}
	for _, sm := range m.Maps("systems") {
		sys, via := s.readSystem(sm, seen, secrets)
		s.Systems = append(s.Systems, sys)
		if via.Set() {
			vias[sys.Name] = via
		}
	}
	s.checkVias(vias)
	m.Done()
	if err := f.Err(); err != nil {
		return nil, err
	}
	return s, nil
}

// variable is the name of a variable of the environment.
var variable = late.Pattern(`^[A-Za-z_][A-Za-z0-9_]*$`)

func checkWord(key string, v keyfile.Value) string {
	if v.Text != "" && !word().MatchString(v.Text) {
		v.Problem("%s: expected a word of letters, digits, '.', - and _ (64 at most), found %q", key, v.Text)
	}
	return v.Text
}

func zone(v keyfile.Value) *time.Location {
	if !v.Set() {
		return nil
	}
	loc, err := window.ParseZone(v.Text)
	if err != nil {
		v.Problem("zone: %v", err)
	}
	return loc
}

// Case is the name that no system has: what a person brings for the case as a whole is listed under it.
const Case = "case"

func (s *Site) readSystem(m *keyfile.Map, seen map[string]int, secrets map[string]Secret) (System, keyfile.Value) {
	name := m.Need("name")
	sys := System{Name: checkWord("name", name), Stall: m.Duration("stall", DefaultStall), FileLine: m.Line()}
	if line, twice := seen[strings.ToLower(name.Text)]; twice {
		name.Problem("system %q was given before, on line %d", name.Text, line)
	}
	if strings.EqualFold(name.Text, Case) {
		name.Problem("no system is called %q: that is what the case itself is called in tables", name.Text)
	}
	seen[strings.ToLower(name.Text)] = name.Line // names become folders, and some disks ignore case
	for _, v := range m.Strings("roles") {
		sys.Roles = append(sys.Roles, checkWord("roles", v))
	}
	sys.Zone = zone(m.Value("zone"))
	for _, w := range ways {
		m.Has(w.Key) // so that it counts as known
	}
	for _, key := range m.Keys() { // they are tried in the order of the file
		for _, w := range ways {
			if w.Key == key {
				sys.Ways = append(sys.Ways, w.Key)
				w.Read(m, &sys)
			}
		}
	}
	if len(sys.Ways) == 0 {
		m.Problem("system %q: say how it is reached, with one of: %s", sys.Name, strings.Join(Ways(), ", "))
	}
	for _, v := range m.Strings("environment") {
		if !variable().MatchString(v.Text) {
			v.Problem("environment: expected the name of a variable, found %q", v.Text)
		}
		if !sys.Has("local") {
			v.Problem("environment: is for a system that is local; others have their own")
		}
		sys.Environment = append(sys.Environment, v.Text)
	}
	s.readDevice(m, &sys, secrets)
	sys.Elevate = elevate(m.Value("elevate"))
	sys.Facts = readFacts(m.Map("facts"))
	sys.Before = strings.TrimSpace(m.String("before-you-start"))
	sys.Limits = readLimits(m.Map("limits"), s.Limits)
	sys.Folder = s.path(sys.Folder)
	if sys.Pushes != nil {
		sys.Pushes.Folder = s.path(sys.Pushes.Folder)
	}
	via := m.Value("via")
	sys.Via = via.Text
	sys.SSH.Key, sys.SSH.Password = s.path(sys.SSH.Key), sys.SSH.Password.at(s.path)
	if c := sys.Console; c != nil {
		c.SSH.Key, c.SSH.Password, c.Password = s.path(c.SSH.Key), c.SSH.Password.at(s.path), c.Password.at(s.path)
	}
	if sys.Web != nil {
		sys.Web.settle(s.path)
	}
	m.Done()
	return sys, via
}

// readDevice reads what is said of a system that is a device.
func (s *Site) readDevice(m *keyfile.Map, sys *System, secrets map[string]Secret) {
	sys.Secrets = readSecrets(m, secrets, s.path)
	if v := m.Value("device"); v.Set() {
		sys.Device = checkWord("device", v)
		sys.Description = s.Devices[sys.Device]
		if !sys.Has("console") {
			v.Problem("device: is for a system that is reached by console")
		}
	}
	for _, v := range m.Strings("members") {
		sys.Members = append(sys.Members, checkWord("members", v))
	}
}

func elevate(v keyfile.Value) string {
	text := strings.TrimSpace(v.Text)
	if v.Set() && (text == "" || strings.ContainsAny(text, "\n\x00")) {
		v.Problem("elevate: expected sudo, doas, or the words that stand in front of a command")
	}
	return text
}

// path makes a path absolute; ~ stays for whoever knows the home folder.
func (s *Site) path(p string) string {
	if p == "" || filepath.IsAbs(p) || p == "~" || strings.HasPrefix(p, "~/") {
		return p
	}
	return filepath.Join(filepath.Dir(s.File), p)
}

// checkVias makes sure that each jump host is there and that no chain goes round.
func (s *Site) checkVias(vias map[string]keyfile.Value) {
	for _, sys := range s.Systems {
		v, ok := vias[sys.Name]
		if !ok {
			continue
		}
		if !sys.Has("ssh") && !sys.Has("console") && !sys.Has("web") {
			v.Problem("via: only a system that is reached by ssh, console or web can go through another")
			continue
		}
		steps := 0
		for at := sys.Via; at != ""; steps++ {
			next := s.System(at)
			if next == nil {
				v.Problem("via: there is no system %q in this file", at)
				break
			}
			if !next.Has("ssh") || steps > len(s.Systems) {
				v.Problem("via: %q is no way through (it must be reached by ssh, and not through itself)", at)
				break
			}
			at = next.Via
		}
	}
}

// Has says whether a way is among those by which the system is reached.
func (s *System) Has(way string) bool { return slices.Contains(s.Ways, way) }

// System gives the system with a name, or nil.
func (s *Site) System(name string) *System {
	for i := range s.Systems {
		if s.Systems[i].Name == name {
			return &s.Systems[i]
		}
	}
	return nil
}

// RoleHop is the role of systems that others are reached through, and that play no other.
const RoleHop = "hop"

// Hop says whether a system plays no role and others are reached through it.
func (s *Site) Hop(sys *System) bool {
	if len(sys.Roles) > 0 {
		return false
	}
	for i := range s.Systems {
		if s.Systems[i].Via == sys.Name {
			return true
		}
	}
	return false
}

// ZoneOf gives the zone in which a system writes its logs: its own, else the site's, else UTC.
func (s *Site) ZoneOf(sys *System) *time.Location {
	switch {
	case sys.Zone != nil:
		return sys.Zone
	case s.Zone != nil:
		return s.Zone
	}
	return time.UTC
}
