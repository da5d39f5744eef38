package site

import (
	"strings"

	"envask/internal/keyfile"
)

// maxShellWords bounds the words of a program that gives a shell.
const maxShellWords = 100

func readShell(m *keyfile.Map, s *System) {
	list := m.Strings("shell")
	if len(list) == 0 || strings.TrimSpace(list[0].Text) == "" {
		m.Problem("shell: expected a program and its arguments, such as [podman, exec, -i, gate-1, sh]")
	}
	for i, v := range list {
		if i == maxShellWords || strings.ContainsRune(v.Text, 0) {
			v.Problem("shell: %d words at most, and no NUL in them", maxShellWords)
			break
		}
		s.Shell = append(s.Shell, v.Text)
	}
}
