package site

import (
	"time"

	"envask/internal/keyfile"
)

// Limits bound what collecting may cost a system, so that it does not become the second outage. Zero means no limit.
type Limits struct {
	Connections int           // conversations at a time: files and commands on it, systems through it as a jump host
	Bandwidth   int64         // bytes a second that come from it, or through it as a jump host
	Nice        int           // how much its commands give way to others, 1 to 19 (nice(1))
	Time        time.Duration // how long it may take in all
	Bytes       int64         // how much is taken from it in all
}

// DefaultConnections is how many files of one system are on the way at a time.
const DefaultConnections = 4

// readLimits reads limits; what is not named is as in the outer ones.
func readLimits(m *keyfile.Map, outer Limits) Limits {
	if m == nil {
		return outer
	}
	l := outer
	l.Connections = m.Int("connections", 1, 1000, outer.Connections)
	l.Nice = m.Int("nice", 1, 19, outer.Nice)
	l.Bandwidth = m.Size("bandwidth", outer.Bandwidth)
	l.Bytes = m.Size("bytes", outer.Bytes)
	l.Time = m.Duration("time", outer.Time)
	m.Done()
	return l
}

// Elevation gives the words in front of a command that run it with more rights; "" when the entry names none. Those that ask
// for a password are told not to: in the middle of a run nobody answers.
func (s *System) Elevation() string {
	switch s.Elevate {
	case "sudo", "doas":
		return s.Elevate + " -n"
	}
	return s.Elevate
}
