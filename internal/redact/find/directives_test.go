package find

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Settings with a blank between key and value, as configurations have them, one in a line of its own; sentences have such words, too.
func TestDirectives(t *testing.T) {
	for line, want := range map[string][2]string{
		"remote_password Swell-And-Surge": {"Swell-And-Surge", ""}, "  smtp-password \"tide race\"": {"", ""},
		"api_token 'Kelp-Brine7'": {"Kelp-Brine7", ""}, "remote_username bridge07": {"", "bridge07"}, "smtp_user\tmqgate7": {"",
			"mqgate7"},
		"password_file /etc/mosquitto/passwd": {}, "session-key negotiation": {}, "access-token expires": {}, "remote_password is": {},
		"remote_password Swell And Surge": {}, "-remote_password x-y-z": {}, "password Swell-And-Surge": {}, "user_name required": {},
	} {
		var got [2]string
		Directives([]byte(line), 0, len(line), func(start, end int) { got[0] = line[start:end] },
			func(start, end int) { got[1] = line[start:end] })
		require.Equal(t, want, got, line)
	}
}

// Who is shown to call, and the number within the house.
func TestNamesOfCalls(t *testing.T) {
	for line, want := range map[string]string{
		`From: "Oddvar Brekke" <sip:4107@pbx>;tag=8`: "Oddvar Brekke", `"gate 7" <sip:x@y>`: "", `From: Oddvar <sip:x@y>`: "",
		`"Brekke" <sip:1@x>`: "", "\" <sip": "",
	} {
		got := ""
		CallNames([]byte(line), 0, len(line), func(start, end int) { got = line[start:end] })
		require.Equal(t, want, got, line)
	}
	for line, want := range map[string]int{"sip:4107@": 4, "sips:41@": 5, "sip:4@": 5, "xip:4107@": 8, "4107@": 4} {
		require.Equal(t, want, ofCall([]byte(line), len(line)-1), line)
	}
}

// Lines of NAME:SECRET below the name of a program that sets passwords.
func TestChangedPasswords(t *testing.T) {
	for text, want := range map[string]string{
		"chpasswd:\n  list: |\n    gateadm:Poop.Deck.2\n    svc7:Kelp-71\n  expire: false\nx:Brine7": "gateadm=Poop.Deck.2 svc7=Kelp-71 ",
		"chpasswd <<EOF\ngateadm:Poop.Deck.2\nEOF\n":                                                 "gateadm=Poop.Deck.2 ",
		"chpasswd is a program\nsee: it\nand more\nof it\nx:Brine7":                                  "",
		"list: |\n  gateadm:Poop.Deck.2\n":                                                           "",
	} {
		got := ""
		name := ""
		ChangedPasswords([]byte(text), 0, len(text), func(start, end int) { got += name + "=" + text[start:end] + " " },
			func(start, end int) { name = text[start:end] })
		require.Equal(t, want, got, text)
	}
}

// The number of a telephone right behind the name of somebody.
func TestPhonesBehindNames(t *testing.T) {
	for rest, want := range map[string]string{
		" (912 00 713)": "912 00 713", ", 912 345 679": "912 345 679", " (912 00 713) x": "912 00 713", ", 14 03 2031 x": "",
		" (12 of 14)": "",
		", 91200713":  "", ", 14-03-2031": "", " (2031-03-14)": "", " 912 00 713": "", ", 1 2": "",
	} {
		first, last := PhoneOfNamed([]byte("Ines Aas"+rest), len("Ines Aas"))
		require.Equal(t, want, ("Ines Aas" + rest)[first:last], rest)
	}
}

// Accounts in their realm, with the name of who has it, and with their secret.
func TestAccountsInOtherForms(t *testing.T) {
	for line, want := range map[string]string{
		"user=itostrund@pam msg=x": "itostrund", "user=\"Ines Aas (itostrund)\" x": "Ines Aas (itostrund)",
		"User: TALLOW\\itostrund Session ID: 3": "itostrund",
		"user=itostrund@pam.example":            "", "user=\"Lane two (x y)\"": "",
	} {
		start, end, ok := User([]byte(line), 4, 0)
		if !ok {
			start, end = 0, 0
		}
		require.Equal(t, want, line[start:end], line)
	}
	line := "--credentials=svc7,Dry-Dock-9 --x"
	start, end, ok := KeyedSecret([]byte(line), 13, 0, KeySecret)
	require.True(t, ok)
	require.Equal(t, "svc7,Dry-Dock-9", line[start:end])
}
