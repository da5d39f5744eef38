//go:build !windows

package reach

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
)

// usualVariables are those that commands on this machine see.
var usualVariables = []string{"PATH", "HOME", "USER", "LOGNAME", "LANG", "LC_ALL", "TZ"}

// topFolder is where the names of this machine's files begin.
const topFolder = "/"

const usualPath = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

func (l localFS) path(name string) string {
	root := l.root
	if root == "" {
		root = "/"
	}
	return filepath.Join(root, name)
}

// openNoWait opens for reading without waiting for a writer on a FIFO.
func openNoWait(p string) (*os.File, error) {
	return os.OpenFile(p, os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_NOCTTY, 0)
}

func shellCommand(ctx context.Context, command string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", command) // #nosec G204 -- running approved commands is what it is for
	ownGroup(cmd)
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	return cmd
}

// ownGroup puts a program into a process group of its own, so that stopping it stops its children.
func ownGroup(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// killGroup stops a program and its children.
func killGroup(cmd *exec.Cmd) {
	if cmd.Process != nil {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // it may have ended
	}
}
