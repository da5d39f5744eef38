package standin

import (
	"io"

	"envask/internal/redact"
)

// PlantFinder looks for the planted secrets and people in files: bare, escaped, in base64, and within whatever can be
// opened.
type PlantFinder struct {
	what   map[string]string
	finder *redact.LeakFinder
}

// NewPlantFinder makes one.
func NewPlantFinder() *PlantFinder {
	p := &PlantFinder{what: map[string]string{}}
	var values []redact.Value
	for _, x := range Planted {
		p.what[x.Value] = x.What
		// As a secret, it is found wherever it stands.
		values = append(values, redact.Value{Text: x.Value, Class: redact.Secret, Rule: redact.LiteralRule})
	}
	p.finder = redact.NewLeakFinder(redact.NewMatcher(values), redact.Options{})
	return p
}

// Find says what of it is in a file, and in its name.
func (p *PlantFinder) Find(r io.Reader, name string) ([]string, error) {
	var out []string
	leaks, err := p.finder.Find(r, name)
	for _, l := range append(leaks, p.finder.InText(name)...) {
		out = append(out, p.what[l.Text])
	}
	return out, err
}
