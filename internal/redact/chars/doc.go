// Package chars holds what all of redaction asks about bytes, words and lines: their classes, where they begin and end, and sets of words.
package chars
