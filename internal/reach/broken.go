package reach

import (
	"errors"
	"net"

	"github.com/pkg/sftp"
)

// Broken says whether an error is of the connection, not of the file that was asked for. Health tells soon after why the
// connection is gone; a read may fail before it does.
func Broken(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) || errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, sftp.ErrSSHFxNoConnection) || errors.Is(err, net.ErrClosed) || errors.Is(err, ErrLost)
}
