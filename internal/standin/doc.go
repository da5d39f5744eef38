// Package standin holds simulated systems and a simulated vendor desk. They speak real protocols on loopback ports, for
// the demo and the tests; nothing else uses them.
package standin
