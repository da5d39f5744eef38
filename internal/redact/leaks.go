package redact

import (
	"io"
	"strings"
	"sync"

	"envask/internal/redact/learn"
)

// maxLeaks bounds how many hits of one file are listed.
const maxLeaks = 20

func (s *leakScan) begin() { s.leaks, s.hits, s.unread = nil, map[Hits]int{}, false }

// add takes down a hit.
func (s *leakScan) add(e *Engine, m learn.Match, offset int64) {
	if e.ignore[m.Text] {
		return
	}
	s.hits[Hits{m.Rule, e.opener.Member(), s.unread}]++
	if len(s.leaks) < maxLeaks && !s.unread { // what nobody could read must not hide what was read
		s.leaks = append(s.leaks, Leak{m.Rule, m.Class, e.opener.Member(), offset, s.unread, m.Text})
	}
}

// text searches a short text, such as a name.
func (s *leakScan) text(e *Engine, text string) {
	s.m.Each([]byte(text), 0, nil, func(m learn.Match) { s.add(e, m, -1) })
}

// scanBuffers save the making of large buffers for each of many small files.
var scanBuffers = sync.Pool{New: func() any { b := make([]byte, 0, blockSize+4*MaxLearned); return &b }}

// stream searches a stream.
func (s *leakScan) stream(e *Engine, r io.Reader) error {
	pooled := scanBuffers.Get().(*[]byte)
	defer scanBuffers.Put(pooled)
	buf := (*pooled)[:0]
	var base int64 // offset of buf[0]
	for {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		atEnd := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !atEnd {
			return err
		}
		limit := len(buf) // a value that begins behind the limit waits for the rest of it
		if !atEnd {
			limit -= 2 * MaxLearned
		}
		var opened []packedWord // in which something was found, which counts once
		open := eachPacked(buf, func(w packedWord) {
			if w.start >= limit {
				return
			}
			before := len(opened)
			s.m.Each(w.plain, 0, nil, func(m learn.Match) {
				s.add(e, m, base+int64(w.start))
				opened = append(opened[:before], w)
			})
		})
		if !atEnd && open > 1 { // it is looked at whole with what comes; one that fills the buffer never would be
			limit = min(limit, open)
		}
		next := 0
		s.m.Each(buf, 0, nil, func(m learn.Match) {
			for len(opened) > 0 && opened[0].end <= m.Start {
				opened = opened[1:]
			}
			if m.Start < limit && (len(opened) == 0 || m.Start < opened[0].start) {
				s.add(e, m, base+int64(m.Start))
				next = m.End
			}
		})
		if atEnd {
			return nil
		}
		keep := max(0, max(limit, next)-1) // one byte more, to see what stands before a value
		base += int64(keep)
		buf = append(buf[:0], buf[keep:]...)
	}
}

// leaked says whether an identity that was found other than in text is a learned one.
func (s *leakScan) leaked(e *Engine, text string) {
	var found learn.Match
	s.m.Each([]byte(text), 0, nil, func(m learn.Match) { found = m })
	if found.End == len(text) && strings.EqualFold(found.Text, text) {
		s.add(e, found, -1)
	}
}

// opaque searches what cannot be read as it is.
func (s *leakScan) opaque(e *Engine, r io.Reader) error {
	s.unread = true
	defer func() { s.unread = false }()
	return s.stream(e, r)
}
