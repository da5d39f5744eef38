// Package round holds what a collection run leaves: its entries (one file or one output each), the coverage table, the clocks and the ways
// of the systems, and the groups of the ask. Collecting writes it, whatever brings the bytes; packing, the page and comparing read it.
package round
