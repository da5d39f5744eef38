package find

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Accounts that are made of a given name and a surname or its first letter, with a sign between: kari_strand, kari.s, rajan_m.

// minNickGiven is how long the given name of such an account is at least: shorter ones are parts of other words too often.
const minNickGiven = 4

// Nicks finds such accounts where a text speaks of people: in chats, tickets and notes. It is for short texts.
func Nicks(b []byte, from, to int, person func(start, end int)) {
	for at := from; at < to; at++ {
		if !chars.IsLower(b[at]) || at > from && !beforeNick[b[at-1]] {
			continue
		}
		end := at
		for end < to && (chars.IsLower(b[end]) || (b[end] == '.' || b[end] == '_') && end+1 < to && chars.IsLower(b[end+1])) {
			end++
		}
		if isNick(b[at:end]) && (end == to || isBehindNick(b, end, to)) {
			person(at, end)
		}
		at = end
	}
}

var (
	beforeNick = *chars.BytesOf(" \t\n@<([\"'`,;:|>")
	behindNick = *chars.BytesOf(" \t\n\r>)]\"'`,;|!?")
)

// isBehindNick reports whether what follows a word does not make it a part of something else.
func isBehindNick(b []byte, at, to int) bool {
	if b[at] == '.' || b[at] == ':' {
		return at+1 == to || chars.IsSpace(b[at+1])
	}
	return behindNick[b[at]]
}

// isNick reports whether a word is such an account.
func isNick(w []byte) bool {
	n := bytes.IndexAny(w, "._")
	if n < minNickGiven || n == len(w)-1 {
		return false
	}
	given, surname := w[:n], w[n+1:]
	if bytes.ContainsAny(surname, "._") || !lexicon.Given(given) || lexicon.Everyday(given) || lexicon.Everyday(surname) {
		return false
	}
	return len(surname) != 2 && !(w[n] == '.' && (sourceEndings.HasBytes(surname) || fileEndings.HasBytes(surname)))
}

// fileEndings are those of files that are no sources of programs.
var fileEndings = chars.WordSet(`txt log csv pdf png jpg jpeg gif svg doc docx xls xlsx ppt zip tar gz bz2 xz json xml yml yaml toml
	ini conf cfg
	html htm css md rst bak old tmp pem crt key pub asc eml ics vcf wav mp3 mp4 avi mov exe dll bat cmd ps1 iso img bin dat db sqlite
	com org net io dev app example local`)
