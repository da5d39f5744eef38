//go:build !failpoints

package durable

// Point marks a moment at which a kill must lose nothing. It does nothing; the kill tests build the program with the tag failpoints,
// in which a run can be made to end there.
func Point(string) {}
