//go:build failpoints

package durable

// Hit is called at every point, with its name.
var Hit = func(string) {}

// Point marks a moment at which a kill must lose nothing.
func Point(name string) { Hit(name) }
