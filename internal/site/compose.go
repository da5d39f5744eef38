package site

import (
	"fmt"
	"strings"

	"envask/internal/late"
)

// Draft is a systems file to be written.
type Draft struct {
	Name  string
	Zone  string // "" where it is not known
	Hosts []Host // none: the machine that we run on
}

// Host is one that a client configuration names.
type Host struct {
	Name string // as it is named there
	Jump string // that it is reached through, as it is named there; "" for none
}

var notInName = late.Pattern(`[^A-Za-z0-9_.-]+`)

// nameOf makes the name of a system from that of a host.
func nameOf(host string) string {
	name := strings.Trim(notInName().ReplaceAllString(host, "-"), "-_.")
	if name == "" || name == Case {
		name = "host-" + name
	}
	return name[:min(len(name), 60)]
}

// Compose writes a commented systems file.
func Compose(d Draft) []byte {
	var b strings.Builder
	b.WriteString("# The systems of one site, and how each is reached. It is your own file; an ask never sees it.\n")
	fmt.Fprintf(&b, "site: %s\n", nameOf(d.Name))
	if d.Zone != "" {
		fmt.Fprintf(&b, "zone: %s                # of windows, and of logs that name none\n", d.Zone)
	} else {
		b.WriteString("#zone: Europe/Lisbon        # of windows, and of logs that name none\n")
	}
	b.WriteString("systems:\n  # roles say which items of an ask are wanted from a system; items without roles from every one.\n")
	if len(d.Hosts) == 0 {
		b.WriteString("  - {name: this, local: true}\n")
	}
	taken := map[string]bool{}
	for _, h := range d.Hosts {
		name := nameOf(h.Name)
		for n := 2; taken[name]; n++ {
			name = fmt.Sprintf("%s-%d", nameOf(h.Name), n)
		}
		taken[name] = true
		jump := ""
		if h.Jump != "" {
			jump = "   # through " + notInName().ReplaceAllString(h.Jump, " ") + ", as your SSH configuration says"
		}
		fmt.Fprintf(&b, "  - {name: %s, roles: [], ssh: '%s'}%s\n", name, strings.ReplaceAll(h.Name, "'", "''"), jump)
	}
	b.WriteString(`
# More ways, and what else can be said of a system (envask site check FILE names every mistake):
#  - {name: jump, ssh: svc@203.0.113.5}
#  - {name: gate-1, roles: [gate], ssh: 'svc@192.0.2.11:2222', via: jump, key: ~/.ssh/pier, elevate: sudo, zone: UTC}
#  - {name: fare, roles: [fare], ssh: svc@192.0.2.20, password: env:FARE_PASSWORD}
#  - {name: kiosk, roles: [kiosk], shell: [podman, exec, -i, kiosk, sh]}
#  - {name: old-gate, roles: [gate], folder: /media/stick/gate-2026-03-01.tar.gz}
# Devices without a POSIX shell: a command line, a web interface, and one that can only send (docs/devices.md, web.md, inbox.md):
#  - {name: pier-switch, roles: [network], console: {ssh: admin@192.0.2.2, password: env:PIER_SWITCH}}
#  - {name: hub, roles: [hub], web: {at: 'https://192.0.2.51', login: {basic: yes, user: svc, password: env:HUB_PASSWORD}}}
#  - {name: annex-switch, roles: [network], pushes: {as: annex, from: 192.0.2.9}}
`)
	return []byte(b.String())
}
