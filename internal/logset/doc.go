// Package logset chooses the files of a log that belong to a window, and cuts them to it. A log and its rotated members are
// one set.
package logset
