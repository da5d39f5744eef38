package redact

import "envask/internal/redact/alias"

// Sample is one finding with what stands around it, for a person to look at. It holds no original: where that stands is said,
// so that it can be read again from the evidence.
type Sample struct {
	Rule   string      `json:"rule"`
	Class  alias.Class `json:"class"`
	Form   Form        `json:"form,omitempty"`   // of the file, when it had to be opened or decoded for it
	Member string      `json:"member,omitempty"` // of a container
	Offset int64       `json:"offset"`           // of the original in the (opened) file, in bytes
	Length int         `json:"length"`           // of the original, in bytes
	Left   string      `json:"left"`             // what stands before it in its line, redacted
	Put    string      `json:"put"`              // what stands in its place
	Right  string      `json:"right"`            // what stands behind it, redacted
}

// Around is how much of the line is shown on each side of a sample, in bytes; samplesEach, how many samples a rule gives in
// one text.
const (
	around      = 60
	samplesEach = 2
)

// sample hands a finding to whoever collects samples.
func (e *Engine) sample(b []byte, i int, put string) {
	f := e.findings[i]
	from, to := max(0, f.start-around), min(len(b), f.end+around)
	for j := f.start; j > from; j-- {
		if b[j-1] == '\n' {
			from = j
		}
	}
	for j := f.end; j < to; j++ {
		if b[j] == '\n' || b[j] == '\r' {
			to = j
		}
	}
	e.sampler(Sample{Rule: f.rule, Class: f.class, Form: e.opened, Member: e.member, Offset: e.mark + e.base + int64(f.start),
		Length: f.end - f.start,
		Left:   e.rendered(b, from, f.start), Put: put, Right: e.rendered(b, f.end, to)})
}

// rendered gives a stretch of text as it goes out. A finding that begins before it or ends behind it is shown whole.
func (e *Engine) rendered(b []byte, from, to int) string {
	var out []byte
	at := from
	for _, f := range e.findings {
		if f.end <= from || f.start >= to || e.ignore[string(b[f.start:f.end])] {
			continue
		}
		if f.start > at {
			out = append(out, b[at:f.start]...)
		}
		out = append(out, e.replacement(f, b[f.start:f.end])...)
		at = f.end
	}
	if at < to {
		out = append(out, b[at:to]...)
	}
	return string(out)
}
