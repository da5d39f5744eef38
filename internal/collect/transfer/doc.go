// Package transfer brings the bytes of one file or one output to our disk: hashed while they come, in parts that go on after an
// interruption, with holes where the source has zeros, and under their final name only when they are whole. It knows nothing of asks and
// systems.
package transfer
