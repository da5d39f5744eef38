package standin

import (
	"fmt"
	"strings"
	"time"
)

// pierSwitch is the switch of the pier, by SSH: a privileged mode, an account of the maker's support, and files that it sends by scp.
func pierSwitch() *Server {
	return &Server{Name: "pier-switch", User: "admin", Password: switchPassword, Tree: NewTree(), NoSFTP: true, Device: &Device{
		Name: "pier-switch", Privilege: privilegePassword, Accounts: map[string]string{"support": supportPassword}, SCP: true,
		Flash: NewTree(), Ahead: -73 * time.Second}}
}

// deckStack is a stack of four switches, by Telnet; the fourth was put in and nobody listed it.
func deckStack() *StreamDevice {
	var units []Fellow
	for _, name := range []string{"unit-1", "unit-2", "unit-3", "unit-4"} {
		units = append(units, Fellow{Name: name, Address: "-", State: map[bool]string{true: "master", false: "member"}[name == "unit-1"]})
	}
	return &StreamDevice{Telnet: true, Device: &Device{Name: "deck-stack", User: "admin", Password: switchPassword,
		Privilege: privilegePassword, Flash: NewTree(), Members: units}}
}

// ByHand gives the commands that log in to the devices by hand.
func (s *Site) ByHand() []string {
	host, port, _ := strings.Cut(s.Stack.Address(), ":")
	return []string{fmt.Sprintf("ssh -p %d %s@127.0.0.1", s.Switch.Port(), s.Switch.User), "telnet " + host + " " + port}
}
