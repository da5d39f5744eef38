// Package keyfile reads the YAML files that people write (asks, systems files, case files, credentials) and finds every
// mistake in them at once, each with file, line and column. A key is known because somebody reads it, so the list of
// known keys cannot drift from the code.
package keyfile
