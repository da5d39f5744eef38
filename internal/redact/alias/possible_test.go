package alias

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What stands in a file that was changed must not be taken for what was found there: an alias of nonsense would end the program.
func TestPossibleValues(t *testing.T) {
	for _, c := range []struct {
		class Class
		text  string
		want  bool
	}{
		{IPv4, "192.0.2.61", true}, {IPv4, "192-0-2-61", true}, {IPv4, "it than th", false}, {IPv4, "2001:db8::1", false},
		{IPv4, "", false},
		{IPv6, "2001:db8::1", true}, {IPv6, "2001:db8::zz", false}, {IPv6, "fe80::1%eth0", true},
		{Mail, "ines@merrowick.example", true}, {Mail, "another line", false}, {User, "ines", true}, {User, "", false}, {Secret, "x", true},
	} {
		v := Value{Text: c.text, Class: c.class}
		require.Equal(t, c.want, v.Possible(), "%s %q", c.class, c.text)
		if c.want {
			require.NotPanics(t, func() { NewTable().Give([]Value{v}) }, c.text)
		}
	}
}
