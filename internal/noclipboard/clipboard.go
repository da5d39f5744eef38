// Package clipboard stands in for the module of this name, which looks for programs that reach the clipboard as soon as the program
// starts, whatever it is to do. Envask has nothing to do with what a person copied elsewhere, and on a customer's system it must not
// have: what the terminal pastes is typed text.
package clipboard

import "errors"

// Unsupported says that there is no clipboard.
var Unsupported = true

var errNone = errors.New("there is no clipboard here")

// ReadAll gives an error.
func ReadAll() (string, error) { return "", errNone }

// WriteAll gives an error.
func WriteAll(string) error { return errNone }
