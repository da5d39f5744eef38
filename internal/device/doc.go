// Package device describes systems without a POSIX shell: what their command lines look like, and what is typed on them, step by step.
// Systems files and asks hold such descriptions.
package device
