package standin

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"path"
	"strings"

	"golang.org/x/crypto/ssh"
)

// takes reports whether the device takes an exec request of SSH.
func (d *Device) takes(line string) bool {
	if strings.HasPrefix(line, "scp ") {
		return d.SCP
	}
	return d.Exec
}

// exec answers an exec request: a command without any dialogue, or the sending side of scp.
func (d *Device) exec(_ context.Context, line string, ch ssh.Channel) int {
	if rest, ok := strings.CutPrefix(line, "scp "); ok {
		words := strings.Fields(rest)
		return d.sendFile(strings.Trim(words[len(words)-1], "'"), ch)
	}
	d.Change(func(d *Device) { d.typed = append(d.typed, line) })
	text, ok := d.usual(line)
	if !ok {
		_, _ = io.WriteString(ch, "% Unknown command: "+line+"\n")
		return 0 // as devices do
	}
	_, _ = io.WriteString(ch, text)
	return 0
}

// sendFile sends a file as scp -f does: a line with mode, size and name, the bytes, and a NUL; each is acknowledged with a NUL.
func (d *Device) sendFile(name string, ch ssh.Channel) int {
	in := bufio.NewReader(ch)
	_, _ = in.ReadByte()
	_, n, err := d.Flash.real(name)
	if err != nil || n == nil {
		fmt.Fprintf(ch, "\x01scp: %s: No such file\n", name)
		return 1
	}
	fmt.Fprintf(ch, "C0644 %d %s\n", len(n.Data), path.Base(name))
	if c, _ := in.ReadByte(); c != 0 {
		return 1
	}
	_, _ = ch.Write(append(append([]byte(nil), n.Data...), 0))
	_, _ = in.ReadByte()
	return 0
}
