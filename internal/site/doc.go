// Package site holds the systems file: the systems of one site, how each is reached, and the roles it plays. It belongs
// to the engineer; an ask never names a system.
package site
