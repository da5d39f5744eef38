package posix

import "strings"

// Word makes one word of a shell's command line, whatever the text holds (IEEE 1003.1, shell command language, 2.2.2).
func Word(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// Shell gives the command line that runs a script in a POSIX shell, whatever shell the account has.
func Shell(script string) string { return "sh -c " + Word(script) }

// Plain gives a text as a person would type it as one word: in quotes only where it needs them.
func Plain(s string) string {
	if s == "" || strings.ContainsFunc(s, func(r rune) bool {
		return r > 0x7e || !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./=:@,+%~", r)
	}) {
		return Word(s)
	}
	return s
}
