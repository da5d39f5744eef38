// Package cli is the command line: one file a command. Flags in, core called, result drawn.
package cli
