// Package reach is one interface to any system: what is on it is an io/fs file system, whatever lies between.
package reach
