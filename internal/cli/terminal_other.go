//go:build !linux

package cli

// terminalKey names the terminal in which the program runs; here that is not known.
func terminalKey(bool) string { return "" }
