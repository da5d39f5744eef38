package reach

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
)

// usualVariables are those that commands on this machine see; without the folders of Windows hardly any program starts.
var usualVariables = []string{"PATH", "PATHEXT", "SystemRoot", "SystemDrive", "ComSpec", "TEMP", "TMP", "ProgramData", "ProgramFiles",
	"USERPROFILE", "USERNAME", "HOME", "USER", "LANG", "TZ"}

// topFolder is none: names begin with a drive.
const topFolder = ""

const usualPath = `C:\Windows\system32;C:\Windows`

// path turns "C/x/y" into `C:\x\y`. The top itself is the system drive.
func (l localFS) path(name string) string {
	if l.root != "" {
		return filepath.Join(l.root, filepath.FromSlash(name))
	}
	drive, rest, _ := strings.Cut(name, "/")
	if drive == "." {
		return `C:\`
	}
	return drive + `:\` + filepath.FromSlash(rest)
}

func openNoWait(p string) (*os.File, error) { return os.Open(p) }

func shellCommand(ctx context.Context, command string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "cmd.exe")
	cmd.SysProcAttr = &syscall.SysProcAttr{CmdLine: `/d /s /c "` + command + `"`}
	return cmd
}

// Windows is true here.
func (l *Local) Windows() bool { return true }

// ownGroup does nothing: Windows stops a program alone.
func ownGroup(*exec.Cmd) {}

// killGroup stops a program.
func killGroup(cmd *exec.Cmd) {
	if cmd.Process != nil {
		_ = cmd.Process.Kill() // it may have ended
	}
}
