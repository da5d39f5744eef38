// Package report draws the first page of an archive, for a reader who has nothing but a browser.
package report
