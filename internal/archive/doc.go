// Package archive writes, reads and verifies the archives that go to a vendor. An archive can be unpacked with tar and
// checked with sha256sum; nobody needs Envask to use it.
package archive
