// Package spill keeps lists that may be longer than memory. A short list never leaves memory; a long one waits in files without a name
// in a folder of the caller's, and goes with them. A million pieces of evidence take some megabytes this way.
package spill
