package redact

// Around is how much of the line is shown on each side of a sample, in bytes; samplesEach, how many samples a rule gives in
// one text.
const (
	around      = 60
	samplesEach = 2
)
