package stamp

import (
	"bytes"
	"time"
)

// Epoch numbers count only in this range, in seconds since 1970: September 2001, when they got ten digits, to 2099.
const (
	firstEpoch = 1_000_000_000
	lastEpoch  = 4_102_444_800
)

// taiOffset is how far the labels of multilog and svlogd are ahead of the system's clock, in seconds: they add the ten
// leap seconds of 1972 and none since (TAI64: cr.yp.to/libtai/tai64.html).
const taiOffset = 10

// epochAt reads seconds, milliseconds, microseconds or nanoseconds since 1970, told apart by their length.
func (s *Stamp) epochAt(line []byte, i, n int) bool {
	b := line[i:]
	var v int64
	for _, d := range b[:n] {
		v = v*10 + int64(d-'0')
	}
	ns := int64(0)
	sec := v
	switch n {
	case 13:
		sec, ns = v/1000, v%1000*1e6
	case 16:
		sec, ns = v/1e6, v%1e6*1e3
	case 19:
		sec, ns = v/1e9, v%1e9
	}
	if sec < firstEpoch || sec >= lastEpoch {
		return false
	}
	s.fraction = n > 10
	end := n
	if n == 10 || n == 13 {
		if end+1 < len(b) && (b[end] == '.' || b[end] == ',' && digits(b[end+1:]) >= 3 && i > 0 && line[i-1] == '[') && isDigit(b[end+1]) {
			part := Stamp{}
			used := part.fractionAt(b[end+1:])
			if n == 10 {
				ns = int64(part.nano)
			} else {
				ns += int64(part.nano) / 1000
			}
			s.fraction, s.sep = true, '.'
			end += 1 + used
		}
	}
	s.style, s.moment = epoch, time.Unix(sec, ns).UTC()
	s.End = s.Start + end
	s.wide = n
	return true
}

// fromTAI reads "@4000000069b4fb3a0a1b2c3d" (TAI64N) or its first 16 digits (TAI64).
func (s *Stamp) fromTAI(b []byte) bool {
	n := 0
	for n+1 < len(b) && isHex(b[n+1]) {
		n++
	}
	if n != 24 && n != 16 || b[1] != '4' {
		return false
	}
	hex := func(b []byte) (v int64) {
		for _, c := range b {
			d := int64(c - '0')
			if !isDigit(c) {
				d = int64(c|0x20-'a') + 10
			}
			v = v<<4 | d
		}
		return v
	}
	sec := hex(b[1:17]) - 1<<62 - taiOffset
	ns := int64(0)
	if n == 24 {
		ns = hex(b[17:25])
	}
	if sec < firstEpoch/2 || sec >= lastEpoch || ns >= 1e9 {
		return false
	}
	s.style, s.fraction, s.moment = tai, n == 24, time.Unix(sec, ns).UTC()
	s.End = s.Start + n + 1
	return true
}

// uptimeAt reads the seconds since boot in "[12345.678901]": only within brackets at the head of a line, with the six
// digits that kernels write or at least three.
func (s *Stamp) uptimeAt(line []byte, i int) bool {
	b := line[i:]
	n := digits(b)
	if n > 9 || n+4 > len(b) || b[n] != '.' {
		return false
	}
	k := i
	for k > 0 && line[k-1] == ' ' {
		k--
	}
	if k == 0 || line[k-1] != '[' || !uptimeHead(line[:k-1]) {
		return false
	}
	part := Stamp{}
	f := part.fractionAt(b[n+1:])
	end := n + 1 + f
	if f < 3 || end >= len(b) || b[end] != ']' {
		return false
	}
	v, _ := number(b, n)
	s.style, s.up, s.fraction = uptime, time.Duration(v)*time.Second+time.Duration(part.nano), true
	s.End = s.Start + end
	return true
}

// uptimeHead says whether what stands before the bracket is nothing, a priority, or a name such as "kernel:".
func uptimeHead(b []byte) bool {
	b = bytes.TrimSpace(b)
	return len(b) == 0 || b[0] == '<' && b[len(b)-1] == '>' && len(b) <= 5 || bytes.HasSuffix(b, []byte("kernel:")) ||
		b[len(b)-1] == ':' && len(b) < 20
}
