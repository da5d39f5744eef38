package form

import (
	"bytes"
	"encoding/base64"
	"io"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// HAR files (HTTP Archive 1.2) hold what a browser sent and received. Headers, cookies, the parts of addresses and forms are
// pairs of a name and a value in them, so they are taken by their names; bodies are taken out of their escapes or base64,
// redacted as what they are, and put back. Paths, states, sizes and timings stay.

// isHAR tells a HAR file by its name or its beginning.
func isHAR(head []byte, name string) bool {
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	if len(text) == 0 || text[0] != '{' {
		return false
	}
	if strings.HasSuffix(strings.ToLower(name), ".har") {
		return true
	}
	return bytes.Contains(text, []byte(`"log"`)) && bytes.Contains(text, []byte(`"creator"`)) &&
		(bytes.Contains(text, []byte(`"entries"`)) || bytes.Contains(text, []byte(`"pages"`)))
}

// har redacts one HAR file.
type har struct {
	o      *Opener
	counts Counts
}

// applyHAR redacts a HAR file, entry by entry. One that is no whole JSON document is redacted as text.
func applyHAR(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	whole := &spool{dir: o.temp}
	defer whole.Close()
	if _, err := io.Copy(whole, r); err != nil {
		return Result{}, err
	}
	content := func() io.Reader { return io.NewSectionReader(whole, 0, whole.n) }
	options := []jsontext.Options{jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)}
	check := jsontext.NewDecoder(content(), options...)
	for err := error(nil); err != io.EOF; {
		if _, err = check.ReadToken(); err != nil && err != io.EOF {
			res, err := applyText(o, w, content(), in)
			res.Note = "it is no whole HAR file; it was redacted as text"
			return res, err
		}
	}
	if w == nil {
		w = io.Discard
	}
	h := &har{o: o, counts: Counts{}}
	enc := jsontext.NewEncoder(w, append(options, jsontext.WithIndent(" "), jsontext.EscapeForHTML(false))...)
	if err := h.copy(jsontext.NewDecoder(content(), options...), enc); err != io.EOF {
		return Result{Counts: h.counts}, err
	}
	return Result{Counts: h.counts}, nil
}

// copy copies token by token, and takes the pairs and bodies whole.
func (h *har) copy(dec *jsontext.Decoder, enc *jsontext.Encoder) error {
	key := "" // of the value that comes next
	for {
		kind := dec.PeekKind()
		if kind == '{' {
			where := parentOf(dec)
			if pairLists[where] || key == "postData" || key == "content" {
				value, err := dec.ReadValue()
				if err != nil {
					return err
				}
				if err := enc.WriteValue(h.object(value.Clone(), where)); err != nil {
					return err
				}
				key = ""
				continue
			}
		}
		token, err := dec.ReadToken()
		if err != nil {
			return err
		}
		if token.Kind() != '"' {
			if err := enc.WriteToken(token); err != nil {
				return err
			}
			key = ""
			continue
		}
		text := token.String()
		if isName(dec) {
			key = text
		} else {
			text = h.value(key, text)
			key = ""
		}
		if err := enc.WriteToken(jsontext.String(text)); err != nil {
			return err
		}
	}
}

// pairLists are the lists whose objects are pairs of a name and a value.
var pairLists = map[string]bool{"headers": true, "cookies": true, "queryString": true, "params": true}

// isName says whether the token just read is the name of a member.
func isName(dec *jsontext.Decoder) bool {
	kind, n := dec.StackIndex(dec.StackDepth())
	return kind == '{' && n%2 == 1
}

// parentOf gives the name of the member whose list the next value stands in.
func parentOf(dec *jsontext.Decoder) string {
	kind, _ := dec.StackIndex(dec.StackDepth())
	if kind != '[' {
		return ""
	}
	parts := strings.Split(string(dec.StackPointer()), "/")
	// The pointer is that of the last value read: the list itself before its first one, else one of its values.
	for i := len(parts) - 1; i > 0 && i >= len(parts)-2; i-- {
		if pairLists[parts[i]] {
			return parts[i]
		}
	}
	return ""
}

// members of a small object, in order.
type member struct {
	name string
	raw  jsontext.Value
}

// object redacts a pair, a form or a body.
func (h *har) object(value jsontext.Value, list string) jsontext.Value {
	members, ok := readMembers(value)
	if !ok {
		return h.asText(value)
	}
	fields := map[string]string{}
	for _, m := range members {
		if m.raw.Kind() == '"' {
			fields[m.name] = unquote(m.raw)
		}
	}
	for i := range members {
		m := &members[i]
		switch {
		case m.raw.Kind() == '"' && m.name == "value" && list != "":
			m.raw = quote(h.pair(list, fields["name"], fields["value"]))
		case m.raw.Kind() == '"' && m.name == "text":
			m.raw = quote(h.body(fields["text"], fields["mimeType"], fields["encoding"]))
		case m.raw.Kind() == '"':
			m.raw = quote(h.value(m.name, fields[m.name]))
		case m.raw.Kind() == '[' && pairLists[m.name]:
			m.raw = h.list(m.raw, m.name)
		case m.raw.Kind() == '{' || m.raw.Kind() == '[':
			m.raw = h.asText(m.raw)
		}
	}
	return writeMembers(members)
}

