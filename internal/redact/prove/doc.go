// Package prove tests redaction on the day on which it runs: made-up secrets and identities go the way of the evidence (see Prover), and
// what was redacted is looked through for what a person should look at (see FindSuspects).
package prove
