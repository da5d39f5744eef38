package reach

import (
	"context"
	"errors"
	"io"
	"net"

	"github.com/pkg/sftp"
)

// Broken says whether an error is of the connection, not of the file that was asked for. Health tells soon after why the
// connection is gone; a read may fail before it does.
func Broken(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) || errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, sftp.ErrSSHFxNoConnection) ||
		errors.Is(err, net.ErrClosed) || errors.Is(err, ErrLost)
}

// MayHeal says whether trying again a little later can help: a connection that broke or was refused for a moment. A name that
// does not exist, a key that is not trusted and a login that is refused do not heal.
func MayHeal(err error) bool {
	var dns *net.DNSError
	switch {
	case err == nil, errors.Is(err, context.Canceled), errors.Is(err, ErrHostKey), errors.Is(err, ErrLogin), errors.Is(err, ErrNotSSH):
		return false
	case errors.As(err, &dns):
		return dns.IsTimeout || dns.IsTemporary
	}
	return errors.Is(err, ErrConnection) || errors.Is(err, io.EOF) || Broken(err)
}
