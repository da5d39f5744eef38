package standin

import (
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

// A server that is down refuses connections, and its port goes to nobody else.
func TestDown(t *testing.T) {
	s := &Server{Name: "gate-1", User: "svc", Tree: NewTree()}
	require.NoError(t, s.Start())
	at := s.listener.Addr().String()
	require.NoError(t, s.Down())
	_, err := net.Dial("tcp", at)
	require.ErrorContains(t, err, "refused")
	_, err = net.Listen("tcp", at)
	require.ErrorContains(t, err, "in use")
	require.NoError(t, s.Close())
	_, err = net.Dial("tcp", at)
	require.Error(t, err)
}
