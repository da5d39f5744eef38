// Package scan finds the places of a text at which a rule may find something at all, by a few bytes around each: it may give places at
// which nothing is found, never leave one out. Where the processor has vectors, it looks at 32 places at once.
package scan
