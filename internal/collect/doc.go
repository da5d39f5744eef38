// Package collect takes what an ask names from the systems of a site: the plan (systems × items), running it, coverage,
// and going on after an interruption.
package collect
