// Package reachtest is the conformance suite for ways to reach a system. Every way must pass it on the same small tree.
package reachtest
