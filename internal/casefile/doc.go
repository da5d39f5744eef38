// Package casefile holds the home folder with its cases, and in each case folder the case file, the ledger and the
// rounds. One case has one writer at a time.
package casefile
