package redact

import (
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/alias"
)

// What stands in a file that was changed must not be taken for what was found there: an alias of nonsense would end the program.
func TestPossibleValues(t *testing.T) {
	for _, c := range []struct {
		class alias.Class
		text  string
		want  bool
	}{
		{alias.IPv4, "192.0.2.61", true}, {alias.IPv4, "192-0-2-61", true}, {alias.IPv4, "it than th", false}, {alias.IPv4, "2001:db8::1", false}, {alias.IPv4, "", false},
		{alias.IPv6, "2001:db8::1", true}, {alias.IPv6, "2001:db8::zz", false}, {alias.IPv6, "fe80::1%eth0", true},
		{alias.Mail, "ines@merrowick.example", true}, {alias.Mail, "another line", false}, {alias.User, "ines", true}, {alias.User, "", false}, {alias.Secret, "x", true},
	} {
		v := alias.Value{Text: c.text, Class: c.class}
		require.Equal(t, c.want, v.Possible(), "%s %q", c.class, c.text)
		if c.want {
			require.NotPanics(t, func() { alias.NewTable().Give([]alias.Value{v}) }, c.text)
		}
	}
}
