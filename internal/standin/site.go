package standin

import (
	_ "embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// SampleAsk is the sample ask, with the vendor's address as it would be in the field.
//
//go:embed ask.yaml
var SampleAsk string

// SampleSystems is the sample systems file, with addresses as they would be in the field.
const SampleSystems = `# The systems of the terminal Tallow Pier. This file is the engineer's own.
site: tallow-pier
zone: Europe/Lisbon
secrets: {support: env:PIER_SUPPORT}
devices:
  deck-switch:
    prompt: '[>#] ?$'
    pages-off: terminal pages 0
    privileged: {type: privilege, password: env:PIER_PRIVILEGE, prompt: '# ?$'}
    try: show release
    vitals:
      version: {type: show release, like: 'Release ([0-9.]+)'}
      model: {type: show release, like: 'Model (\S+)'}
      uptime: {type: show release, like: 'Uptime is (.+)'}
      clock: {type: show clock, like: '(.+)'}
systems:
  - {name: jump, ssh: svc@203.0.113.5, key: ~/.ssh/pier, limits: {connections: 8}}
  - {name: gate-1, roles: [gate], ssh: svc@192.0.2.11, via: jump, key: ~/.ssh/pier, elevate: sudo}
  - {name: gate-2, roles: [gate], ssh: svc@192.0.2.12, via: jump, key: ~/.ssh/pier, elevate: sudo}
  - {name: fare-1, roles: [fare], ssh: 'svc@192.0.2.20:2222', password: env:FARE_PASSWORD}
  - {name: display-1, roles: [display], ssh: svc@192.0.2.31, via: jump, key: ~/.ssh/pier}
  - {name: kiosk-1, roles: [kiosk], shell: [podman, exec, -i, kiosk-1, sh]}
  - {name: pier-switch, roles: [network], console: {ssh: admin@192.0.2.2, password: env:PIER_SWITCH}, device: deck-switch}
  - {name: deck-stack, roles: [stack], console: {telnet: admin@192.0.2.3, password: env:PIER_SWITCH}, device: deck-switch,
     members: [unit-1, unit-2, unit-3]}
  - name: hub-a
    roles: [hub, hub-main]
    web: {at: 'https://192.0.2.51', trust: 'sha256:0000000000000000000000000000000000000000000000000000000000000051',
      login: {form: /session, user: svc, password: env:HUB_PASSWORD, fields: {user: '{user}', word: '{password}'}}}
  - name: hub-b
    roles: [hub]
    web: {at: 'https://192.0.2.52', trust: 'sha256:0000000000000000000000000000000000000000000000000000000000000052',
      login: {form: /session, user: svc, password: env:HUB_PASSWORD, fields: {user: '{user}', word: '{password}'}}}
  - {name: old-gate, roles: [former], folder: stick/gate-2-until-february.tar.gz/gate-2-until-february}
`

// deskHost is the vendor's address in the sample ask.
const deskHost = "desk.ostrevane.example"

// Site is the simulated site: two boarding gates and a display behind a jump host, a fare service and the vendor's desk. The
// display is switched off.
type Site struct {
	Systems []*Server // gate-1, gate-2, fare-1, jump, display-1
	Desk    *Server
	FTP     *FTPDesk
	Web     *WebDesk      // the desk's web server
	Mail    *MailDesk     // the engineer's mail server
	Kiosk   *Console      // kiosk-1, in a container
	Switch  *Server       // pier-switch, a device with a command line
	Stack   *StreamDevice // deck-stack, by Telnet
	Hubs    [2]*Hub       // the controllers of the kiosk hub
	Program string        // that attaches to kiosk-1: ourselves
	Inbox   string        // folder in which the desk keeps what arrives
	keyFile []byte
}

const (
	switchPassword    = "demo-harbour-switch"
	privilegePassword = "demo-harbour-privilege"
	supportPassword   = "demo-harbour-support"
	hubPassword       = "demo-harbour-hub"
	farePassword      = "demo-harbour-fare"
	deskPassword      = "demo-harbour-desk"
	mailPassword      = "demo-harbour-mail"
	mailUser          = "svc@merrowick.example"
)

// StartSite starts all of it on loopback ports. What the desk receives goes below dir.
func StartSite(dir string) (*Site, error) {
	keyFile, public, err := NewKey()
	if err != nil {
		return nil, err
	}
	s := &Site{keyFile: keyFile, Program: "envask", Inbox: filepath.Join(dir, "desk", "incoming")}
	for gate := 1; gate <= 2; gate++ {
		s.Systems = append(s.Systems, &Server{Name: fmt.Sprintf("gate-%d", gate), User: "svc", Key: public, Tree: GateTree(gate),
			Commands: GateCommands(gate), Tools: GateTools(gate), Ahead: GateClock(gate), NoSudo: gate == 2, Exec: runsOnGate})
	}
	s.Systems = append(s.Systems, &Server{Name: "fare-1", User: "svc", Password: farePassword, Tree: FareTree(), Commands: FareCommands()},
		&Server{Name: "jump", User: "svc", Key: public, Tree: JumpTree(), Commands: JumpCommands(), Forward: true},
		&Server{Name: "display-1", User: "svc", Key: public, Tree: NewTree()})
	s.Kiosk = &Console{Server: &Server{Name: "kiosk-1", User: "root", Tree: KioskTree(),
		Commands: stateCommands("192.0.2.41", " 2.1 212 kiosk\n")},
		Banner: "kiosk-1\n"}
	if err := s.Kiosk.Start(); err != nil {
		return nil, err
	}
	s.Switch, s.Stack = pierSwitch(), deckStack()
	s.Hubs[0], s.Hubs[1] = kioskHub()
	s.Systems = append(s.Systems, s.Switch)
	if err := s.Stack.Start(); err != nil {
		return nil, err
	}
	web, ftp := filepath.Join(dir, "desk", "web"), filepath.Join(dir, "desk", "ftp")
	for _, d := range []string{s.Inbox, filepath.Join(web, "plain"), filepath.Join(ftp, "incoming")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, err
		}
	}
	if s.Desk, err = NewDesk(filepath.Dir(s.Inbox), "intake", deskPassword); err != nil {
		return nil, err
	}
	for _, server := range append(s.Systems[:len(s.Systems):len(s.Systems)], s.Desk) {
		if err := server.Start(); err != nil {
			return nil, errors.Join(err, s.Close())
		}
	}
	if s.Web, err = StartWebDesk(web, "intake", deskPassword); err == nil {
		s.FTP, err = StartFTPDesk(ftp, "intake", deskPassword)
	}
	if err == nil {
		s.Mail, err = StartMailDesk(mailUser, mailPassword)
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, s.Systems[4].Down()
}

// System gives the system of a name; nil when there is none.
func (s *Site) System(name string) *Server {
	for _, server := range s.Systems {
		if server.Name == name {
			return server
		}
	}
	return nil
}

// Close stops all of it.
func (s *Site) Close() error {
	var errs []error
	for _, server := range append(s.Systems[:len(s.Systems):len(s.Systems)], s.Desk) {
		if server != nil && server.listener != nil {
			errs = append(errs, server.Close())
		}
	}
	errs = append(errs, s.Kiosk.Close(), s.Stack.Close())
	for _, h := range s.Hubs {
		h.Close()
	}
	if s.Web != nil {
		errs = append(errs, s.Web.Close())
	}
	if s.FTP != nil {
		errs = append(errs, s.FTP.Close())
	}
	if s.Mail != nil {
		errs = append(errs, s.Mail.Close())
	}
	return errors.Join(errs...)
}

// WriteFiles writes the sample ask and systems file with the addresses of the running site, the login key and passwords, and
// into the engineer's home what the vendor's desk needs: its host key and the credential.
func (s *Site) WriteFiles(dir, home string) error {
	ask := strings.Replace(SampleAsk, "intake@"+deskHost, s.Desk.Address(), 1)
	ask = strings.ReplaceAll(ask, "https://"+deskHost+"/", "https://"+s.Web.Address()+"/")
	ask = strings.ReplaceAll(ask, "ftps://intake@"+deskHost+"/", "ftps://intake@"+s.FTP.Address()+"/")
	systems := SampleSystems
	for _, r := range [][2]string{{"svc@203.0.113.5", s.Systems[3].Address()}, {"svc@192.0.2.11", s.Systems[0].Address()},
		{"svc@192.0.2.12", s.Systems[1].Address()},
		{"svc@192.0.2.31", s.Systems[4].Address()}} {
		systems = strings.ReplaceAll(systems, r[0], "'"+r[1]+"'")
	}
	for _, r := range [][2]string{{"svc@192.0.2.20:2222", s.Systems[2].Address()}, {"~/.ssh/pier", "pier.key"},
		{"env:FARE_PASSWORD", "file:fare.password"}, {"env:PIER_SWITCH", "file:switch.password"},
		{"https://192.0.2.51", s.Hubs[0].Address()}, {"https://192.0.2.52", s.Hubs[1].Address()},
		{"sha256:0000000000000000000000000000000000000000000000000000000000000051", s.Hubs[0].Fingerprint()},
		{"sha256:0000000000000000000000000000000000000000000000000000000000000052", s.Hubs[1].Fingerprint()},
		{"env:HUB_PASSWORD", "file:hub.password"}, {"env:PIER_PRIVILEGE", "file:privilege.password"},
		{"env:PIER_SUPPORT", "file:support.password"},
		{"ssh: admin@192.0.2.2,", "ssh: '" + s.Switch.Address() + "',"},
		{"telnet: admin@192.0.2.3,", "telnet: '" + s.Stack.User + "@" + s.Stack.Address() + "',"},
		{"[podman, exec, -i, kiosk-1, sh]", "['" + s.Program + "', demo, --console, '" + s.Kiosk.Address() + "']"},
		{"zone: Europe/Lisbon\n", "zone: Europe/Lisbon\nknown-hosts: known_hosts\n"}} {
		systems = strings.ReplaceAll(systems, r[0], r[1])
	}
	known := ""
	for _, server := range s.Systems {
		known += server.KnownHost() + "\n"
	}
	secret := func(name string) string { return "'file:" + filepath.Join(dir, name) + "'" }
	credentials := "credentials:\n  - {route: desk, host: 127.0.0.1, password: " + secret("desk.password") + "}\n"
	for _, route := range []string{"web", "folder", "form", "upload"} {
		credentials += "  - {route: " + route + ", host: 127.0.0.1, user: intake, password: " + secret("desk.password") +
			", fingerprint: '" + s.Web.Fingerprint() + "'}\n"
	}
	credentials += "  - {route: ftp, host: 127.0.0.1, password: " + secret("desk.password") + ", fingerprint: '" +
		s.FTP.Fingerprint() + "'}\n"
	credentials += "  - {route: mail, host: " + deskHost + ", server: '" + s.Mail.Address() + "', from: " + mailUser + ", user: " +
		mailUser + ", password: " + secret("mail.password") + ", authority: '" + filepath.Join(dir, "mail.pem") + "'}\n"
	if err := WritePersons(dir); err != nil {
		return err
	}
	return writeAll(map[string]string{
		filepath.Join(dir, "boarding-gateway.yaml"): ask, filepath.Join(dir, "tallow-pier.yaml"): systems,
		filepath.Join(dir, "known_hosts"): known,
		filepath.Join(dir, "pier.key"):    string(s.keyFile), filepath.Join(dir, "fare.password"): farePassword + "\n",
		filepath.Join(dir, "switch.password"): switchPassword + "\n", filepath.Join(dir, "privilege.password"): privilegePassword + "\n",
		filepath.Join(dir, "support.password"): supportPassword + "\n", filepath.Join(dir, "hub.password"): hubPassword + "\n",
		filepath.Join(dir, "desk.password"): deskPassword + "\n",
		filepath.Join(dir, "mail.password"): mailPassword + "\n", filepath.Join(dir, "mail.pem"): string(s.Mail.Certificate),
		filepath.Join(home, "credentials.yaml"): credentials, filepath.Join(home, "known_hosts"): s.Desk.KnownHost() + "\n",
	})
}

// WriteSamples writes the sample ask and systems file with addresses as in the field.
func WriteSamples(dir string) error {
	return writeAll(map[string]string{filepath.Join(dir, "boarding-gateway.yaml"): SampleAsk,
		filepath.Join(dir, "tallow-pier.yaml"): SampleSystems})
}

func writeAll(files map[string]string) error {
	for name, text := range files {
		if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}
