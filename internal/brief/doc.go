// Package brief writes the write-up that goes with the evidence: what, when, how bad, and the vendor's questions.
package brief
