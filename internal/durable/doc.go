// Package durable writes small files that a crash or a full disk cannot leave half written, sweeps up what a killed run left
// aside, and says which names from outside may name a file of ours.
package durable