// list redacts a list of pairs.
func (h *har) list(value jsontext.Value, name string) jsontext.Value {
	dec := jsontext.NewDecoder(bytes.NewReader(value), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	if _, err := dec.ReadToken(); err != nil {
		return h.asText(value)
	}
	out := []byte{'['}
	for dec.PeekKind() != ']' {
		v, err := dec.ReadValue()
		if err != nil {
			return h.asText(value)
		}
		if len(out) > 1 {
			out = append(out, ',')
		}
		if v.Kind() == '{' {
			out = append(out, h.object(v.Clone(), name)...)
		} else {
			out = append(out, h.asText(v.Clone())...)
		}
	}
	return append(out, ']')
}

// pair redacts the value of a pair by its name.
func (h *har) pair(list, name, value string) string {
	if value == "" {
		return value
	}
	kind := find.KindOf([]byte(name))
	switch {
	case list == "cookies" || kind&find.KeyCookie != 0:
		return h.put("cookie", value)
	case kind&find.KeyAuthorization != 0:
		scheme, rest, ok := strings.Cut(value, " ")
		if ok && chars.IsAllLetters([]byte(scheme)) {
			return scheme + " " + h.put("authorization", rest)
		}
		return h.put("authorization", value)
	case list == "headers" && (strings.EqualFold(name, "referer") || strings.HasPrefix(name, ":")):
		return h.text(value)
	}
	return h.value(name, value)
}

// value redacts a text that stands next to a key.
func (h *har) value(key, value string) string {
	kind := find.KindOf([]byte(key))
	if kind&find.KeySecret != 0 && find.IsValue([]byte(value)) || kind&find.KeyWeak != 0 && find.LooksRandom([]byte(value)) &&
		!strings.HasPrefix(value, "http") {
		return h.put("keyed-secret", value)
	}
	if kind&(find.KeyUser|find.KeyPhone|find.KeyMAC) != 0 {
		// The rules see the key as they do in a log.
		head := key + "=\""
		out := h.text(head + strings.ReplaceAll(value, `"`, `'`) + `"`)
		return strings.TrimSuffix(strings.TrimPrefix(out, head), `"`)
	}
	return h.text(value)
}

// put gives what stands in the place of the value of a secret.
func (h *har) put(rule, value string) string {
	instead, replaced := h.o.worker.Secret(rule, value)
	if !replaced {
		return value
	}
	h.counts[rule]++
	return instead
}

// text redacts a text without a key.
func (h *har) text(s string) string {
	out, counts := h.o.worker.Short(s)
	h.counts.Add(counts)
	return out
}

// body redacts what was sent or received. What is no text is left out: nobody could look into it.
func (h *har) body(text, mime, coding string) string {
	if text == "" {
		return text
	}
	if !strings.EqualFold(coding, "base64") {
		return h.text(text)
	}
	data, err := base64.StdEncoding.DecodeString(text)
	if err != nil || find.IsPlaceholder([]byte(text)) {
		return h.text(text)
	}
	if !isTextType(mime) || isOpaque(data[:min(len(data), headSize)], "") {
		if h.o.worker.Searches() {
			h.text(string(data))
		}
		if string(data) == find.Placeholder("body") {
			return text
		}
		h.counts["body"]++
		return base64.StdEncoding.EncodeToString([]byte(find.Placeholder("body")))
	}
	return base64.StdEncoding.EncodeToString([]byte(h.text(string(data))))
}

// isTextType says whether a content type is one of texts.
func isTextType(mime string) bool {
	mime, _, _ = strings.Cut(strings.ToLower(mime), ";")
	mime = strings.TrimSpace(mime)
	if strings.HasPrefix(mime, "text/") || strings.HasSuffix(mime, "+json") || strings.HasSuffix(mime, "+xml") || mime == "" {
		return true
	}
	switch mime {
	case "application/json", "application/xml", "application/javascript",
		"application/x-javascript", "application/x-www-form-urlencoded", "application/graphql",
		"application/x-ndjson", "application/yaml", "application/toml",
		"application/jwt", "multipart/form-data", "application/x-json", "application/octet-stream":
		return true
	}
	return false
}

// asText redacts a piece of JSON whose form is not known.
func (h *har) asText(value jsontext.Value) jsontext.Value {
	out := jsontext.Value(h.text(string(value)))
	if !out.IsValid(jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)) {
		return jsontext.Value(`"` + find.Placeholder("body") + `"`)
	}
	return out
}

func readMembers(value jsontext.Value) (members []member, ok bool) {
	dec := jsontext.NewDecoder(bytes.NewReader(value), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	if _, err := dec.ReadToken(); err != nil {
		return nil, false
	}
	for dec.PeekKind() == '"' {
		name, err := dec.ReadToken()
		if err != nil {
			return nil, false
		}
		m := member{name: name.String()}
		raw, err := dec.ReadValue()
		if err != nil {
			return nil, false
		}
		m.raw = raw.Clone()
		members = append(members, m)
	}
	return members, true
}

func writeMembers(members []member) jsontext.Value {
	out := []byte{'{'}
	for i, m := range members {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(append(append(out, quote(m.name)...), ':'), m.raw...)
	}
	return append(out, '}')
}

func quote(s string) jsontext.Value {
	out, err := jsontext.AppendQuote(nil, s)
	if err != nil { // not valid UTF-8: what is not is replaced
		out, _ = jsontext.AppendQuote(nil, strings.ToValidUTF8(s, "\ufffd"))
	}
	return out
}

func unquote(v jsontext.Value) string {
	out, err := jsontext.AppendUnquote(nil, []byte(v))
	if err != nil {
		out, _ = jsontext.AppendUnquote(nil, bytes.ToValidUTF8(v, []byte("\ufffd")))
	}
	return string(out)
}
