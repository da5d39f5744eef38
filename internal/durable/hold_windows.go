package durable

import "os"

// hold does nothing: a file that is open cannot be removed there.
func hold(*os.File) {}

// orphaned leaves it to the system to refuse.
func orphaned(string) bool { return true }
