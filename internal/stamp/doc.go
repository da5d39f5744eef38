// Package stamp recognises timestamps in bytes. It is never told a format.
//
// It works in three steps. Scan reads what one line writes, and nothing else: a Stamp may lack its year, its zone, or the
// order of day and month. Learn looks at a sample of a file and settles from it what the lines leave open. A Reader then
// gives every line's moment, line after line. What no evidence settles is a Doubt, which the caller shows.
package stamp
