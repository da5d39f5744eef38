package bring

import (
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"
)

// Dragged gives the path that is meant by what a terminal writes when a file is dragged into it: with quotes, backslashes before odd
// characters, or as a file:// address (RFC 8089). A path that is there as it stands is not touched.
func Dragged(text string) string {
	if _, err := os.Lstat(text); err == nil || text == "-" {
		return text
	}
	for _, form := range []func(string) string{fileAddress, quoted, escaped} {
		if path := form(strings.TrimSpace(text)); path != "" {
			if _, err := os.Lstat(path); err == nil {
				return path
			}
		}
	}
	return text
}

func fileAddress(text string) string {
	text = unquote(text)
	u, err := url.Parse(text)
	if err != nil || !strings.EqualFold(u.Scheme, "file") || u.Host != "" && u.Host != "localhost" {
		return ""
	}
	path := u.Path
	if runtime.GOOS == "windows" { // file:///C:/…
		path = strings.TrimPrefix(path, "/")
	}
	return filepath.FromSlash(path)
}

func quoted(text string) string { return unquote(text) }

// unquote takes quotes around the whole away; a quote within single quotes is written '\”.
func unquote(text string) string {
	if n := len(text); n >= 2 && (text[0] == '\'' || text[0] == '"') && text[n-1] == text[0] {
		return strings.ReplaceAll(text[1:n-1], `'\''`, `'`)
	}
	return text
}

// escaped takes the backslash before a character away.
func escaped(text string) string {
	if runtime.GOOS == "windows" {
		return ""
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+1 < len(text) {
			i++
		}
		b.WriteByte(text[i])
	}
	return b.String()
}
