// Package fault holds the one error type that a person may see. An error says once what failed (Op), on which
// system or file (Target), why (Err) and what to do next (Hint); its class decides the exit code.
package fault
