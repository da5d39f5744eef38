package collect

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"

	"envask/internal/reach"
	"envask/internal/round"
)

// dying is a system whose connection breaks at the first read; why is known only a moment later.
type dying struct {
	wrapped
	broke atomic.Int64 // when, in milliseconds
}

func (d *dying) Lost() error {
	if at := d.broke.Load(); at > 0 && time.Now().UnixMilli() > at+200 {
		return fmt.Errorf("%w: the other side closed it", reach.ErrLost)
	}
	return nil
}

func (d *dying) FS() reach.FS { return dyingFS{d.Local.FS(), d} }

type dyingFS struct {
	reach.FS
	d *dying
}

func (f dyingFS) Open(name string) (fs.File, error) {
	f.d.broke.CompareAndSwap(0, time.Now().UnixMilli())
	return nil, &fs.PathError{Op: "open", Path: name, Err: &net.OpError{Op: "write", Err: errors.New("broken pipe")}}
}

// An error of the connection is that of the whole item, though the reason comes a moment after the first file failed.
func TestALostConnectionIsNoFaultOfAFile(t *testing.T) {
	h := newHost(t)
	h.write("log/a.log", minutes(0, time.Minute), six)
	h.write("log/b.log", minutes(0, time.Minute), six)
	h.system = func(l *reach.Local) reach.System { return &dying{wrapped: wrapped{l, nil, false}} }
	got, cell, _ := h.collect("files: [/log/*]")
	require.Equal(t, round.Failed, cell.State)
	require.Contains(t, cell.Reason, "connection lost: the other side closed it")
	require.Empty(t, got, "no file is blamed")
	for err, want := range map[error]bool{&net.OpError{}: true, sftp.ErrSSHFxConnectionLost: true, net.ErrClosed: true, fs.ErrPermission: false, nil: false} {
		require.Equal(t, want, reach.Broken(err), "%v", err)
	}
}
