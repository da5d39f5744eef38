// Package undo keeps temporary changes: whatever is done to a system that must be undone stands in the ledger before it
// is made, and is struck off when it is undone, also after a crash. Only what the ledger says is ours is ever removed.
package undo
