// Package learn keeps what rules found (see Set) and finds it again wherever it stands, also as it is written within other texts (see
// Matcher). What one weak find says is not learned: it would take a common word out of every path.
package learn
