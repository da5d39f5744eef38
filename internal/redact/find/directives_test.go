package find

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Settings with a blank between key and value, as configurations have them, one in a line of its own; sentences have such words, too.
func TestDirectives(t *testing.T) {
	for line, want := range map[string][2]string{
		"remote_password Swell-And-Surge": {"Swell-And-Surge", ""}, "  smtp-password \"tide race\"": {"", ""},
		"api_token 'Kelp-Brine7'": {"Kelp-Brine7", ""}, "remote_username bridge07": {"", "bridge07"}, "smtp_user\tmqgate7": {"", "mqgate7"},
		"password_file /etc/mosquitto/passwd": {}, "session-key negotiation": {}, "access-token expires": {}, "remote_password is": {},
		"remote_password Swell And Surge": {}, "-remote_password x-y-z": {}, "password Swell-And-Surge": {}, "user_name required": {},
	} {
		var got [2]string
		Directives([]byte(line), 0, len(line), func(start, end int) { got[0] = line[start:end] }, func(start, end int) { got[1] = line[start:end] })
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
