package learn

import (
	"encoding/base64"
	"fmt"
	"html"
	"net/url"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// writtenForms gives the other forms in which a value is written where it stands within another text: with the escapes of
// JSON, of addresses (RFC 3986) and of XML, in Latin-1 and UTF-8, and for secrets the part of their base64 (RFC 4648) that does not
// depend on what
// stands around them; host names in small letters and in capitals. A value that was found with escapes is also looked for without.
// They are put behind a list.
func writtenForms(out []entry, v *alias.Value) []entry {
	add := func(text string) {
		if text != v.Text && (v.Class != alias.Secret || len(text) >= find.MinSecret) && len(text) >= MinName &&
			len(text) <= 2*MaxLearned && !strings.ContainsAny(text, "\r\n") {
			out = append(out, entry{text: text, value: v})
		}
	}
	switch v.Class {
	case alias.Secret, alias.Mail, alias.User:
	default:
		formsOfNumber(v, add)
		return out
	}
	plain := alias.AsUTF8(v.Text)
	add(plain)
	if strings.IndexByte(plain, '%') >= 0 {
		if t, err := url.PathUnescape(plain); err == nil && alias.IsPlainText(t) {
			add(t)
			plain = t
		}
	}
	if strings.IndexByte(plain, '\\') >= 0 {
		if t, ok := alias.FromJSON(plain); ok {
			add(t)
			plain = t
		}
	}
	if strings.IndexByte(plain, '&') >= 0 {
		if t := html.UnescapeString(plain); alias.IsPlainText(t) {
			add(t)
			plain = t
		}
	}
	if !find.IsPlainWord(plain) {
		escaped := url.QueryEscape(plain)
		add(escaped)
		add(strings.ReplaceAll(escaped, "+", "%20"))
		add(url.PathEscape(plain))
		quoted, _ := json.Marshal(plain)
		add(string(quoted[1 : len(quoted)-1])) // with \u003c and the like
		add(inQuotes.Replace(plain))
		add(strings.ReplaceAll(plain, "/", `\/`))
		add(html.EscapeString(plain))
		add(inElements.Replace(plain))
	}
	if strings.IndexFunc(plain, func(r rune) bool { return r >= utf8.RuneSelf }) >= 0 {
		add(asLatin1(plain))
		add(asASCII(plain, `\u%04x`))
		add(asASCII(plain, `\u%04X`))
	}
	if v.Class == alias.Secret && len(plain) >= minBase64 {
		out = formsInBase64(out, plain, v)
	}
	return out
}

// formsOfNumber adds the other forms of a number or the name of a host.
func formsOfNumber(v *alias.Value, add func(text string)) {
	switch v.Class {
	case alias.Card, alias.Phone:
		if d := chars.OnlyDigits(v.Text); len(d) >= 9 {
			add(d)
		}
	case alias.MAC: // without signs nothing else tells what it is
		if d := alias.HexDigits(v.Text); len(d) == 12 {
			lower, upper := strings.ToLower(d), strings.ToUpper(d)
			add(lower)
			add(upper)
			add(lower[:4] + "-" + lower[4:8] + "-" + lower[8:])
			add(upper[:4] + "-" + upper[4:8] + "-" + upper[8:])
		}
	case alias.Host:
		lower, upper := strings.ToLower(v.Text), strings.ToUpper(v.Text)
		add(lower)
		if upper != lower {
			add(upper)
		}
	}
}

// formsInBase64 adds the hearts of a value in base64, one for each place within three bytes at which it may begin.
func formsInBase64(out []entry, plain string, v *alias.Value) []entry {
	for offset := range 3 {
		heart := base64Heart(plain, offset)
		out = append(out, entry{text: heart, value: v, base64: true})
		if inURL := forURLs.Replace(heart); inURL != heart {
			out = append(out, entry{text: inURL, value: v, base64: true})
		}
	}
	return out
}

// asLatin1 writes a text in Latin-1; what has a character beyond it stays.
func asLatin1(text string) string {
	var b []byte
	for _, r := range text {
		if r > 0xff {
			return text
		}
		b = append(b, byte(r))
	}
	return string(b)
}

// asASCII writes a text as JSON does that keeps to ASCII. form is that of the four hexadecimal digits, whose letters may be of either case.
func asASCII(text, form string) string {
	var b strings.Builder
	for _, r := range text {
		switch high, low := utf16.EncodeRune(r); {
		case r < utf8.RuneSelf:
			b.WriteRune(r)
		case high != utf8.RuneError:
			fmt.Fprintf(&b, form+form, high, low)
		default:
			fmt.Fprintf(&b, form, r)
		}
	}
	return b.String()
}

var (
	inQuotes   = strings.NewReplacer(`\`, `\\`, `"`, `\"`)
	inElements = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;")
	forURLs    = strings.NewReplacer("+", "-", "/", "_") // the other alphabet of RFC 4648
)

// minBase64 is the length of the shortest secret that is looked for in base64, in bytes: the part of it that does not depend
// on what stands around it is 8 letters long then, which do not come about by chance.
const minBase64 = 7

// base64Heart gives the letters of a value's base64 that come from it alone, when so many bytes stand before it.
func base64Heart(text string, before int) string {
	var room [128]byte
	plain := append(append(room[:0], "\x00\x00"[:before]...), text...)
	var letters [192]byte
	all := base64.StdEncoding.AppendEncode(letters[:0], plain)
	return string(all[(before*8+5)/6 : (before+len(text))*8/6])
}
