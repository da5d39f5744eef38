package console

import (
	"bytes"
	"io"
)

// hidden stands for a secret that a device repeats.
const hidden = "[hidden]"

// leastHidden is how long a secret must be to be taken out wherever it stands, in bytes: a shorter one would hit by chance.
const leastHidden = 4

// secrets are those that were typed.
type secrets struct{ texts [][]byte }

func (s *secrets) add(text string) {
	if len(text) >= leastHidden {
		s.texts = append(s.texts, []byte(text))
	}
}

func (s *secrets) clean(b []byte) []byte {
	for _, t := range s.texts {
		b = bytes.ReplaceAll(b, t, []byte(hidden))
	}
	return b
}

// record writes a session down as it came, without secrets.
type record struct {
	secrets *secrets
	to      io.Writer // nil keeps nothing
	held    []byte    // the beginning of a secret could be at its end
}

func (r *record) write(b []byte) error {
	if r.to == nil {
		return nil
	}
	r.held = append(r.held, b...)
	longest := 0
	for _, t := range r.secrets.texts {
		longest = max(longest, len(t)-1)
	}
	r.held = r.secrets.clean(r.held)
	n := len(r.held) - longest
	if n <= 0 {
		return nil
	}
	_, err := r.to.Write(r.held[:n])
	r.held = append(r.held[:0], r.held[n:]...)
	return err
}

// end writes down what was held, and stops.
func (r *record) end() error {
	if r.to == nil || len(r.held) == 0 {
		r.to = nil
		return nil
	}
	_, err := r.to.Write(r.secrets.clean(r.held))
	r.to, r.held = nil, nil
	return err
}
