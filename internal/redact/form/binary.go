package form

import (
	"io"
	"unicode/utf8"
)

// Whether a file is text is told by all of it, while it is read for what can be learned: many binary files begin like text, or hold hardly
// any NUL. What is binary is opaque, since a rule would only hit in it by chance.

// Limits of text. Of each piece of a file a sample is looked at; a piece is binary by its sample.
const (
	piece         = 4 << 10
	sampleOfPiece = 512      // bytes
	controlsAre   = 4        // per cent: more control characters than that make a piece binary
	binaryRun     = 64 << 10 // bytes of binary in a row make a file binary
	binaryShare   = 10       // per cent of binary pieces make a file binary
)

// textJudge tells text from binary.
type textJudge struct {
	at      int64 // bytes seen
	sample  []byte
	run     int64 // bytes of binary up to here
	longest int64
	pieces  int64
	binary  int64 // pieces
}

// Write takes the next bytes of a file. It never fails.
func (j *textJudge) Write(b []byte) (int, error) {
	n := len(b)
	for len(b) > 0 {
		in := int(j.at % piece)
		if in < sampleOfPiece {
			k := min(len(b), sampleOfPiece-in)
			j.sample = append(j.sample, b[:k]...)
			if len(j.sample) == sampleOfPiece {
				j.settle()
			}
		}
		k := min(len(b), piece-in)
		j.at += int64(k)
		b = b[k:]
	}
	return n, nil
}

// settle decides about a piece.
func (j *textJudge) settle() {
	j.pieces++
	if binaryPiece(j.sample) {
		j.binary++
		j.run += piece
		j.longest = max(j.longest, j.run)
	} else {
		j.run = 0
	}
	j.sample = j.sample[:0]
}

// isBinary gives the verdict on what was seen.
func (j *textJudge) isBinary() bool {
	if len(j.sample) >= 64 || j.pieces == 0 && len(j.sample) > 0 {
		j.settle()
	}
	return j.longest >= binaryRun || j.pieces > 0 && j.binary*100 > j.pieces*binaryShare
}

// binaryPiece reports whether a sample is no text: control characters, or bytes of no encoding without any white space. NUL characters
// between texts are separators, and a run of nothing else is what a power cut leaves.
func binaryPiece(b []byte) bool {
	control, high, c1, space, nul := 0, 0, 0, 0, 0
	for i, c := range b {
		switch {
		case c == 0:
			if nul++; i > 0 && i+1 < len(b) && (b[i-1] < ' ' || b[i+1] < ' ' || b[i-1] >= 0x7f || b[i+1] >= 0x7f) {
				control++
			}
		case c == '\n' || c == '\r' || c == '\t' || c == ' ':
			space++
		case c < ' ' && c != 0x1b && c != '\f' && c != '\b' || c == 0x7f:
			control++
		case c >= 0x80:
			if high++; c < 0xa0 {
				c1++
			}
		}
	}
	switch {
	case nul == len(b):
		return false
	case control*100 > len(b)*controlsAre:
		return true
	case high*100 <= len(b)*30 || space*50 > len(b) || c1*10 < len(b):
		return false
	}
	return invalidShare(b) > 20
}

// invalidShare gives how much of a text is no UTF-8, in per cent of its bytes.
func invalidShare(b []byte) int {
	bad := 0
	for rest := b; len(rest) > 0; {
		r, n := utf8.DecodeRune(rest)
		if r == utf8.RuneError && n == 1 && len(rest) > utf8.UTFMax {
			bad++
		}
		rest = rest[n:]
	}
	return bad * 100 / max(1, len(b))
}

// judgedText passes a reader on, and shows the textJudge what comes.
func judgedText(r io.Reader) (*textJudge, io.Reader) {
	j := &textJudge{sample: make([]byte, 0, sampleOfPiece)}
	return j, io.TeeReader(r, j)
}
