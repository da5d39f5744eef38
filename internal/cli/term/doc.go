// Package term is the only code that knows a terminal: tables, colour, progress, prompts. What it prints on the terminal
// never holds a control byte that came from outside.
package term
