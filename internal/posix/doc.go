// Package posix writes command lines for a POSIX shell.
package posix
