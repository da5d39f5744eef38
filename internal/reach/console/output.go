package console

import (
	"bytes"
	"io"
	"strings"
)

// output passes the lines of one answer on. The echo of what was typed is left out; lines that look like the prompt are held back until it
// is known whether they are of the answer.
type output struct {
	to      io.Writer // nil drops all
	secrets *secrets
	prompt  *prompt
	typed   string   // whose echo is waited for; "" when there is none any more
	lead    string   // the prompt at which it was typed
	echoed  string   // of the echo, so far
	held    []string // lines that look like the prompt
	tail    int      // how many of them, at the end, are of one text
	blanks  int      // empty lines that wait for another: at the end a pager leaves some
	lines   int
	bytes   int64
	first   string // the first lines, for what they say
	err     error
}

// mostHeld bounds how many lines that look like a prompt are held back.
const mostHeld = 64

// mostFirst bounds what is kept of the first lines, in bytes.
const mostFirst = 4 << 10

// line takes one whole line.
func (o *output) line(raw []byte) {
	if o.typed != "" && o.isEcho(string(raw)) {
		return
	}
	text := string(o.secrets.clean(raw))
	if o.prompt.matches(text) && len(o.held) < mostHeld {
		if n := len(o.held); n > 0 && o.held[n-1] != text {
			o.tail = 0
		}
		o.held = append(o.held, text)
		o.tail++
		return
	}
	if strings.TrimSpace(text) == "" && len(o.held) > 0 && len(o.held) < mostHeld { // between two prompts
		o.held = append(o.held, text)
		return
	}
	o.release()
	o.pass(text)
}

// isEcho reports whether a line repeats what was typed. A long command may be repeated over several lines.
func (o *output) isEcho(text string) bool {
	rest := strings.TrimSpace(strings.TrimPrefix(text, o.lead))
	squeezed := strings.Join(strings.Fields(o.echoed+rest), "")
	want := strings.Join(strings.Fields(o.typed), "")
	switch {
	case squeezed == want:
		o.typed = ""
		return true
	case rest == "" && o.echoed == "": // an empty line, or the prompt alone, before it
		return true
	case len(rest) >= 20 && strings.HasPrefix(want, squeezed):
		o.echoed += rest
		return true
	}
	if o.echoed != "" { // it was no echo
		o.pass(string(o.secrets.clean([]byte(o.echoed))))
	}
	o.typed = ""
	return false
}

// release passes on what was held back.
func (o *output) release() {
	for _, l := range o.held {
		o.pass(l)
	}
	o.held, o.tail = nil, 0
}

// close ends an answer: lines at its end that are the prompt at which the device waits now are none of it.
func (o *output) close(now string) {
	n, now := len(o.held), strings.TrimSpace(now)
	for n > 0 && (strings.TrimSpace(o.held[n-1]) == now || strings.TrimSpace(o.held[n-1]) == "") {
		n--
	}
	o.held = o.held[:n]
	o.release()
}

func (o *output) pass(text string) {
	if strings.TrimSpace(text) == "" {
		o.blanks++
		return
	}
	for ; o.blanks > 0; o.blanks-- {
		o.write("")
	}
	o.write(text)
}

func (o *output) write(text string) {
	o.lines++
	if len(o.first)+len(text) < mostFirst {
		o.first += text + "\n"
	}
	b := append([]byte(text), '\n')
	o.bytes += int64(len(b))
	if o.to == nil || o.err != nil {
		return
	}
	_, o.err = o.to.Write(b)
}

// last gives the line that stands there, without what is secret.
func (o *output) last(line []byte) string {
	return strings.ToValidUTF8(string(o.secrets.clean(bytes.TrimSpace(line))), "?")
}
