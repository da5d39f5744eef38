package reach

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"strings"
	"sync"
	"unicode/utf16"

	"envask/internal/late"
	"envask/internal/posix"
)

// WindowsSystem is what a system offers that may be Windows.
type WindowsSystem interface {
	// Windows reports whether it is.
	Windows() bool
}

// OnWindows reports whether a system is Windows.
func OnWindows(s System) bool {
	w, ok := s.(WindowsSystem)
	return ok && w.Windows()
}

// Windows reports whether the server is OpenSSH for Windows, which says so in its version string.
func (r *SSH) Windows() bool { return strings.Contains(r.Identity(), "for_Windows") }

// PowerShell gives the command line that runs a script in the PowerShell which every Windows has, whatever shell the account has: the
// script is encoded, so that no shell reads anything in it. It prints UTF-8.
func PowerShell(script string) string {
	script = "$ProgressPreference='SilentlyContinue';[Console]::OutputEncoding=[Text.Encoding]::UTF8\n" + script
	units := utf16.Encode([]rune(script))
	raw := make([]byte, 0, 2*len(units))
	for _, u := range units {
		raw = binary.LittleEndian.AppendUint16(raw, u)
	}
	return "powershell.exe -NoProfile -NonInteractive -EncodedCommand " + base64.StdEncoding.EncodeToString(raw)
}

// shellKind is which shell runs the command lines of an account.
type shellKind int

const (
	posixShell shellKind = iota
	cmdShell
	powerShell
)

// loginShell remembers which shell an account has.
type loginShell struct {
	once sync.Once
	kind shellKind
}

// askShell tells shells of Windows apart by what they put in the place of a variable.
const askShell = "echo envask-%ComSpec%-$PSHOME-"

func (l *loginShell) of(ctx context.Context, r Runner) shellKind {
	l.once.Do(func() {
		ctx, cancel := context.WithTimeout(ctx, ConnectTimeout)
		defer cancel()
		var out strings.Builder
		if _, err := r.Run(ctx, askShell, &out, &strings.Builder{}); err != nil {
			return
		}
		_, said, _ := strings.Cut(out.String(), "envask-")
		switch {
		case strings.Contains(said, "$PSHOME") && !strings.Contains(said, "%ComSpec%"):
			l.kind = cmdShell
		case strings.Contains(said, "%ComSpec%") && strings.Contains(strings.ToLower(said), "powershell"):
			l.kind = powerShell
		}
	})
	return l.kind
}

// Word gives a text as one word of the shell that runs the command lines of a system. An error says why the shell takes no such word.
func Word(ctx context.Context, s System, text string) (string, error) {
	if _, typed := s.(Typist); typed {
		return typedWord(text)
	}
	r, ok := s.(interface {
		Runner
		loginShell() *loginShell
	})
	switch {
	case OnWindows(s) && Own(s): // its commands are run by cmd.exe
		return cmdWord(text)
	case !ok || !OnWindows(s):
		return posix.Word(text), nil
	}
	switch r.loginShell().of(ctx, r) {
	case cmdShell:
		return cmdWord(text)
	case powerShell:
		return powerShellWord(text), nil
	}
	return posix.Word(text), nil
}

// typedWord gives a text as it is typed on a device. How a device reads quotes is not known, so nothing that needs them is typed.
func typedWord(text string) (string, error) {
	if !plainTyped().MatchString(text) {
		return "", fmt.Errorf("%q holds characters that are not typed on a device", text)
	}
	return text, nil
}

var plainTyped = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9 _.:/@+,=-]*$`)

func (r *SSH) loginShell() *loginShell { return &r.login }

// cmdWord quotes for cmd.exe, which reads some characters also within quotes.
func cmdWord(text string) (string, error) {
	if i := strings.IndexAny(text, "\"%!^&|<>\r\n"); i >= 0 {
		return "", fmt.Errorf("%q holds %q, which the shell of this system (cmd.exe) takes in no word", text, text[i])
	}
	if strings.HasSuffix(text, `\`) {
		text += `\` // else it would take the quote along
	}
	return `"` + text + `"`, nil
}

// powerShellWord quotes for PowerShell, to which typographic quotes are quotes, too.
func powerShellWord(text string) string {
	return "'" + strings.NewReplacer("'", "''", "\u2018", "\u2018\u2018", "\u2019", "\u2019\u2019", "\u201a", "\u201a\u201a",
		"\u201b", "\u201b\u201b").
		Replace(text) + "'"
}
