package site

import (
	"net/netip"

	"envask/internal/keyfile"
)

// Pushes is a system that can do nothing but send to our inbox.
type Pushes struct {
	As   string       // its name there; "" is one that is made up
	From []netip.Addr // where it comes from; empty: anywhere
	// Folder is where it puts its files, on a stick or a share of this machine; "" is what the ask says, or our inbox.
	Folder string
}

func readPushes(m *keyfile.Map, s *System) {
	pm := m.Map("pushes")
	if pm == nil {
		return
	}
	defer pm.Done()
	p := &Pushes{}
	s.Pushes = p
	if v := pm.Value("as"); v.Set() {
		p.As = checkWord("as", v)
	}
	p.Folder = pm.String("folder")
	for _, v := range pm.Strings("from") {
		a, err := netip.ParseAddr(v.Text)
		if err != nil {
			v.Problem("from: expected an address, such as 192.0.2.9, found %q", v.Text)
		}
		p.From = append(p.From, a.Unmap())
	}
}
