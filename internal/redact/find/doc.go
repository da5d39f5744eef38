// Package find holds what looks for secrets and identities in a text: a function for each kind, which is told a place at which something
// may begin, and gives what stands there. They know bytes alone; what is done with a find is the engine's.
package find
