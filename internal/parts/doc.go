// Package parts holds the building blocks of asks for open systems that Envask ships, and writes asks of them. Each part is one data file
// in data/: a head (what it takes, what it fits) and, below a line of three dashes, items as they stand in an ask.
package parts
