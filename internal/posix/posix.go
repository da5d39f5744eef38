package posix

import "strings"

// Word makes one word of a shell's command line, whatever the text holds (IEEE 1003.1, shell command language, 2.2.2).
func Word(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// Shell gives the command line that runs a script in a POSIX shell, whatever shell the account has.
func Shell(script string) string { return "sh -c " + Word(script) }
