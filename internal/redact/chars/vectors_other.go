//go:build !amd64

package chars

// Vectors says whether the processor has what the kernels are written for.
var Vectors = false
