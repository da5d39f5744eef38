// Package flow is what each command does, as plain functions that report progress as events. It prints nothing, reads no
// flag and asks nobody: questions reach a person through the functions in App.
package flow
